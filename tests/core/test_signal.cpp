#include "core/signal/biquad.h"
#include "core/signal/convolver.h"
#include "core/signal/fractional_delay.h"
#include "core/signal/minimum_phase.h"
#include "core/signal/oversampler.h"
#include "core/signal/saturator.h"
#include "core/signal/skew_fft.h"
#include "core/signal/varying_delay.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>

using namespace gristle;
using namespace gristle::core;

class TestSignal : public QObject {
    Q_OBJECT
private slots:
    void convolutionIsExact_data();
    void convolutionIsExact();
    void convolutionDoesNotDependOnBlocks();
    void skewTransformEvaluatesAtTheRootsOfI_data();
    void skewTransformEvaluatesAtTheRootsOfI();
    void skewTransformGoesBack_data();
    void skewTransformGoesBack();
    void oversamplerIsTransparent_data();
    void oversamplerIsTransparent();
    void oversamplerForPlayingIsEarly_data();
    void oversamplerForPlayingIsEarly();
    void oversamplerDoesNotMindHowABlockIsCut_data();
    void oversamplerDoesNotMindHowABlockIsCut();
    void oversamplerStopsWhatFolds_data();
    void oversamplerStopsWhatFolds();
    void saturatorFollowsItsShape_data();
    void saturatorFollowsItsShape();
    void saturatorDoesNotAlias_data();
    void saturatorDoesNotAlias();
    void fractionalDelayIsFractional_data();
    void fractionalDelayIsFractional();
    void varyingDelayFollows();
    void minimumPhaseHasItsMagnitude();
    void filtersAreMinusThreeDb();
};

void TestSignal::convolutionIsExact_data()
{
    QTest::addColumn<int>("taps");
    for (const int n : {1, 2, 100, 1024, 4096, 24000}) QTest::addRow("%d", n) << n;
}

void TestSignal::convolutionIsExact()
{
    QFETCH(int, taps);
    const auto h = test::whiteNoise(1.0 / std::sqrt(double(taps)), std::size_t(taps), 2),
               x = test::whiteNoise(0.1, 6000, 3);
    const auto y = convolve(x, h);
    QCOMPARE(y.size(), x.size() + h.size() - 1);
    double error = 0.0, power = 0.0;
    for (std::size_t n = 0; n < y.size(); n += 7) { // the definition, in double
        double sum = 0.0;
        for (std::size_t k = n >= x.size() ? n - x.size() + 1 : 0; k < std::min(h.size(), n + 1); ++k)
            sum += double(h[k]) * double(x[n - k]);
        error += (sum - double(y[n])) * (sum - double(y[n]));
        power += sum * sum;
    }
    QVERIFY2(10.0 * std::log10(error / power) < -120.0,
             qPrintable(QString::number(10.0 * std::log10(error / power)))); // goals
}

void TestSignal::convolutionDoesNotDependOnBlocks()
{
    const auto h = test::whiteNoise(0.1, 700, 2);
    auto whole = test::whiteNoise(0.1, 20000, 3), parts = whole;
    OverlapSave a(h), b(h);
    a.process(whole);
    for (std::size_t at = 0, n = 0; at < parts.size(); at += n) {
        n = std::min<std::size_t>(1 + at % 613, parts.size() - at);
        b.process(std::span(parts).subspan(at, n));
    }
    QVERIFY(whole == parts); // bit for bit
    b.reset();
    auto again = test::whiteNoise(0.1, 20000, 3);
    b.process(again);
    QVERIFY(whole == again);
}

void TestSignal::skewTransformEvaluatesAtTheRootsOfI_data()
{
    QTest::addColumn<int>("length");
    for (const int n : {64, 256, 1024, 4096}) QTest::addRow("%d", n) << n;
}

/// The bins of a transform of two lengths of samples, in their order.
static std::vector<std::complex<double>> skewBins(SkewFft& fft, const std::vector<float>& x)
{
    const std::size_t n = x.size() / 2;
    std::vector<float> floats(2 * n);
    fft.split(std::span(x).first(n), std::span(x).last(n));
    fft.evaluate(floats.data());
    std::vector<std::complex<double>> bins;
    for (std::size_t k = 0; k < n; ++k) {
        const std::size_t at = k / SkewFft::kChunk * 2 * SkewFft::kChunk + k % SkewFft::kChunk;
        bins.emplace_back(double(floats[at]), double(floats[at + SkewFft::kChunk]));
    }
    return bins;
}

void TestSignal::skewTransformEvaluatesAtTheRootsOfI()
{
    QFETCH(int, length);
    const std::size_t n = std::size_t(length);
    SkewFft fft(n);
    const double turn = 2.0 * std::numbers::pi / double(n); // between the roots
    std::vector<float> x(2 * n);
    x[1] = 1.0f; // the values of this one are the places
    std::vector<double> places;
    std::vector<int> isThere(n);
    for (const auto& place : skewBins(fft, x)) {
        const double k = std::arg(place) / turn - 0.25;
        QVERIFY(std::abs(std::abs(place) - 1.0) < 1e-6);
        QVERIFY2(std::abs(k - std::round(k)) < 1e-6 * double(n), qPrintable(QString::number(k)));
        places.push_back(turn * (std::round(k) + 0.25));
        ++isThere[(std::size_t(std::lround(k) + long(n))) % n];
    }
    QVERIFY(std::ranges::all_of(isThere, [](int times) { return times == 1; }));

    x = test::whiteNoise(0.1, 2 * n, 4);
    const auto bins = skewBins(fft, x);
    double error = 0.0, power = 0.0;
    for (std::size_t b = 0; b < n; b += 5) { // the definition, in double: x^n is i
        std::complex<double> sum;
        for (std::size_t i = 0; i < 2 * n; ++i) sum += double(x[i]) * std::polar(1.0, places[b] * double(i));
        error += std::norm(sum - bins[b]), power += std::norm(sum);
    }
    QVERIFY2(10.0 * std::log10(error / power) < -130.0, qPrintable(QString::number(10.0 * std::log10(error / power))));
}

void TestSignal::skewTransformGoesBack_data() { skewTransformEvaluatesAtTheRootsOfI_data(); }

void TestSignal::skewTransformGoesBack()
{
    QFETCH(int, length);
    const std::size_t n = std::size_t(length);
    SkewFft fft(n);
    const auto x = test::whiteNoise(0.1, 2 * n, 5);
    std::vector<float> bins(2 * n), last(n);
    fft.split(std::span(x).first(n), std::span(x).last(n));
    fft.evaluate(bins.data());
    fft.interpolate(bins.data());
    fft.join(last);
    for (std::size_t i = 0; i < n; ++i) QVERIFY(std::abs(last[i] / float(n) - x[n + i]) < 1e-6f);
}

void TestSignal::oversamplerIsTransparent_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<int>("factor");
    for (const int factor : {2, 4, 7, 8, 14})
        for (const double hz : {50.0, 1000.0, 10000.0, 17500.0})
            QTest::addRow("%g Hz, %d times", hz, factor) << hz << factor;
}

void TestSignal::oversamplerIsTransparent()
{
    QFETCH(double, hz);
    QFETCH(int, factor);
    Oversampler over{std::size_t(factor)};
    over.prepare(256);
    const auto x = test::sine(hz, 0.5, 48000.0, 0.5);
    std::vector<float> y(x.size());
    for (std::size_t at = 0; at < x.size(); at += 256) {
        const std::size_t n = std::min<std::size_t>(256, x.size() - at);
        const auto high = over.up(std::span(x).subspan(at, n));
        QCOMPARE(high.size(), n * std::size_t(factor));
        over.down(high, std::span(y).subspan(at, n));
    }
    const std::size_t late = over.latency();
    for (std::size_t i = 2000; i < x.size(); ++i)
        QVERIFY(std::abs(y[i] - x[i - late]) < 2e-5f); // 110 dB filters: the latency is true
}

void TestSignal::oversamplerForPlayingIsEarly_data() { oversamplerIsTransparent_data(); }

void TestSignal::oversamplerForPlayingIsEarly()
{
    QFETCH(double, hz);
    QFETCH(int, factor);
    Oversampler over(std::size_t(factor), Oversampler::Phase::Least), linear{std::size_t(factor)};
    QVERIFY2(over.latency() <= 16 && linear.latency() > 40, qPrintable(QString::number(over.latency())));
    over.prepare(256);
    const auto x = test::sine(hz, 0.5, 48000.0, 0.5);
    std::vector<float> y(x.size());
    for (std::size_t at = 0; at < x.size(); at += 256) {
        const std::size_t n = std::min<std::size_t>(256, x.size() - at);
        over.down(over.up(std::span(x).subspan(at, n)), std::span(y).subspan(at, n));
    }
    // The same size, whatever the phase; at low frequency it is late by what it tells.
    const std::vector<float> settled(y.end() - 19200, y.end());
    QVERIFY(std::abs(test::amplitudeAt(settled, hz, 48000.0) / 0.5 - 1.0) < 2e-4);
    if (hz > 1000.0) return;
    const std::size_t late = over.latency();
    const double slope = 2.0 * std::numbers::pi * hz / 48000.0 * 0.5; // of the sine, for each frame
    const double off = 0.5 / factor + 0.02; // the latency is whole: half a sample of the highest rate either way
    for (std::size_t i = 2000; i < x.size(); ++i) QVERIFY(std::abs(y[i] - x[i - late]) < off * slope + 2e-5);
}

void TestSignal::oversamplerDoesNotMindHowABlockIsCut_data()
{
    QTest::addColumn<int>("factor");
    for (const int factor : {2, 4, 7, 8, 14, 16}) QTest::addRow("%d times", factor) << factor;
}

void TestSignal::oversamplerDoesNotMindHowABlockIsCut()
{
    QFETCH(int, factor);
    for (const auto phase : {Oversampler::Phase::Linear, Oversampler::Phase::Least}) {
        const auto played = [&](std::vector<float> x, std::size_t most) {
            Oversampler over(std::size_t(factor), phase);
            over.prepare(300);
            for (std::size_t at = 0, n = 1; at < x.size(); at += n, n = std::min(most, n % 97 + 13)) {
                n = std::min(most < 300 ? n : most, x.size() - at);
                const auto part = std::span(x).subspan(at, n);
                over.down(over.up(part), part);
            }
            return x;
        };
        const auto x = test::whiteNoise(0.3, 3000, 5);
        const auto whole = played(x, 300);
        QVERIFY(std::ranges::any_of(whole, [](float v) { return std::abs(v) > 0.1f; }));
        QVERIFY(whole == played(x, 110));
    }
}

void TestSignal::oversamplerStopsWhatFolds_data()
{
    QTest::addColumn<int>("factor");
    QTest::addColumn<int>("phase");
    QTest::newRow("for playing, 8 times") << 8 << int(Oversampler::Phase::Least);
    QTest::newRow("for playing, 7 times") << 7 << int(Oversampler::Phase::Least);
    QTest::newRow("8 times") << 8 << int(Oversampler::Phase::Linear);
    QTest::newRow("14 times") << 14 << int(Oversampler::Phase::Linear);
}

void TestSignal::oversamplerStopsWhatFolds()
{
    // What lies over half the base rate must not come back.
    QFETCH(int, factor);
    QFETCH(int, phase);
    const auto times = std::size_t(factor);
    for (const double hz :
         {24200.0, 30000.0, 46000.0, 60000.0, 70000.0, 100000.0, 118000.0, 150000.0, 190000.0, 210000.0, 330000.0}) {
        if (hz > 24000.0 * factor) break;
        Oversampler over(times, Oversampler::Phase(phase));
        over.prepare(256);
        auto high = test::sine(hz, 1.0, 48000.0 * factor, 0.2);
        std::vector<float> out(high.size() / times);
        for (std::size_t at = 0; at + 256 <= out.size(); at += 256)
            over.down(std::span(high).subspan(times * at, times * 256), std::span(out).subspan(at, 256));
        float most = 0.0f;
        for (std::size_t i = 1000; i + 256 < out.size(); ++i) most = std::max(most, std::abs(out[i]));
        QVERIFY2(20.0 * std::log10(most) < -95.0,
                 qPrintable(QString("%1 Hz: %2").arg(hz).arg(20.0 * std::log10(most))));
    }
}

void TestSignal::saturatorFollowsItsShape_data()
{
    QTest::addColumn<int>("kind");
    QTest::addColumn<double>("delay");
    QTest::newRow("plain") << int(Antialiasing::Plain) << Saturator::kPlainDelay;
    QTest::newRow("strong") << int(Antialiasing::Strong) << Saturator::kStrongDelay;
}

void TestSignal::saturatorFollowsItsShape()
{
    // At low frequency the mean over a step is the shape itself; slope 1 at rest, ceiling where it was set.
    QFETCH(int, kind);
    QFETCH(double, delay);
    Saturator s(0.2, 0.5, Antialiasing(kind));
    s.prepare(48000);
    auto x = test::sine(1.0, 3.0, 48000.0, 1.0);
    const auto in = x;
    s.process(x, 2.0f);
    const double b = 0.2, k = std::pow(1.0 + b * b, 1.5), rest = b / std::sqrt(1.0 + b * b);
    const auto whole = std::size_t(delay);
    const double part = delay - double(whole);
    for (std::size_t i = whole + 1; i < x.size(); i += 50) {
        const double before = (1.0 - part) * double(in[i - whole]) + part * double(in[i - whole - 1]),
                     u = before * 2.0 / 0.5 + b;
        QVERIFY(std::abs(double(x[i]) - 0.5 * k * (u / std::sqrt(1.0 + u * u) - rest)) < 1e-4);
    }
    std::vector<float> silence(100, 0.0f);
    Saturator quiet(-0.3, 1.0);
    quiet.prepare(100);
    quiet.process(silence, 100.0f);
    for (const float v : silence) QVERIFY(std::abs(v) < 1e-6f);
}

void TestSignal::saturatorDoesNotAlias_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("reach"); // goals: static nodes
    QTest::newRow("1245") << 1245.0 << -90.0;
    QTest::newRow("4980") << 4980.0 << -82.0;
    QTest::newRow("7500") << 7500.0 << -75.0;
}

void TestSignal::saturatorDoesNotAlias()
{
    QFETCH(double, hz);
    QFETCH(double, reach);
    // 69 dB of gain, peak 0.3: what the drive node's most makes of it (50 dB, 4.36 V full scale, ceiling 0.5 V). All
    // power that is not on a harmonic, over all power; one second, so bins are whole hertz.
    Oversampler over;
    over.prepare(480);
    Saturator shape(0.0, 1.0, Antialiasing::Strong);
    shape.prepare(480 * 8);
    auto x = test::sine(hz, 0.3, 48000.0, 1.2);
    for (std::size_t at = 0; at < x.size(); at += 480) {
        const auto part = std::span(x).subspan(at, 480);
        const auto high = over.up(part);
        shape.process(high, float(std::pow(10.0, 69.0 / 20.0)));
        over.down(high, part);
    }
    const std::vector<float> settled(x.end() - 48000, x.end());
    double all = 0.0, harmonic = 0.0;
    for (const float v : settled) all += double(v) * double(v);
    for (double h = hz; h < 24000.0; h += hz)
        harmonic += std::pow(test::amplitudeAt(settled, h, 48000.0), 2) / 2.0 * 48000.0;
    const double aliases = 10.0 * std::log10((all - harmonic) / all);
    QVERIFY2(aliases < reach, qPrintable(QString::number(aliases)));
}

void TestSignal::fractionalDelayIsFractional_data()
{
    QTest::addColumn<double>("samples");
    for (const double d : {20.0, 20.25, 103.5, 1000.73}) QTest::addRow("%g", d) << d;
}

void TestSignal::fractionalDelayIsFractional()
{
    QFETCH(double, samples);
    FractionalDelay line;
    line.prepare(samples);
    const double w = 2.0 * std::numbers::pi * 2500.0 / 48000.0;
    double worst = 0.0;
    for (int n = 0; n < 5000; ++n) {
        const double y = line.read();
        line.write(float(std::sin(w * n)));
        if (n > 2200) worst = std::max(worst, std::abs(y - std::sin(w * (n - samples))));
    }
    QVERIFY2(worst < 5e-4, qPrintable(QString::number(worst))); // 70 dB window
}

// Where the place moves by a part of a sample each sample, what comes out is the sine of that place.
void TestSignal::varyingDelayFollows()
{
    const double w = 2.0 * std::numbers::pi * 2500.0 / 48000.0;
    for (const double speed : {0.0, 0.0003, -0.01}) {
        VaryingDelay line;
        line.prepare(400.0);
        double worst = 0.0;
        for (int n = 0; n < 6000; ++n) {
            const double samples = 200.37 + speed * n, y = line.read(samples);
            line.write(float(std::sin(w * n)));
            if (n > 600) worst = std::max(worst, std::abs(y - std::sin(w * (n - samples))));
        }
        QVERIFY2(worst < 5e-4, qPrintable(QString::number(worst))); // 70 dB window
    }
}

// A second-order low pass is minimum phase: its own impulse response comes back.
void TestSignal::minimumPhaseHasItsMagnitude()
{
    const BiquadCoefficients c = lowPass(3000.0, 2.0, 48000.0);
    const auto gain = [&](double hz) {
        const auto z = std::polar(1.0, -2.0 * std::numbers::pi * hz / 48000.0);
        return std::abs((c.b0 + c.b1 * z + c.b2 * z * z) / (1.0 + c.a1 * z + c.a2 * z * z));
    };
    const auto taps = minimumPhase(gain, 48000.0, 512);
    Biquad filter(c);
    double worst = 0.0;
    for (std::size_t i = 0; i < taps.size(); ++i)
        worst = std::max(worst, std::abs(double(taps[i]) - filter.step(i == 0 ? 1.0 : 0.0)));
    QVERIFY2(worst < 1e-4, qPrintable(QString::number(worst))); // the double zero at half the rate is held to -180 dB
}

void TestSignal::filtersAreMinusThreeDb()
{
    for (const bool high : {false, true}) {
        OnePole one = high ? OnePole::highPass(1000.0, 48000.0) : OnePole::lowPass(1000.0, 48000.0);
        Biquad two(high ? highPass(1000.0, std::sqrt(0.5), 48000.0) : lowPass(1000.0, std::sqrt(0.5), 48000.0));
        auto x = test::sine(1000.0, 1.0, 48000.0, 1.0), y = x;
        one.process(x);
        two.process(y);
        QVERIFY(std::abs(20.0 * std::log10(test::amplitudeAt(x, 1000.0, 48000.0, 24000)) + 3.0103) < 0.001);
        QVERIFY(std::abs(20.0 * std::log10(test::amplitudeAt(y, 1000.0, 48000.0, 24000)) + 3.0103) < 0.001);
    }
}

QTEST_APPLESS_MAIN(TestSignal)
#include "test_signal.moc"
