#include "core/measure/measure_file.h"
#include "core/measure/true_peak.h"
#include "core/measure/vu.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <ebur128.h>

using namespace gristle;
using namespace gristle::core;

class TestLevels : public QObject {
    Q_OBJECT
private slots:
    void rmsIsAes17_data();
    void rmsIsAes17();
    void crestOfSineIs3();
    void silenceIsNull();
    void clippedRunsAreFound_data();
    void clippedRunsAreFound();
    void flatTopsBelowFullScale();
    void vuReadsSineAndNoise();
    void vuBallistics();
    void vuIgnoresDc();
    void loudnessOfSine();
    void loudnessAgreesWithLibrary_data();
    void loudnessAgreesWithLibrary();
    void loudnessRangeTech3342_data();
    void loudnessRangeTech3342();
    void truePeakOfTech3341_data();
    void truePeakOfTech3341();
    void truePeakPruningIsExact();
    void adviceBySchool();
};

void TestLevels::rmsIsAes17_data()
{
    QTest::addColumn<double>("amplitude");
    for (const double a : {1.0, 0.5, 1e-3, 1e-6}) QTest::addRow("%g", a) << a;
}

void TestLevels::rmsIsAes17()
{
    QFETCH(double, amplitude);
    LevelMeter meter(48000.0, 2.0f, -2.0f);
    meter.push(test::sine(1000.0, amplitude, 48000.0, 1.0));
    QVERIFY(std::abs(*meter.result().rmsDbfs - 20.0 * std::log10(amplitude)) < 1e-4); // whole periods; float rounding
}

void TestLevels::crestOfSineIs3()
{
    LevelMeter meter(48000.0, 2.0f, -2.0f);
    meter.push(test::sine(1000.0, 0.7, 48000.0, 1.0, std::numbers::pi / 2.0)); // a sample stands on the crest
    QVERIFY(std::abs(*meter.result().crestDb - 3.0103) < 1e-3);
    QVERIFY(std::abs(meter.result().dcOffset) < 1e-6);
}

void TestLevels::silenceIsNull()
{
    LevelMeter meter(48000.0, 1.0f, -1.0f);
    meter.push(std::vector<float>(1000, 0.0f));
    QVERIFY(!meter.result().peakDbfs && !meter.result().rmsDbfs && !meter.result().crestDb);
}

void TestLevels::clippedRunsAreFound_data()
{
    QTest::addColumn<int>("run");
    QTest::addColumn<bool>("found");
    QTest::newRow("two are none") << 2 << false;
    QTest::newRow("three are") << 3 << true;
    QTest::newRow("across blocks") << 1500 << true;
}

void TestLevels::clippedRunsAreFound()
{
    QFETCH(int, run);
    QFETCH(bool, found);
    auto x = test::sine(440.0, 0.5, 48000.0, 0.5);
    for (int i = 0; i < run; ++i)
        x[std::size_t(4800 + i)] = i % 2 ? 1.0f : 0.99999f; // within one 16-bit step of the end
    AudioInfo info;
    info.bits = 24;
    LevelMeter meter(48000.0, info.positiveClip(), info.negativeClip());
    for (std::size_t at = 0; at < x.size(); at += 1000)
        meter.push(std::span(x).subspan(at, std::min<std::size_t>(1000, x.size() - at)));
    const auto result = meter.result();
    QCOMPARE(result.clippedSamples, std::int64_t(found ? run : 0));
    QCOMPARE(result.clipRuns.size(), std::size_t(found ? 1 : 0));
    if (found) QVERIFY(std::abs(result.clipRuns[0].startS - 0.1) < 1e-9);
}

void TestLevels::flatTopsBelowFullScale()
{
    auto x = test::sine(200.0, 0.8, 48000.0, 1.0);
    LevelMeter clean(48000.0, 1.0f, -1.0f);
    clean.push(x);
    QVERIFY(clean.result().flatTopRuns < 3);
    for (float& v : x) v = std::clamp(v, -0.5f, 0.5f);
    LevelMeter cut(48000.0, 1.0f, -1.0f);
    cut.push(x);
    QVERIFY(cut.result().flatTopRuns >= 390); // two crests a period, 200 periods
    QCOMPARE(cut.result().clippedSamples, std::int64_t(0));
}

void TestLevels::vuReadsSineAndNoise()
{
    VuMeter sine(48000.0);
    sine.push(test::sine(997.0, 0.5, 48000.0, 3.0)); // no whole number of samples a period
    sine.finish();
    QVERIFY(std::abs(10.0 * std::log10(double(sine.readings().back())) - 20.0 * std::log10(0.5)) < 0.01);
    VuMeter noise(48000.0);
    noise.push(test::whiteNoise(0.1, 48000 * 20));
    noise.finish();
    double mean = 0.0;
    for (std::size_t i = 100; i < noise.readings().size(); ++i) mean += 10.0 * std::log10(double(noise.readings()[i]));
    mean /= double(noise.readings().size() - 100);
    // Rectified mean of Gaussian noise: sigma sqrt(2/pi); over its AES17 level: 20 lg(sqrt(2/pi) pi/2 / sqrt 2) = -1.05
    // dB.
    QVERIFY(std::abs(mean - (20.0 * std::log10(0.1 * std::numbers::sqrt2) - 1.049)) < 0.05); // the needle still moves
}

void TestLevels::vuBallistics()
{
    // IEC 60268-17: 99 % in 300 ms, overshoot 1 to 1.5 %. A step of a rectangle has a constant rectified value.
    std::vector<float> x(48000 * 3, 0.0f);
    for (std::size_t i = 48000; i < x.size(); ++i) x[i] = (i / 24) % 2 ? 0.5f : -0.5f;
    VuMeter meter(48000.0);
    meter.push(x);
    meter.finish();
    const double steady = std::sqrt(double(meter.readings().back()));
    const double at290 = std::sqrt(double(meter.readings()[100 + 28])),
                 at300 = std::sqrt(double(meter.readings()[100 + 29]));
    QVERIFY(at290 < 0.99 * steady);
    QVERIFY(std::abs(at300 / steady - 0.99) < 0.003);
    const double over = std::pow(10.0, meter.maxDbfs() / 20.0) / steady;
    QVERIFY(over > 1.010 && over < 1.015);
}

void TestLevels::vuIgnoresDc()
{
    auto x = test::sine(1000.0, 0.1, 48000.0, 3.0);
    for (float& v : x) v += 0.3f;
    VuMeter meter(48000.0);
    meter.push(x);
    meter.finish();
    QVERIFY(std::abs(10.0 * std::log10(double(meter.readings().back())) + 20.0) < 0.05);
}

void TestLevels::loudnessOfSine()
{
    // BS.1770-4: a mono 0 dBFS sine at 997 Hz reads -3.01 LUFS.
    const auto one = integratedLoudness(test::recording({test::sine(997.0, 1.0, 48000.0, 5.0)}, 48000).audio, 48000.0);
    QVERIFY(std::abs(*one + 3.01) < 0.01);
    const auto x = test::sine(997.0, 1.0, 48000.0, 5.0);
    QVERIFY(std::abs(*integratedLoudness(test::recording({x, x}, 48000).audio, 48000.0)) <
            0.01); // two channels: 3.01 more
    QVERIFY(!integratedLoudness(test::recording({test::sine(997.0, 1.0, 48000.0, 0.3)}, 48000).audio, 48000.0));
}

void TestLevels::loudnessAgreesWithLibrary_data()
{
    QTest::addColumn<int>("rate");
    for (const int rate : {8000, 22050, 44100, 48000, 88200, 96000, 192000}) QTest::addRow("%d Hz", rate) << rate;
}

void TestLevels::loudnessAgreesWithLibrary()
{
    QFETCH(int, rate);
    // Noise that swells and rests, so that both gates and the range have something to do.
    const std::size_t frames = std::size_t(rate) * 24;
    auto l = test::whiteNoise(0.1, frames, 3), r = test::whiteNoise(0.1, frames, 4);
    for (std::size_t i = 0; i < frames; ++i) {
        const double t = double(i) / rate,
                     g = (t > 10.0 && t < 13.0) ? 0.001 : 0.2 + 0.8 * std::pow(std::sin(0.9 * t), 2);
        l[i] *= float(g);
        r[i] *= float(0.5 * g);
    }
    LoudnessMeter meter(rate, {ChannelRole::Plain, ChannelRole::Plain});
    meter.push({l, r});
    const auto ours = meter.result();
    auto* library = ebur128_init(2, unsigned(rate), EBUR128_MODE_I | EBUR128_MODE_LRA | EBUR128_MODE_S);
    std::vector<float> both;
    for (std::size_t i = 0; i < frames; ++i) both.insert(both.end(), {l[i], r[i]});
    ebur128_add_frames_float(library, both.data(), frames);
    double integrated = 0.0, range = 0.0;
    ebur128_loudness_global(library, &integrated);
    ebur128_loudness_range(library, &range);
    ebur128_destroy(&library);
    QVERIFY2(std::abs(*ours.integratedLufs - integrated) < 0.01,
             qPrintable(QString::number(*ours.integratedLufs - integrated)));
    QVERIFY2(std::abs(*ours.rangeLu - range) < 0.2, qPrintable(QString::number(*ours.rangeLu - range)));
}

void TestLevels::loudnessRangeTech3342_data()
{
    QTest::addColumn<QList<double>>("levels");
    QTest::addColumn<double>("range");
    // EBU Tech 3342, cases 1 to 4: stereo 1 kHz sines of 20 s each; tolerance 1 LU.
    QTest::newRow("1") << QList<double>{-20, -30} << 10.0;
    QTest::newRow("2") << QList<double>{-20, -15} << 5.0;
    QTest::newRow("3") << QList<double>{-40, -20} << 20.0;
    QTest::newRow("4") << QList<double>{-50, -35, -20, -35, -50} << 15.0;
}

void TestLevels::loudnessRangeTech3342()
{
    QFETCH(QList<double>, levels);
    QFETCH(double, range);
    LoudnessMeter meter(48000.0, {ChannelRole::Plain, ChannelRole::Plain});
    for (const double level : levels) {
        const auto x = test::sine(1000.0, std::pow(10.0, level / 20.0), 48000.0, 20.0);
        meter.push({x, x});
    }
    QVERIFY(std::abs(*meter.result().rangeLu - range) <= 1.0);
}

void TestLevels::truePeakOfTech3341_data()
{
    QTest::addColumn<double>("divisor");
    QTest::addColumn<double>("phase");
    QTest::addColumn<double>("amplitude");
    // EBU Tech 3341, cases 15 to 19: sines at fs/4, fs/6, fs/8 at awkward phases; -6.0 (+0.2, -0.4) and +3.0 dBTP.
    QTest::newRow("15") << 4.0 << 0.0 << 0.5;
    QTest::newRow("16") << 4.0 << 45.0 << 0.5;
    QTest::newRow("17") << 6.0 << 60.0 << 0.5;
    QTest::newRow("18") << 8.0 << 67.5 << 0.5;
    QTest::newRow("19") << 4.0 << 45.0 << 1.41;
}

void TestLevels::truePeakOfTech3341()
{
    QFETCH(double, divisor);
    QFETCH(double, phase);
    QFETCH(double, amplitude);
    auto x = test::sine(48000.0 / divisor, amplitude, 48000.0, 1.0, phase * std::numbers::pi / 180.0);
    for (std::size_t i = 0; i < 2400; ++i) { // a start without a jump
        x[i] *= float(i) / 2400.0f;
        x[x.size() - 1 - i] *= float(i) / 2400.0f;
    }
    TruePeakMeter meter(48000.0);
    meter.push(x);
    const double error = 20.0 * std::log10(meter.finish() / amplitude);
    QVERIFY2(error < 0.2 && error > -0.4, qPrintable(QString::number(error)));
}

void TestLevels::truePeakPruningIsExact()
{
    // The largest interpolated sample of many blocks, taken one block at a time from fresh meters, is the same.
    const auto x = test::whiteNoise(0.1, 48000, 9);
    TruePeakMeter whole(48000.0);
    whole.push(x);
    const double peak = whole.finish();
    double best = 0.0;
    for (std::size_t at = 0; at + 1000 <= x.size(); at += 500) { // overlapping, so that every place is well inside one
        TruePeakMeter part(48000.0);
        part.push(std::span(x).subspan(at, 1000));
        best = std::max(best, part.finish());
    }
    QVERIFY(best >= peak * 0.9999);
    TruePeakMeter small(48000.0);
    for (std::size_t at = 0; at < x.size(); at += 13)
        small.push(std::span(x).subspan(at, std::min<std::size_t>(13, x.size() - at)));
    QCOMPARE(small.finish(), peak);
}

void TestLevels::adviceBySchool()
{
    ChannelMeasurement quiet, loud;
    quiet.vuTypical = -12.0, quiet.truePeakDbtp = -20.0;
    loud.vuTypical = -5.5, loud.truePeakDbtp = -9.8;
    const auto average = adviseGain({quiet, loud}, TargetSchool::Average);
    QCOMPARE(*average.gainChangeDb, 5.5); // of the loudest channel
    const auto peak = adviseGain({quiet, loud}, TargetSchool::Peak);
    QVERIFY(std::abs(*peak.gainChangeDb - 0.8) < 1e-9);
    loud.truePeakDbtp = -3.0;
    const auto held = adviseGain({loud}, TargetSchool::Average);
    QCOMPARE(*held.gainChangeDb, 2.0); // no further than -1 dBTP
    QVERIFY(held.heldByHeadroom);
    QVERIFY(!adviseGain({ChannelMeasurement{}}, TargetSchool::Average).gainChangeDb);
}

QTEST_APPLESS_MAIN(TestLevels)
#include "test_levels.moc"
