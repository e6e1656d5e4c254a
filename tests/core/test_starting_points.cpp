#include "core/audio/audio_reader.h"
#include "core/measure/loudness.h"
#include "core/measure/true_peak.h"
#include "core/rig/starting_points.h"
#include "core/units/calibration.h"
#include "support/chain.h"
#include "support/demo_copy.h"
#include "support/rig_run.h"

#include <QtTest/QtTest>
#include <random>

using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;

/// A channel of the demo's DI, volts, the first seconds of it.
std::vector<float> demoDi(const std::filesystem::path& session)
{
    constexpr std::int64_t kFrames = std::int64_t(7.0 * kRate);
    const auto file = readRecording(session / "audio" / "Car Deck, Rhythm A, Left 1.wav", 0, kFrames).value();
    const auto volts = float(Calibration{}.fullScaleVolts());
    std::vector<float> out(file.audio.channel(0).begin(), file.audio.channel(0).end());
    for (float& v : out) v *= volts;
    return out;
}

/// Of a starting point's chain only these stages.
std::string onlyOf(const char* title, std::initializer_list<std::string_view> types)
{
    auto chain = parseRecallLine(findStartingPoint(title)->line).value();
    std::erase_if(chain, [&](const RigNode& n) { return std::ranges::find(types, n.type) == types.end(); });
    return recallLine(chain);
}

} // namespace

/// What the starting points say of themselves.
class TestStartingPoints : public QObject {
    Q_OBJECT
private slots:
    void initTestCase()
    {
        QVERIFY(dir_.isValid());
        session_ = std::filesystem::path(dir_.path().toStdString()) / "demo.gristle";
        QVERIFY(gristle::test::copyDemo(session_));
    }
    void areEquallyLoud();
    void effectsKeepTheLoudness_data();
    void effectsKeepTheLoudness();
    void edgeIsCleanWhereItIsPlayedSoftly();
    void cleanOnesStayClean_data();
    void cleanOnesStayClean();
    void fuzzCleansUp();
    void mutedNotesStop();

private:
    QTemporaryDir dir_;
    std::filesystem::path session_;
};

// Wanted: within 1 LU of each other and peaks under -3 dBTP, on the demo's rhythm and through its first impulse.
void TestStartingPoints::areEquallyLoud()
{
    const auto di = demoDi(session_);
    const double fullScale = Calibration{}.fullScaleVolts();
    std::vector<double> loudness;
    for (const StartingPoint& point : startingPoints()) {
        const RigDocument rig = rigOf(point, "impulses/closed back, near.wav", 104.0);
        const auto y = gristle::test::run(recallLine(rig.chain), di, kRate, 512, session_);
        AudioBuffer heard(2, y[0].size());
        double peak = 0.0;
        for (std::size_t c = 0; c < 2; ++c) {
            for (std::size_t i = 0; i < y[0].size(); ++i)
                heard.channel(c)[i] = float(double(y[std::min(c, y.size() - 1)][i]) / fullScale);
            TruePeakMeter meter(kRate);
            meter.push(heard.channel(c));
            peak = std::max(peak, meter.finish());
        }
        loudness.push_back(integratedLoudness(heard, kRate).value());
        qInfo("%s: %.1f LUFS, %.1f dBTP", point.title, loudness.back(), amplitudeToDb(peak));
        QVERIFY2(amplitudeToDb(peak) < -3.0, point.title);
    }
    const auto [least, most] = std::ranges::minmax(loudness);
    QVERIFY2(most - least < 1.0, qPrintable(QString("%1 to %2 LUFS").arg(least).arg(most)));
}

void TestStartingPoints::effectsKeepTheLoudness_data()
{
    QTest::addColumn<QString>("effect");
    for (const char* effect : {"chorus", "chorus mix=1", "spring", "spring mix=0.6", "reverb", "reverb kind=plate",
                               "reverb kind=hall mix=0.6"})
        QTest::newRow(effect) << effect;
}

// What is turned on is heard for what it does, not for being louder: as it stands when it is added, and at more of it
// (what its own filters take away from a whole wet sound is its sound).
void TestStartingPoints::effectsKeepTheLoudness()
{
    QFETCH(QString, effect);
    const auto di = demoDi(session_);
    const auto loudness = [&](const std::string& line) {
        const auto y = gristle::test::run(line, di, kRate, 512, session_);
        AudioBuffer heard(2, y[0].size());
        for (std::size_t c = 0; c < 2; ++c) std::ranges::copy(y[std::min(c, y.size() - 1)], heard.channel(c).begin());
        return integratedLoudness(heard, kRate).value();
    };
    const std::string amplifier = "amplifier | impulse file=\"impulses/closed back, near.wav\" | gain db=-20";
    const double before = loudness(amplifier), after = loudness(amplifier + " | " + effect.toStdString());
    QVERIFY2(std::abs(after - before) < 0.5, qPrintable(QString("%1 LU").arg(after - before)));
}

// "Soft playing is clean": under 1 % of harmonics 30 dB below its break-up, where they are 10 %.
void TestStartingPoints::edgeIsCleanWhereItIsPlayedSoftly()
{
    const std::string line = onlyOf("edge of break-up, with a spring", {"circuit"});
    double dBv = -60.0;
    while (gristle::test::harmonicsOf(line, std::pow(10.0, dBv / 20.0)) < 0.1 && dBv < 10.0) dBv += 1.0;
    QVERIFY2(dBv > -40.0 && dBv < 0.0, qPrintable(QString::number(dBv))); // digging in reaches it
    const double soft = gristle::test::harmonicsOf(line, std::pow(10.0, (dBv - 30.0) / 20.0));
    QVERIFY2(soft < 0.01, qPrintable(QString::number(soft)));
}

void TestStartingPoints::cleanOnesStayClean_data()
{
    QTest::addColumn<QString>("title");
    for (const char* title : {"glassy rhythm", "clean chorus", "intimate clean, two spaces"})
        QTest::newRow(title) << title;
}

// A single note as loud as a hard chord: under 5 % of harmonics.
void TestStartingPoints::cleanOnesStayClean()
{
    QFETCH(QString, title);
    const std::string line = onlyOf(qPrintable(title), {"circuit"});
    QVERIFY(!line.empty());
    const double loud = gristle::test::harmonicsOf(line, 0.3);
    QVERIFY2(loud < 0.05, qPrintable(QString::number(loud)));
}

// A wall with the guitar's volume up; turned back by 30 dB, a tone again.
void TestStartingPoints::fuzzCleansUp()
{
    const std::string line = onlyOf("fuzz into a clean amplifier", {"fuzz", "circuit"});
    double before = gristle::test::harmonicsOf(line, 0.3);
    QVERIFY2(before > 0.5, qPrintable(QString::number(before)));
    for (const double backDb : {10.0, 20.0, 30.0, 40.0}) { // less with each step
        const double now = gristle::test::harmonicsOf(line, 0.3 * std::pow(10.0, -backDb / 20.0));
        QVERIFY2(now < 0.8 * before, qPrintable(QString("%1 dB: %2 after %3").arg(backDb).arg(now).arg(before)));
        before = now;
        if (backDb >= 30.0) QVERIFY2(now < 0.1, qPrintable(QString::number(now)));
    }
}

// "Muted notes that stop when the hand stops": a fifth of a second after the hand, over a DI's noise.
void TestStartingPoints::mutedNotesStop()
{
    const std::string line = onlyOf("tight heavy rhythm", {"gate", "softclip", "circuit"});
    std::mt19937 random(3);
    std::normal_distribution<double> noise(0.0, 30e-6);
    std::vector<float> di(std::size_t(0.8 * kRate));
    for (std::size_t i = 0; i < di.size(); ++i) {
        const double s = double(i) / kRate - 0.3; // a note of 120 ms
        const double hand = s < 0.0 ? 0.0 : s < 0.12 ? std::exp(-s / 0.15) : 0.45 * std::exp(-(s - 0.12) / 0.004);
        di[i] = float(0.25 * hand * std::sin(2.0 * std::numbers::pi * 82.4 * s) + noise(random));
    }
    const auto y = gristle::test::throughChain(line, di, kRate, Calibration{}.fullScaleVolts())[0];
    const auto levelDb = [&](double fromS, double toS) {
        double sum = 0.0;
        for (auto i = std::size_t(fromS * kRate); i < std::size_t(toS * kRate); ++i) sum += double(y[i]) * double(y[i]);
        return 10.0 * std::log10(sum / ((toS - fromS) * kRate));
    };
    const double fallen = levelDb(0.32, 0.40) - levelDb(0.62, 0.67);
    QVERIFY2(fallen > 50.0, qPrintable(QString("%1 dB").arg(fallen)));
}

QTEST_APPLESS_MAIN(TestStartingPoints)
#include "test_starting_points.moc"
