#include "core/audio/audio_reader.h"
#include "core/demo_session/demo_session.h"
#include "core/measure/loudness.h"
#include "core/measure/true_peak.h"
#include "core/rig/starting_points.h"
#include "core/units/calibration.h"
#include "support/chain.h"
#include "support/rig_run.h"

#include <QtTest/QtTest>

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

} // namespace

/// What the starting points say of themselves.
class TestStartingPoints : public QObject {
    Q_OBJECT
private slots:
    void initTestCase()
    {
        QVERIFY(dir_.isValid());
        session_ = std::filesystem::path(dir_.path().toStdString()) / "demo.gristle";
        QVERIFY(bool(makeDemoSession(session_)));
    }
    void areEquallyLoud();
    void edgeIsCleanWhereItIsPlayedSoftly();

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

// "Soft playing is clean": under 1 % of harmonics 30 dB below its break-up, where they are 10 %.
void TestStartingPoints::edgeIsCleanWhereItIsPlayedSoftly()
{
    const StartingPoint& edge = *findStartingPoint("edge of break-up, with a spring");
    auto chain = parseRecallLine(edge.line).value();
    std::erase_if(chain, [](const RigNode& n) { return n.type != "circuit"; });
    QCOMPARE(chain.size(), std::size_t(1));
    const std::string line = recallLine(chain);
    double dBv = -60.0;
    while (gristle::test::harmonicsOf(line, std::pow(10.0, dBv / 20.0)) < 0.1 && dBv < 10.0) dBv += 1.0;
    QVERIFY2(dBv > -40.0 && dBv < 0.0, qPrintable(QString::number(dBv))); // digging in reaches it
    const double soft = gristle::test::harmonicsOf(line, std::pow(10.0, (dBv - 30.0) / 20.0));
    QVERIFY2(soft < 0.01, qPrintable(QString::number(soft)));
}

QTEST_APPLESS_MAIN(TestStartingPoints)
#include "test_starting_points.moc"
