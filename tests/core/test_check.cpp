#include "core/advice/capture_check.h"
#include "core/sim/performance.h"
#include "core/units/decibels.h"
#include "support/sampled_guitar.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;
using namespace gristle::test;

namespace {

constexpr double kRate = 48000.0;

const Finding* find(const JudgedCheck& judged, const char* code)
{
    const auto at = std::ranges::find(judged.findings, code, &Finding::code);
    return at == judged.findings.end() ? nullptr : &*at;
}

std::vector<float> times(std::vector<float> x, double gain)
{
    for (float& v : x) v = float(v * gain);
    return x;
}

/// Noise of a level in dBFS by AES17, under which a full-scale sine is 0.
std::vector<float> noiseOf(double dbfs, double seconds, unsigned seed)
{
    return whiteNoise(dbToAmplitude(dbfs) * std::numbers::sqrt2 / 2.0, std::size_t(seconds * kRate), seed);
}

/// A mains series with harmonics that fall, its power sum at `dbfs` by AES17; `envelope` scales each sample.
template<class Envelope> std::vector<float> humOf(double dbfs, double mainsHz, double seconds, const Envelope& envelope)
{
    std::vector<float> x(std::size_t(seconds * kRate));
    const double parts[] = {1.0, 0.5, 0.6, 0.2, 0.3};
    double power = 0.0;
    for (const double p : parts) power += p * p;
    const double scale = dbToAmplitude(dbfs) / std::sqrt(power);
    for (std::size_t i = 0; i < x.size(); ++i)
        for (int h = 0; h < 5; ++h)
            x[i] += float(envelope(double(i) / kRate) * scale * parts[h] *
                          std::sin(2.0 * std::numbers::pi * mainsHz * (h + 1) * double(i) / kRate + h));
    return x;
}
constexpr auto kSteady = [](double) { return 1.0; };

/// Even eighths over eight seconds that peak at 1, on a sampled guitar; of the simulated player where there is none.
std::vector<float> evenEighths()
{
    std::vector<SampledNote> notes;
    std::vector<WrittenNote> written;
    for (int i = 0; i < 32; ++i) {
        notes.push_back({0.2 + 0.25 * i, 0.22, i % 4 == 3 ? 47 : 45, 100});
        written.push_back({0.5 * i, 0.45, {{1, i % 4 == 3 ? 2 : 0}}, 0.8, false});
    }
    auto x = playSampled(notes, SampledGuitar::Clean, int(kRate), 8.4, 1.0);
    if (!x.empty()) return x;
    PlayingStyle style;
    style.leadInS = 0.2;
    style.dynamicsSdDb = 0.0;
    x = perform(written, 120.0, standardTuning(), style, kRate).volts;
    float most = 0.0f;
    for (const float v : x) most = std::max(most, std::abs(v));
    return times(x, 1.0 / double(most));
}

std::vector<float> part(double peak)
{
    static const std::vector<float> played = evenEighths();
    return times(played, peak);
}

} // namespace

/// The four steps of a check against what was put into the files.
class TestCheck : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;

    /// A right check: floor -80, part peaking at -9, hardest at -6; each test spoils one thing.
    CheckFiles right()
    {
        CheckFiles f;
        auto play = part(dbToAmplitude(-9.0));
        const auto seconds = double(play.size()) / kRate;
        add(play, noiseOf(-80.0, seconds, 2));
        auto hardest = part(dbToAmplitude(-6.0));
        hardest.resize(std::size_t(2.0 * kRate));
        f.rest = writeWav(dir_, "rest.wav", {noiseOf(-80.0, 5.0, 1)}, int(kRate));
        f.play = writeWav(dir_, "the part.wav", {play}, int(kRate));
        f.hardest = writeWav(dir_, "hardest.wav", {hardest}, int(kRate));
        return f;
    }
    static JudgedCheck judged(const CheckFiles& files, const MeasureOptions& options = {})
    {
        auto out = judgeCapture(files, options);
        if (!out) qFatal("%s", out.error().message.c_str());
        return *out;
    }

private slots:
    void aRightCheckHasNothingToStopFor()
    {
        const auto j = judged(right());
        QVERIFY(j.check.rested);
        QCOMPARE(j.check.bursts, 0);
        QVERIFY(!j.check.hum);
        QVERIFY(!find(j, "check.not_resting") && !find(j, "check.bursts") && !find(j, "check.fading"));
        QVERIFY(std::abs(*j.check.floorDbfs + 80.0) < 0.5);
        for (const Finding& f : j.findings) QVERIFY2(f.severity != Severity::Stop, f.code.c_str());
    }

    // One constant chord with a sine on top of known height decides the margin.
    void theMarginOfTheHardestChordIsRight_data()
    {
        QTest::addColumn<double>("peakDb");
        for (const double db : {-0.4, -3.0, -11.7, -26.0}) QTest::addRow("%.1f dBFS", db) << db;
    }
    void theMarginOfTheHardestChordIsRight()
    {
        QFETCH(double, peakDb);
        CheckFiles f = right();
        f.play = writeWav(dir_, "soft.wav", {part(dbToAmplitude(-30.0))}, int(kRate));
        // A sine whose crests fall between the samples: the true peak is its amplitude. 997 Hz against 48 kHz.
        f.hardest = writeWav(dir_, "loud.wav", {sine(997.0, dbToAmplitude(peakDb), kRate, 2.0, 0.3)}, int(kRate));
        const auto j = judged(f);
        QVERIFY2(std::abs(*j.check.marginDb + peakDb) < 0.1, qPrintable(QString::number(*j.check.marginDb)));
        QVERIFY(std::abs(*j.check.marginDb - *j.check.gainChangeDb - *j.check.marginAfterDb) < 1e-9);
    }

    void theGainChangeBringsThePartToItsTarget()
    {
        CheckFiles f = right();
        const auto before = judged(f);
        QVERIFY(!before.check.heldByHeadroom || *before.check.gainChangeDb < 0.0);
        const double gain = dbToAmplitude(*before.check.gainChangeDb);
        auto turned = [&](const std::filesystem::path& file, const char* name) {
            const auto r = readRecording(file);
            std::vector<float> x(r->audio.channel(0).begin(), r->audio.channel(0).end());
            return writeWav(dir_, name, {times(std::move(x), gain)}, int(kRate));
        };
        f = {turned(f.rest, "rest2.wav"), {}, turned(f.play, "play2.wav"), turned(f.hardest, "hardest2.wav"), 0};
        const auto after = judged(f);
        QVERIFY2(std::abs(*after.check.gainChangeDb) < 0.15, qPrintable(QString::number(*after.check.gainChangeDb)));
        QVERIFY(std::abs(*after.check.marginDb - *before.check.marginAfterDb) < 0.1);
        QVERIFY(!after.check.heldByHeadroom || *after.check.marginDb < 7.0);
    }

    void signalToNoise_data()
    {
        QTest::addColumn<double>("floorDb");
        for (const double db : {-50.0, -65.0, -80.0, -90.0}) QTest::addRow("floor %.0f", db) << db;
    }
    void signalToNoise()
    {
        QFETCH(double, floorDb);
        CheckFiles f = right();
        // A sound of constant level, so that its own level while playing is known to the hundredth.
        auto play = sine(196.0, dbToAmplitude(-12.0), kRate, 6.0);
        for (std::size_t i = 0; i < std::size_t(0.5 * kRate); ++i) play[i] = 0.0f;
        add(play, noiseOf(floorDb, 6.0, 3));
        f.rest = writeWav(dir_, "rest.wav", {noiseOf(floorDb, 5.0, 4)}, int(kRate));
        f.play = writeWav(dir_, "play.wav", {play}, int(kRate));
        f.hardest.clear();
        const auto j = judged(f);
        QVERIFY(j.check.snrDb);
        QVERIFY2(std::abs(*j.check.snrDb - (-12.0 - floorDb)) < 0.5, qPrintable(QString::number(*j.check.snrDb)));
        QVERIFY(std::abs(*j.check.floorDbfs - floorDb) < 0.5);
    }

    void humIsMeasuredAndTheTurnTold_data()
    {
        QTest::addColumn<double>("mainsHz");
        for (const double hz : {49.93, 50.02, 59.97, 60.04}) QTest::addRow("%.2f Hz", hz) << hz;
    }
    void humIsMeasuredAndTheTurnTold()
    {
        QFETCH(double, mainsHz);
        CheckFiles f = right();
        auto rest = noiseOf(-85.0, 5.0, 1);
        add(rest, humOf(-58.0, mainsHz, 5.0, kSteady));
        f.rest = writeWav(dir_, "rest.wav", {rest}, int(kRate));
        // A turn of 12 s: the hum follows a cosine of the body's angle, 20 dB from the best to the worst.
        constexpr double kTurnS = 12.0, kBestS = 8.5;
        auto turn = noiseOf(-85.0, kTurnS, 5);
        add(turn, humOf(-50.0, mainsHz, kTurnS, [](double t) {
                const double angle = std::numbers::pi * (t - kBestS) / 6.0;
                return 0.1 + 0.9 * (0.5 - 0.5 * std::cos(angle));
            }));
        f.turn = writeWav(dir_, "turn.wav", {turn}, int(kRate));
        const auto j = judged(f);
        QVERIFY(j.check.hum);
        QVERIFY(std::abs(j.check.hum->mainsHz - mainsHz) < 0.05);
        QVERIFY(std::abs(j.check.hum->levelDbfs + 58.0) < 1.0);
        QVERIFY(j.check.turn);
        QVERIFY2(std::abs(j.check.turn->best.timeS - kBestS) < 0.3,
                 qPrintable(QString::number(j.check.turn->best.timeS)));
        QVERIFY(std::abs(j.check.turn->worst.timeS - 2.5) < 0.5);
        QVERIFY(std::abs(j.check.turn->worst.levelDbfs + 50.0) < 0.5);
        QVERIFY(std::abs(j.check.turn->best.levelDbfs + 70.0) < 1.5);
        const Finding* told = find(j, "check.turn");
        QVERIFY(told && told->severity == Severity::Fix);
        QVERIFY(std::abs(*told->measured - 20.0) < 1.5);
        // The trace itself, point by point, where the hum is well over the noise.
        for (const HumPoint& p : j.check.turnTrace) {
            const double angle = std::numbers::pi * (p.timeS - kBestS) / 6.0;
            const double truth = -50.0 + amplitudeToDb(0.1 + 0.9 * (0.5 - 0.5 * std::cos(angle)));
            QVERIFY2(std::abs(p.levelDbfs - truth) < 1.0,
                     qPrintable(QString("%1 s: %2 %3").arg(p.timeS).arg(p.levelDbfs).arg(truth)));
        }
    }

    void aTelephoneIsHeard()
    {
        CheckFiles f = right();
        auto rest = noiseOf(-80.0, 5.0, 1);
        int put = 0;
        for (const double at : {0.7, 1.1, 1.9, 3.4, 4.2}) { // trains of 80 ms, 217 pulses a second
            ++put;
            for (std::size_t i = 0; i < std::size_t(0.08 * kRate); ++i)
                if (std::fmod(double(i) / kRate, 1.0 / 217.0) < 0.0006) rest[std::size_t(at * kRate) + i] += 0.02f;
        }
        f.rest = writeWav(dir_, "rest.wav", {rest}, int(kRate));
        const auto j = judged(f);
        QVERIFY(j.check.rested);
        QCOMPARE(j.check.bursts, put);
        QVERIFY(find(j, "check.bursts"));
    }

    void playingInTheRestIsSaidAndNotTakenForBursts()
    {
        CheckFiles f = right();
        f.rest = f.play;
        const auto j = judged(f);
        QVERIFY(!j.check.rested);
        QVERIFY(find(j, "check.not_resting"));
        QVERIFY(!find(j, "check.bursts"));
    }

    void aDyingBatteryIsHeard()
    {
        CheckFiles f = right();
        auto play = part(dbToAmplitude(-9.0));
        for (std::size_t i = 0; i < play.size(); ++i)
            play[i] *= float(dbToAmplitude(-8.0 * double(i) / double(play.size())));
        f.play = writeWav(dir_, "falls.wav", {play}, int(kRate));
        const auto j = judged(f);
        // From the middle of the first third to that of the last: two thirds of the 8 dB.
        QVERIFY2(j.check.fallDb && std::abs(*j.check.fallDb - 16.0 / 3.0) < 1.5,
                 qPrintable(QString::number(j.check.fallDb.value_or(-99))));
        QVERIFY(find(j, "check.fading"));
    }

    void aMissingResonanceIsToldAgainstAnEarlierCheckOnly()
    {
        // The same part behind a one-pole low pass at 900 Hz, as a wrong input would make of it.
        CheckFiles f = right();
        const auto before = judged(f);
        auto dull = part(dbToAmplitude(-9.0));
        double y = 0.0;
        const double pull = 1.0 - std::exp(-2.0 * std::numbers::pi * 900.0 / kRate);
        for (float& x : dull) x = float(y += pull * (double(x) - y));
        f.play = writeWav(dir_, "dull.wav", {dull}, int(kRate));
        const auto now = judged(f);
        // Second-order in the quotient: about -8.5 dB at 2 to 5 kHz less -1.5 dB at 0.2 to 1 kHz.
        const double fell = *before.check.brightnessDb - *now.check.brightnessDb;
        QVERIFY2(fell > 6.0 && fell < 13.0, qPrintable(QString::number(fell)));
        QVERIFY(!find(now, "check.dull")); // not by itself
        QCOMPARE(dullFindings(before.check.brightnessDb, "2026-11-01T10:00:00", now.check.brightnessDb).size(),
                 std::size_t(1));
        QVERIFY(dullFindings({}, "", now.check.brightnessDb).empty());
        QVERIFY(dullFindings(now.check.brightnessDb, "2026-11-01", before.check.brightnessDb).empty());
    }

    void theGuitarOnTheOtherInputIsSaid()
    {
        CheckFiles f = right();
        const auto quiet = noiseOf(-80.0, 8.4, 9);
        f.play = writeWav(dir_, "two.wav", {quiet, part(0.3)}, int(kRate));
        f.hardest.clear();
        const auto j = judged(f);
        const Finding* told = find(j, "check.wrong_channel");
        QVERIFY(told && told->severity == Severity::Stop);
        QVERIFY(told->message.find("Input 2") != std::string::npos);
        f.channel = 1;
        f.rest = writeWav(dir_, "rest two.wav", {noiseOf(-80.0, 5.0, 1), noiseOf(-80.0, 5.0, 7)}, int(kRate));
        QVERIFY(!find(judged(f), "check.wrong_channel"));
        f.play = writeWav(dir_, "alike.wav", {part(0.3), part(0.3)}, int(kRate));
        QVERIFY(find(judged(f), "check.channels_alike"));
    }

    void clippingOfTheHardestChordStops()
    {
        CheckFiles f = right();
        auto loud = sine(196.0, 1.6, kRate, 2.0);
        for (float& v : loud) v = std::clamp(v, -1.0f, 1.0f);
        f.hardest = writeWav(dir_, "clipped.wav", {loud}, int(kRate), SampleFormat::Int24);
        const auto j = judged(f);
        QVERIFY(std::ranges::any_of(j.findings, [](const Finding& x) { return x.severity == Severity::Stop; }));
        QVERIFY(*j.check.gainChangeDb < 0.0);
    }

    void badFilesAreNamed()
    {
        CheckFiles f = right();
        f.channel = 1;
        const auto noChannel = judgeCapture(f, {});
        QVERIFY(!noChannel && noChannel.error().message.find("rest.wav") != std::string::npos);
        f.channel = 0;
        f.hardest = "nowhere.wav";
        QVERIFY(!judgeCapture(f, {}));
        std::stop_source stop;
        stop.request_stop();
        const auto stopped = judgeCapture(right(), {}, Progress{stop.get_token(), {}});
        QVERIFY(!stopped && stopped.error().code == ErrorCode::Cancelled);
    }
};

QTEST_APPLESS_MAIN(TestCheck)
#include "test_check.moc"
