#include "core/audio/audio_reader.h"
#include "core/audio/resampler.h"
#include "core/impulse/impulse_info.h"
#include "core/impulse/sweep.h"
#include "core/signal/biquad.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "core/timing/alignment.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>

using namespace gristle::core;
using namespace gristle::test;

namespace {

constexpr int kRate = 48000;
constexpr double kPi = std::numbers::pi;

/// The response of taps at a frequency, by the transform's definition.
std::complex<double> responseAt(std::span<const float> taps, double hz)
{
    std::complex<double> sum = 0.0;
    for (std::size_t i = 0; i < taps.size(); ++i)
        sum += double(taps[i]) * std::polar(1.0, -2.0 * kPi * hz * double(i) / kRate);
    return sum;
}

/// Of a digital biquad, by its formula.
std::complex<double> responseOf(const BiquadCoefficients& c, double hz)
{
    const auto z = std::polar(1.0, -2.0 * kPi * hz / kRate);
    return (c.b0 + z * (c.b1 + z * c.b2)) / (1.0 + z * (c.a1 + z * c.a2));
}

const BiquadCoefficients kBox = highPass(90.0, 1.1, kRate), kBell = bell(2600.0, 7.0, 1.2, kRate),
                         kTop = lowPass(7000.0, 0.8, kRate);

/// A linear system whose response is known, late by 700 samples, and the room after the sweep.
std::vector<float> throughSystem(const std::vector<float>& played, double noiseRms, unsigned seed = 1)
{
    std::vector<float> out(played.size() + std::size_t(kRate));
    std::ranges::copy(played, out.begin() + 700);
    for (const auto& c : {kBox, kBell, kTop}) Biquad(c).process(out);
    const auto noise = whiteNoise(noiseRms, out.size(), seed);
    for (std::size_t i = 0; i < out.size(); ++i) out[i] += noise[i];
    return out;
}

/// What a captured response lacks of the true one, 60 Hz to 16 kHz, dB.
double residualDb(const Captured& c)
{
    double off = 0.0, all = 0.0;
    const auto taps = c.impulse.audio.channel(0);
    for (double hz = 60.0; hz < 16000.0; hz *= 1.02) {
        const auto truth = responseOf(kBox, hz) * responseOf(kBell, hz) * responseOf(kTop, hz);
        // The impulse starts 1 ms before the arrival, which lies in the recording at 700 and the arrival's own place.
        const auto found =
            responseAt(taps, hz) * std::polar(1.0, -2.0 * kPi * hz * (c.arrivalSamples - 48.0 - 700.0) / kRate);
        off += std::norm(found - truth);
        all += std::norm(truth);
    }
    return 10.0 * std::log10(off / all);
}

SweepSettings settings(double seconds, double from = 20.0, double to = 20000.0) { return {from, to, seconds, kRate}; }

} // namespace

class TestImpulse : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    std::filesystem::path path(const char* name) const { return dir_.filePath(name).toStdString(); }
    std::filesystem::path save(const char* name, const std::vector<float>& x, int rate = kRate) const
    {
        (void)writeRecording(path(name), recording({x}, rate), SampleFormat::Float32);
        return path(name);
    }

private slots:
    /// The sweep's frequency is what the formula says, and its settings are read from it again.
    void sweepByItsFormula_data()
    {
        QTest::addColumn<double>("seconds");
        QTest::addColumn<double>("from");
        QTest::addColumn<double>("to");
        QTest::newRow("usual") << 10.0 << 20.0 << 20000.0;
        QTest::newRow("short") << 2.0 << 50.0 << 18000.0;
        QTest::newRow("low") << 5.0 << 10.0 << 8000.0;
    }
    void sweepByItsFormula()
    {
        QFETCH(double, seconds);
        QFETCH(double, from);
        QFETCH(double, to);
        const auto x = sweep(settings(seconds, from, to)).value();
        QCOMPARE(x.size(), std::size_t(seconds * kRate));
        for (const double part : {0.2, 0.5, 0.8}) { // by the time between crossings
            const auto at = std::size_t(part * double(x.size()));
            const double expected = from * std::pow(to / from, part);
            std::size_t i = at, found = 0;
            double first = 0.0, last = 0.0;
            const auto most = std::size_t(std::max(4.0, 0.01 * expected));
            for (; found <= most && i + 1 < x.size(); ++i)
                if (x[i] < 0.0f && x[i + 1] >= 0.0f) {
                    last = double(i) + double(-x[i]) / double(x[i + 1] - x[i]);
                    if (found++ == 0) first = last;
                }
            const double middle = 0.5 * (first + last) / double(x.size());
            const double truth = from * std::pow(to / from, middle);
            const double measured = double(found - 1) * kRate / (last - first);
            QVERIFY2(std::abs(measured / truth - 1.0) < 0.01,
                     qPrintable(QString("%1 for %2").arg(measured).arg(truth)));
        }
        const auto again = settingsOf(x, kRate).value();
        QVERIFY2(std::abs(again.fromHz / from - 1.0) < 0.01, qPrintable(QString::number(again.fromHz)));
        QVERIFY2(std::abs(again.toHz / to - 1.0) < 0.01, qPrintable(QString::number(again.toHz)));
    }
    void noSweeps()
    {
        QCOMPARE(sweep(settings(10.0, 300.0, 200.0)).error().code, ErrorCode::Usage);
        QCOMPARE(sweep(settings(1000.0)).error().code, ErrorCode::Usage);
        QCOMPARE(sweep({20.0, 30000.0, 5.0, kRate}).error().code, ErrorCode::Usage);
        QVERIFY(!settingsOf(sine(440.0, 0.5, kRate, 3.0), kRate));
        QVERIFY(!settingsOf(whiteNoise(0.1, 100000), kRate));
        QVERIFY(!settingsOf(std::vector<float>(100000), kRate));
    }

    /// Goals: -45 dB of a linear system, -34 dB in noise at -40 dB.
    void captureOfALinearSystem()
    {
        const auto played = sweep(settings(5.0)).value();
        const auto quiet = capture(played, throughSystem(played, 0.0), kRate, {}).value();
        QVERIFY2(residualDb(quiet) < -60.0, qPrintable(QString::number(residualDb(quiet))));
        QVERIFY(quiet.distortionPercent < 0.01);
        QVERIFY(std::abs(quiet.arrivalSamples - 701.0) < 3.0);
        const auto noisy = capture(played, throughSystem(played, 0.005), kRate, {}).value();
        QVERIFY2(residualDb(noisy) < -34.0, qPrintable(QString::number(residualDb(noisy))));
        // What noise leaves in the response, by the difference of both.
        double off = 0.0, all = 0.0;
        for (std::size_t i = 0; i < 20000; ++i) {
            const double q = quiet.impulse.audio.channel(0)[i], n = noisy.impulse.audio.channel(0)[i];
            off += (n - q) * (n - q), all += q * q;
        }
        const double snr = 10.0 * std::log10(all / off * 20000.0 / 24048.0); // in a window of half a second and 1 ms
        QVERIFY2(std::abs(noisy.snrDb - snr) < 1.5, qPrintable(QString("%1 for %2").arg(noisy.snrDb).arg(snr)));
        // The gain is kept, and the delay where that is asked for.
        CaptureOptions options;
        options.keepDelay = true;
        const auto late = capture(played, throughSystem(played, 0.0), kRate, options).value();
        const double gain = std::abs(responseAt(late.impulse.audio.channel(0), 1000.0)),
                     truth = std::abs(responseOf(kBox, 1000.0) * responseOf(kBell, 1000.0) * responseOf(kTop, 1000.0));
        QVERIFY(std::abs(gain / truth - 1.0) < 0.005);
        const auto info = impulseInfo(late.impulse).value();
        QVERIFY(std::abs(info.arrivalSamples - 701.0) < 3.0);
        options = {};
        options.minimumPhase = true;
        const auto least = capture(played, throughSystem(played, 0.0), kRate, options).value();
        QVERIFY(std::abs(std::abs(responseAt(least.impulse.audio.channel(0), 3000.0)) /
                             std::abs(responseOf(kBox, 3000.0) * responseOf(kBell, 3000.0) * responseOf(kTop, 3000.0)) -
                         1.0) < 0.01);
        QVERIFY(impulseInfo(least.impulse)->arrivalSamples < 5.0);
    }
    /// A square and a cube beside the sine: their harmonics have amplitudes by the binomial theorem.
    void distortionByItsFormula()
    {
        // To 7 kHz, so that no harmonic folds, as none does before a converter.
        const auto played = sweep(settings(6.0, 20.0, 7000.0)).value();
        std::vector<float> recorded(played.size() + std::size_t(kRate));
        constexpr double kSquare = 0.08, kCube = 0.1;
        for (std::size_t i = 0; i < played.size(); ++i) {
            const double x = played[i];
            recorded[i + 100] = float(x + kSquare * x * x + kCube * x * x * x);
        }
        const auto c = capture(played, recorded, kRate, {}).value();
        // a = 0.5: the second a^2 / 2 of the square, the third a^3 / 4 of the cube, the first a + 3 a^3 / 4 of the
        // cube.
        const double first = 0.5 + 0.75 * kCube * 0.125, second = 0.5 * kSquare * 0.25, third = 0.25 * kCube * 0.125;
        // What a harmonic reaches below the sweep's end is all that it has; the linear part has the band of the sweep.
        QVERIFY2(std::abs(c.orderPercent[0] / (100.0 * second / first) - 1.0) < 0.05,
                 qPrintable(QString::number(c.orderPercent[0])));
        QVERIFY2(std::abs(c.orderPercent[1] / (100.0 * third / first) - 1.0) < 0.05,
                 qPrintable(QString::number(c.orderPercent[1])));
        QVERIFY(c.orderPercent[2] < 0.02);
    }
    void badCaptures_data()
    {
        QTest::addColumn<int>("kind");
        QTest::addColumn<QString>("says");
        QTest::newRow("clipped") << 0 << "clips";
        QTest::newRow("silent") << 1 << "silent";
        QTest::newRow("cut short") << 2 << "shorter than what was played";
        QTest::newRow("another sweep") << 3 << "another sweep";
        QTest::newRow("a performance") << 4 << "no answer to this sweep";
    }
    void badCaptures()
    {
        QFETCH(int, kind);
        QFETCH(QString, says);
        const auto played = sweep(settings(4.0)).value();
        auto recorded = throughSystem(played, 0.0001);
        if (kind == 0)
            for (float& v : recorded) v = std::clamp(4.0f * v, -1.0f, 1.0f);
        if (kind == 1) recorded.assign(recorded.size(), 0.0f);
        if (kind == 2) recorded.resize(played.size() / 2);
        if (kind == 3) {
            recorded = sweep(settings(6.0, 60.0, 15000.0)).value();
            recorded.resize(recorded.size() + std::size_t(kRate));
        }
        if (kind == 4) recorded = perform(rhythmRiff(6), 120.0, standardTuning(), {}, kRate).volts;
        const auto c = capture(played, recorded, kRate, {});
        QVERIFY(!c);
        QVERIFY2(QString::fromStdString(c.error().message).contains(says), c.error().message.c_str());
        QVERIFY(!c.error().remedy.empty());
    }

    /// A clock that runs fast by a known part is found and mended; one that does not is left alone.
    void driftIsMended_data()
    {
        QTest::addColumn<double>("ppm");
        QTest::addColumn<int>("repeats");
        QTest::addColumn<double>("noise");
        QTest::newRow("none") << 0.0 << 1 << 0.0001;
        QTest::newRow("slow") << -40.0 << 1 << 0.0001;
        QTest::newRow("fast") << 150.0 << 1 << 0.0001;
        QTest::newRow("fast, in noise") << 150.0 << 1 << 0.005;
        QTest::newRow("two") << 25.0 << 2 << 0.0001;
        QTest::newRow("four, in noise") << -60.0 << 4 << 0.003;
    }
    void driftIsMended()
    {
        QFETCH(double, ppm);
        QFETCH(int, repeats);
        QFETCH(double, noise);
        const auto once = sweep(settings(5.0)).value();
        std::vector<float> played;
        for (int i = 0; i < repeats; ++i) {
            append(played, once);
            played.resize(played.size() + std::size_t(kRate) / 2);
        }
        auto recorded = throughSystem(played, 0.0);
        if (ppm != 0.0) { // by another resampler: whole samples a second are what 1e6 allows
            std::vector<float> fast;
            Resampler clock(1000000, int(1000000 + ppm));
            clock.push(recorded, fast);
            clock.finish(fast);
            recorded = fast;
        }
        add(recorded, whiteNoise(noise, recorded.size()));
        CaptureOptions options;
        options.repeats = std::size_t(repeats);
        options.periodS = 5.5;
        const auto c = capture(once, recorded, kRate, options);
        QVERIFY2(bool(c), c ? "" : c.error().message.c_str());
        QVERIFY2(std::abs(c->driftPpm - ppm) <= std::max(2.0, c->driftDoubtPpm),
                 qPrintable(QString("%1 ppm, +- %2").arg(c->driftPpm).arg(c->driftDoubtPpm)));
        QCOMPARE(c->isDriftCorrected, ppm != 0.0);
        // One sweep tells its pace to a part or two in a million, which turns the phase at its end; several exactly.
        const double most = repeats > 1 || ppm == 0.0 ? -50.0 : -18.0;
        QVERIFY2(residualDb(*c) < most, qPrintable(QString::number(residualDb(*c))));
        for (double hz = 100.0; hz < 15000.0; hz *= 1.3) {
            const double truth = std::abs(responseOf(kBox, hz) * responseOf(kBell, hz) * responseOf(kTop, hz));
            const double found = std::abs(responseAt(c->impulse.audio.channel(0), hz));
            QVERIFY2(std::abs(20.0 * std::log10(found / truth)) < 0.3,
                     qPrintable(QString("%1 Hz: %2").arg(hz).arg(20.0 * std::log10(found / truth))));
        }
    }
    void tooMuchDrift()
    {
        const auto played = sweep(settings(4.0)).value();
        const auto recorded = throughSystem(played, 0.0001);
        std::vector<float> fast;
        Resampler clock(1000000, 1000800);
        clock.push(recorded, fast);
        clock.finish(fast);
        const auto c = capture(played, fast, kRate, {});
        QVERIFY(!c);
        QVERIFY2(QString::fromStdString(c.error().message).contains("drifts"), c.error().message.c_str());
    }
    /// The mean of several: noise falls by 3 dB each time they are doubled.
    void averaging()
    {
        const auto once = sweep(settings(3.0)).value();
        const auto of = [&](std::size_t repeats) {
            std::vector<float> played;
            for (std::size_t i = 0; i < repeats; ++i) {
                append(played, once);
                played.resize(played.size() + std::size_t(kRate) / 2);
            }
            CaptureOptions options;
            options.repeats = repeats;
            options.periodS = 3.5;
            return capture(once, throughSystem(played, 0.005), kRate, options).value();
        };
        const auto one = of(1), four = of(4);
        QVERIFY2(std::abs(four.snrDb - one.snrDb - 6.0) < 1.5, qPrintable(QString::number(four.snrDb - one.snrDb)));
        QVERIFY2(residualDb(four) < -40.0, qPrintable(QString::number(residualDb(four))));
    }

    /// Figures of impulses whose formulas are known.
    void infoByDefinition()
    {
        // A decay: nine tenths of the energy after ln(10) / 2 time constants.
        std::vector<float> decay(9600);
        for (std::size_t i = 200; i < decay.size(); ++i) decay[i] = float(std::exp(-double(i - 200) / 480.0));
        const auto d = impulseInfo(recording({decay}, kRate)).value();
        QCOMPARE(d.arrivalSamples, 200.0);
        QVERIFY2(std::abs(d.energy90Ms - 10.0 * std::log(10.0) / 2.0) < 0.1, qPrintable(QString::number(d.energy90Ms)));
        QVERIFY(d.isMinimumPhase); // one pole, and a delay
        auto echo = decay;
        for (std::size_t i = 700; i < echo.size(); ++i) echo[i] += 1.5f * decay[i - 500]; // zeros outside the circle
        QVERIFY(!impulseInfo(recording({echo}, kRate))->isMinimumPhase);
        // A response by its formula, at the twelfths.
        std::vector<float> taps(24000);
        taps[0] = 1.0f;
        for (const auto& c : {kBox, kBell}) Biquad(c).process(taps);
        const auto r = impulseInfo(recording({taps}, kRate)).value();
        QCOMPARE(r.response[0].hz, 20.0);
        QVERIFY(std::abs(r.response[12].hz - 40.0) < 1e-9);
        for (const ResponsePoint& p : r.response) {
            if (p.hz < 40.0 || p.hz > 15000.0) continue;
            double mean = 0.0; // over the sixth of an octave
            int n = 0;
            for (double hz = p.hz * std::exp2(-1.0 / 12.0); hz < p.hz * std::exp2(1.0 / 12.0); hz += p.hz / 400.0, ++n)
                mean += std::norm(responseOf(kBox, hz) * responseOf(kBell, hz));
            QVERIFY2(std::abs(p.db - 10.0 * std::log10(mean / n)) < 0.1,
                     qPrintable(QString("%1 Hz: %2").arg(p.hz).arg(p.db - 10.0 * std::log10(mean / n))));
        }
        QCOMPARE(impulseInfo(recording({std::vector<float>(1000)}, kRate)).error().code, ErrorCode::OutOfRange);
        QCOMPARE(impulseInfo(recording({whiteNoise(0.1, 30 * kRate)}, kRate)).error().code, ErrorCode::OutOfRange);
        const auto song = perform(rhythmRiff(4), 120.0, standardTuning(), {}, kRate).volts;
        QVERIFY(impulseInfo(recording({song}, kRate))->outstandingDb > 0.0);
    }

    /// Goals: whole delays to -120 dB of the sum by definition, parts of a sample to -60 dB up to 18 kHz.
    void blendsByDefinition()
    {
        std::vector<float> a(2048), b(1500);
        a[30] = b[31] = 1.0f;
        Biquad(kBell).process(a);
        Biquad(kTop).process(b);
        const auto fa = save("a.wav", a), fb = save("b: two.wav", b);
        const auto whole = blendImpulses({{fa, -3.0}, {fb, 2.0, 700.0, true}}, false).value();
        const auto sum = whole.sum.audio.channel(0);
        QCOMPARE(sum.size(), std::size_t(2200));
        double off = 0.0, all = 0.0;
        for (std::size_t i = 0; i < sum.size(); ++i) {
            const double truth = (i < a.size() ? std::pow(10.0, -3.0 / 20.0) * a[i] : 0.0) -
                                 (i >= 700 && i - 700 < b.size() ? std::pow(10.0, 2.0 / 20.0) * b[i - 700] : 0.0);
            off += std::pow(double(sum[i]) - truth, 2), all += truth * truth;
        }
        QVERIFY2(10.0 * std::log10(off / all) < -120.0, qPrintable(QString::number(10.0 * std::log10(off / all))));
        const auto part = blendImpulses({{fb, 0.0, 12.37}}, false).value();
        double worst = 0.0;
        for (double hz = 100.0; hz < 18000.0; hz *= 1.3) {
            const auto truth = responseAt(b, hz) * std::polar(1.0, -2.0 * kPi * hz * 12.37 / kRate);
            worst = std::max(worst, std::abs(responseAt(part.sum.audio.channel(0), hz) - truth) / std::abs(truth));
        }
        QVERIFY2(20.0 * std::log10(worst) < -80.0, qPrintable(QString::number(20.0 * std::log10(worst))));
    }
    /// Brought together, two responses of one loudspeaker add up; an upside-down one too.
    void blendsAligned()
    {
        std::vector<float> a(4096), b(4096);
        a[40] = 1.0f, b[133] = -1.0f;
        for (auto* x : {&a, &b})
            for (const auto& c : {kBox, kBell, kTop}) Biquad(c).process(*x);
        const auto r = blendImpulses({{save("a2.wav", a)}, {save("b2.wav", b)}}, true).value();
        QVERIFY2(std::abs(r.alignedSamples[1] - 93.0) < 0.1, qPrintable(QString::number(r.alignedSamples[1])));
        QVERIFY(r.isTurned[1]);
        QVERIFY(
            std::abs(std::abs(responseAt(r.sum.audio.channel(0), 2000.0)) / (2.0 * std::abs(responseAt(a, 2000.0))) -
                     1.0) < 0.01);
        // What begins at its first sample keeps all of it: by parts of a sample, the sum is what theory says.
        std::vector<float> first(2048), second(2048);
        first[0] = 1.0f, second[37] = 1.0f;
        Biquad(kBox).process(first), Biquad(kBox).process(second);
        const auto early = movedEarlier(second, 0.5, false); // 36.5 behind
        const auto both = blendImpulses({{save("first.wav", first)}, {save("early.wav", early)}}, true).value();
        QVERIFY2(std::abs(both.alignedSamples[1] - 36.5) < 0.05, qPrintable(QString::number(both.alignedSamples[1])));
        const auto together = both.sum.audio.channel(0);
        for (const double hz : {200.0, 2000.0, 10000.0, 18000.0}) {
            const double off = std::abs(responseAt(together, hz)) / (2.0 * std::abs(responseAt(first, hz))) - 1.0;
            QVERIFY2(std::abs(off) < 0.002, qPrintable(QStringLiteral("%1 Hz: %2").arg(hz).arg(off)));
        }
        // At another rate the response stays.
        std::vector<float> high(8192);
        high[80] = 1.0f;
        Biquad(lowPass(5000.0, 0.7, 96000.0)).process(high);
        const auto mixed = blendImpulses({{save("a2.wav", a)}, {save("high.wav", high, 96000), 0.0}}, false).value();
        const auto only = blendImpulses({{save("a2.wav", a)}}, false).value();
        QCOMPARE(mixed.sum.sampleRateHz, kRate);
        const auto added = responseAt(mixed.sum.audio.channel(0), 300.0) - responseAt(only.sum.audio.channel(0), 300.0);
        QVERIFY2(std::abs(std::abs(added) - 1.0) < 0.02, qPrintable(QString::number(std::abs(added))));
    }
};

QTEST_APPLESS_MAIN(TestImpulse)
#include "test_impulse.moc"
