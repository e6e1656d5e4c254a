// What clips, what echoes and what rings: each against its source.

#include "core/measure/true_peak.h"
#include "core/signal/biquad.h"
#include "core/signal/diode_pair.h"
#include "support/chain.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <random>

using namespace gristle;
using namespace gristle::core;
using test::Sides;
using test::throughChain;

namespace {

constexpr double kRate = 48000.0, kPi = std::numbers::pi;

std::vector<float> impulse(double seconds, float height = 1.0f)
{
    std::vector<float> x(std::size_t(seconds * kRate));
    x[0] = height;
    return x;
}

double peakOf(std::span<const float> x)
{
    double peak = 0.0;
    for (const float v : x) peak = std::max(peak, double(std::abs(v)));
    return peak;
}

double powerOf(std::span<const float> x)
{
    double sum = 0.0;
    for (const float v : x) sum += double(v) * double(v);
    return sum / double(x.size());
}

double gainDbAt(const std::string& line, double hz, double volts)
{
    const auto x = test::sine(hz, volts, kRate, 0.5);
    const auto y = throughChain(line, x)[0];
    return 20.0 * std::log10(test::amplitudeAt({y.begin() + 12000, y.end()}, hz, kRate) / volts);
}

/// The time in which what rings falls by 60 dB, from the slope of Schroeder's integral between -5 and -35 dB, of a band
/// around hz. Source: Schroeder 1965; ISO 3382.
double decayOf(std::vector<float> h, double hz)
{
    Biquad low(lowPass(hz * 1.3, 0.7071, kRate)), high(highPass(hz / 1.3, 0.7071, kRate));
    low.process(h), high.process(h);
    std::vector<double> left(h.size());
    double sum = 0.0;
    for (std::size_t i = h.size(); i-- > 0;) left[i] = sum += double(h[i]) * double(h[i]);
    // A line through the curve by least squares.
    double n = 0.0, st = 0.0, sd = 0.0, stt = 0.0, std_ = 0.0;
    for (std::size_t i = 0; i < h.size(); i += 48) {
        const double db = 10.0 * std::log10(left[i] / left[0]), t = double(i) / kRate;
        if (db > -5.0 || db < -35.0) continue;
        n += 1.0, st += t, sd += db, stt += t * t, std_ += t * db;
    }
    return -60.0 * (n * stt - st * st) / (n * std_ - st * sd);
}

} // namespace

class TestEffects : public QObject {
    Q_OBJECT
private slots:
    void diodesFollowTheirLaw();
    void diodesAreAsLateAsTheySay();
    void diodesDoNotMindHowABlockIsCut();
    void clippersFoldLittle_data();
    void clippersFoldLittle();
    void softClipperIsItsCircuitWhenSoft();
    void hardClipperEndsAtTheDiodes();
    void fuzzSustains();
    void boostEndsAtItsSupply();
    void limiterHoldsItsCeiling();
    void limiterHoldsItsCeilingBetweenSamples_data();
    void limiterHoldsItsCeilingBetweenSamples();
    void limiterKeepsLowNotesWhole();
    void graphicPassesThroughItsSliders();
    void polarityTurnsOver();
    void shiftIsExact_data();
    void shiftIsExact();
    void widenKeepsTheLowEnd();
    void chorusNeverRepeats();
    void echoesOfTwoSides();
    void echoesGoFromSideToSide();
    void echoesAreFiltered();
    void echoesStepBack();
    void reverbDecaysAsSet_data();
    void reverbDecaysAsSet();
    void reverbIsAsLoudAsWhatComesIn();
    void springChirps();
    void springStartsAfterHalfARound_data();
    void springStartsAfterHalfARound();
    void springIsTheSameAtEachRate();
    void springDecaysAsSet();
};

// v / R + 2 Is sinh(v / nVt) = i, put in backwards: i from v.
void TestEffects::diodesFollowTheirLaw()
{
    for (const double ohm : {2700.0, 47e3, 510e3}) {
        const DiodePair pair({.ohm = ohm});
        for (double v = -0.9; v < 0.9; v += 0.0137) {
            const double i = v / ohm + 2.0 * 2.5e-9 * std::sinh(v / 0.045);
            QVERIFY2(std::abs(pair.voltsAt(i) - v) < 1e-7, qPrintable(QString("%1 V, %2 ohm").arg(v).arg(ohm)));
        }
    }
}

// So soft that they are a resistance: a sine comes out as high as that says, so many samples later.
void TestEffects::diodesAreAsLateAsTheySay()
{
    DiodePair pair({.ohm = 47e3});
    const double rest = 1.0 / (1.0 / 47e3 + 2.0 * 2.5e-9 / 0.045), turn = 2.0 * kPi * 0.05, ampere = 1e-13;
    std::vector<double> x(400);
    for (std::size_t i = 0; i < x.size(); ++i) x[i] = ampere * std::sin(turn * double(i));
    pair.process(x);
    for (std::size_t i = 10; i < x.size(); ++i)
        QVERIFY(std::abs(x[i] / (ampere * rest) - std::sin(turn * (double(i) - DiodePair::kDelay))) < 1e-3);
}

// They are worked through in chunks; a block of any length gives the same bits.
void TestEffects::diodesDoNotMindHowABlockIsCut()
{
    DiodePair whole({.ohm = 200e3}), cut({.ohm = 200e3});
    std::vector<double> x(1000);
    for (std::size_t i = 0; i < x.size(); ++i) x[i] = 1e-4 * std::sin(0.31 * double(i)) * std::sin(0.0047 * double(i));
    auto pieces = x;
    whole.process(x);
    std::size_t at = 0;
    for (const std::size_t count : {1u, 2u, 3u, 31u, 32u, 33u, 64u, 200u, 634u}) {
        cut.process(std::span(pieces).subspan(at, count));
        at += count;
    }
    QCOMPARE(at, x.size());
    QVERIFY(*std::ranges::max_element(x) > 0.3);
    QVERIFY(x == pieces);
}

void TestEffects::clippersFoldLittle_data()
{
    QTest::addColumn<QString>("line");
    QTest::addColumn<double>("rate");
    QTest::addColumn<int>("hz");
    QTest::addColumn<double>("reach");
    // Goals: static nodes at -90, -82 and -75 dB.
    const auto row = [](const QString& line, double rate) {
        for (const auto& [hz, reach] : {std::pair(1245, -90.0), {4980, -82.0}, {7500, -75.0}})
            QTest::newRow(qPrintable(QString("%1, %2 Hz at %3").arg(line).arg(hz).arg(rate)))
                << line << rate << hz << reach;
    };
    for (const char* line :
         {"softclip drive=10 tone=12000", "softclip drive=10 hump=1500 tone=12000", "hardclip drive=10 tone=12000",
          "fuzz sustain=10", "fuzz sustain=10 tone=10", "fuzz sustain=10 tone=10 stages=one", "boost gain=35",
          "drive drive=50 tone=12000", "amplifier drive=10 bass=10 middle=10 treble=10 master=10",
          "gain db=20 | amplifier drive=10 bass=10 middle=10 treble=10 master=10"})
        for (const double rate : {44100.0, 48000.0, 96000.0}) row(line, rate);
    // And anywhere: GRISTLE_DRAWS asks for more of it.
    bool isOk = false;
    const int asked = qEnvironmentVariableIntValue("GRISTLE_DRAWS", &isOk), draws = isOk ? asked : 3;
    std::mt19937 random(5);
    std::uniform_real_distribution<double> part(0.0, 1.0);
    for (const char* name : {"softclip", "hardclip", "fuzz", "boost", "drive", "amplifier"})
        for (int draw = 0; draw < draws; ++draw) {
            QString line = name;
            for (const ParameterSpec& p : findNodeType(name)->parameters)
                line += QString(" %1=%2").arg(QString::fromStdString(p.key),
                                              p.kind == ParameterKind::Choice
                                                  ? QString::fromStdString(p.choices[random() % p.choices.size()])
                                                  : QString::number(p.min + (p.max - p.min) * part(random), 'f', 3));
            row(line, 48000.0);
        }
}

void TestEffects::clippersFoldLittle()
{
    QFETCH(QString, line);
    QFETCH(double, rate);
    QFETCH(int, hz);
    QFETCH(double, reach);
    const auto y = throughChain(line.toStdString(), test::sine(hz, 0.3, rate, 2.02), rate)[0];
    const auto x = std::span(y).subspan(std::size_t(rate), std::size_t(rate)); // whole periods of every frequency
    double whole = 0.0, harmonics = 0.0;
    const auto powerAt = [&](int of) {
        std::complex<double> sum = 0.0;
        for (std::size_t i = 0; i < x.size(); ++i)
            sum += double(x[i]) * std::polar(1.0, -2.0 * kPi * std::fmod(double(of) * double(i) / rate, 1.0));
        return (of == 0 ? 1.0 : 2.0) * std::norm(sum) / double(x.size());
    };
    for (const float v : x) whole += double(v) * double(v);
    for (int k = 0; 2 * k * hz < int(rate); ++k) harmonics += powerAt(k * hz);
    const double db = 10.0 * std::log10(std::max(whole - harmonics, 1e-30) / whole);
    QVERIFY2(db < reach, qPrintable(QString::number(db)));
}

// A microvolt: the pair is its resistance at rest beside R, the leg 3.9 kilohms behind its capacitor.
void TestEffects::softClipperIsItsCircuitWhenSoft()
{
    const double feedback = 39e3 + 470e3, rest = 1.0 / (1.0 / feedback + 2.0 * 2.5e-9 / 0.045);
    for (const double hz : {100.0, 400.0, 620.0, 1500.0, 5000.0, 10000.0}) {
        const std::complex<double> hump = std::complex(0.0, hz / 620.0) / std::complex(1.0, hz / 620.0),
                                   top = 1.0 / std::complex(1.0, hz * 2.0 * kPi * feedback * 47e-12),
                                   tone = 1.0 / std::complex(1.0, hz / 12000.0);
        const double wanted = 20.0 * std::log10(std::abs((1.0 + rest / 3900.0 * hump * top) * tone));
        const double found = gainDbAt("softclip drive=10 hump=620 tone=12000", hz, 1e-6);
        QVERIFY2(std::abs(found - wanted) < 0.1, qPrintable(QString("%1 Hz: %2, %3").arg(hz).arg(found).arg(wanted)));
    }
}

// 50 dB of gain on 1 V behind 2.7 kilohms: 117 mA. At 400 Hz the filters take nothing from the flat tops.
void TestEffects::hardClipperEndsAtTheDiodes()
{
    double v = 1.0; // from above, as the law is convex
    for (int round = 0; round < 200; ++round)
        v -= (v / 2700.0 + 5e-9 * std::sinh(v / 0.045) - std::pow(10.0, 2.5) / 2700.0) /
             (1.0 / 2700.0 + 5e-9 / 0.045 * std::cosh(v / 0.045));
    const auto y = throughChain("hardclip drive=10 tone=12000", test::sine(400.0, 1.0, kRate, 0.3))[0];
    const double peak = peakOf(std::span(y).last(4800));
    QVERIFY2(std::abs(peak / v - 1.0) < 0.05, qPrintable(QString("%1, %2").arg(peak).arg(v)));
}

void TestEffects::fuzzSustains()
{
    const auto level = [](double volts) {
        return 10.0 *
               std::log10(powerOf(
                   std::span(throughChain("fuzz sustain=8", test::sine(200.0, volts, kRate, 0.5))[0]).last(9600)));
    };
    QVERIFY(level(0.2) - level(0.02) < 2.0); // a note that has faded by 20 dB is still there
    QVERIFY(level(2e-6) < level(0.2) - 20.0);
}

void TestEffects::boostEndsAtItsSupply()
{
    QVERIFY(std::abs(gainDbAt("boost gain=20", 1000.0, 0.001) - 20.0) < 0.05);
    const auto loud = throughChain("boost gain=35 supply=9", test::sine(300.0, 3.0, kRate, 0.2))[0];
    QVERIFY(std::abs(peakOf(loud) / (0.45 * 9.0) - 1.0) < 0.02);
    QVERIFY(gainDbAt("boost gain=0 tight=200", 200.0, 0.001) < -2.9);
}

void TestEffects::limiterHoldsItsCeiling()
{
    const double ceiling = 0.7746 * std::numbers::sqrt2; // 0 dBu
    auto x = test::whiteNoise(2.0, 24000);
    const auto held = throughChain("limiter ceiling=0", x);
    for (const float v : held[0]) QVERIFY(std::abs(double(v)) <= ceiling * 1.0001);
    const auto soft = test::sine(700.0, 0.9 * ceiling, kRate, 0.3);
    QVERIFY(throughChain("limiter ceiling=0", soft)[0] == soft);
    // Held for 13 ms, then let go by its time constant: on a constant voltage under the ceiling, after a louder one.
    constexpr double kHoldS = 0.013;
    std::vector<float> swell(48000, float(0.5 * ceiling)); // no edge: it would go higher between samples than on them
    for (std::size_t i = 9600; i < 19200; ++i)
        swell[i] = float(ceiling * (0.5 + 3.5 * std::min(1.0, 0.5 - 0.5 * std::cos(kPi * double(i - 9600) / 2400.0))));
    std::fill(swell.begin() + 12000, swell.begin() + 19200, float(4.0 * ceiling));
    for (std::size_t i = 19200; i < 19248; ++i) // 1 ms
        swell[i] = float(ceiling * (0.5 + 3.5 * (0.5 + 0.5 * std::cos(kPi * double(i - 19200) / 48.0))));
    const auto y = throughChain("limiter ceiling=0 release=100", swell)[0];
    QVERIFY(std::abs(double(y[19000]) / ceiling - 1.0) < 1e-4);
    for (const double t : {0.05, 0.1, 0.2}) {
        const double gain = double(y[19210 + std::size_t((kHoldS + t) * kRate)]) / (0.5 * ceiling);
        QVERIFY2(std::abs((1.0 - gain) / (0.75 * std::exp(-t / 0.1)) - 1.0) < 0.02, qPrintable(QString::number(gain)));
    }
}

// Nor between the samples, where an edge or noise goes higher: read there eight times as closely, by another library.
void TestEffects::limiterHoldsItsCeilingBetweenSamples_data()
{
    QTest::addColumn<double>("rate");
    for (const double rate : {44100.0, 48000.0, 96000.0}) QTest::addRow("%.0f", rate) << rate;
}

void TestEffects::limiterHoldsItsCeilingBetweenSamples()
{
    QFETCH(double, rate);
    const double ceiling = 0.7746 * std::numbers::sqrt2;
    std::vector<std::vector<float>> sounds;
    sounds.push_back(test::whiteNoise(1.0, 48000));
    auto& edges = sounds.emplace_back(48000, 0.0f);
    for (std::size_t i = 0; i < edges.size(); ++i) edges[i] = float(ceiling * (i / 331 % 2 == 0 ? 2.9 : -2.4));
    auto& eighth = sounds.emplace_back(48000, 0.0f); // a quarter of the rate, between whose samples its crests lie
    for (std::size_t i = 0; i < eighth.size(); ++i)
        eighth[i] = float(3.0 * ceiling * std::sin(kPi * (0.5 * double(i) + 0.25)) * (i > 10000 && i < 30000));
    for (const auto& x : sounds) {
        const auto y = throughChain("limiter ceiling=0", x, rate)[0];
        TruePeakMeter meter(rate);
        meter.push(y);
        const double over = 20.0 * std::log10(meter.finish() / ceiling);
        QVERIFY2(over < 0.1, qPrintable(QString("%1 dB").arg(over)));
        QVERIFY2(over > -2.0, qPrintable(QString("%1 dB").arg(over))); // and not far under it
    }
}

// A steady low note 6 dB over comes out as that note, not as one that is turned down at each crest.
void TestEffects::limiterKeepsLowNotesWhole()
{
    for (const double hz : {41.0, 82.0, 220.0}) {
        const auto y =
            throughChain("limiter ceiling=0", test::sine(hz, 2.0 * 0.7746 * std::numbers::sqrt2, kRate, 2.0))[0];
        const std::vector<float> end(y.end() - 48000, y.end());
        const double whole = powerOf(end), tone = 0.5 * std::pow(test::amplitudeAt(end, hz, kRate), 2.0);
        const double db = 10.0 * std::log10(std::max(1e-12, whole - tone) / whole);
        QVERIFY2(db < -50.0, qPrintable(QString("%1 Hz: %2 dB").arg(hz).arg(db)));
    }
}

void TestEffects::graphicPassesThroughItsSliders()
{
    const auto h = throughChain("graphic b63=-8 b125=8 b250=9 b500=-10 b1000=3 b2000=12 b4000=11 b8000=-12 b16000=4",
                                impulse(0.5))[0];
    const std::pair<double, double> wanted[] = {{63, -8},   {125, 8},   {250, 9},    {500, -10}, {1000, 3},
                                                {2000, 12}, {4000, 11}, {8000, -12}, {16000, 4}};
    for (const auto& [hz, db] : wanted) {
        const double found = test::responseDb(h, hz, kRate);
        QVERIFY2(std::abs(found - db) < 0.1, qPrintable(QString("%1 Hz: %2").arg(hz).arg(found)));
    }
    const auto x = test::whiteNoise(0.2, 2000);
    QVERIFY(throughChain("graphic", x)[0] == x);
}

void TestEffects::polarityTurnsOver()
{
    const auto x = test::whiteNoise(0.2, 500);
    const auto y = throughChain("polarity", x)[0];
    for (std::size_t i = 0; i < x.size(); ++i) QCOMPARE(y[i], -x[i]);
}

void TestEffects::shiftIsExact_data()
{
    QTest::addColumn<double>("ms");
    for (const double ms : {0.0, 0.013, 0.5, 7.777}) QTest::addRow("%g ms", ms) << ms;
}

void TestEffects::shiftIsExact()
{
    QFETCH(double, ms);
    const auto x = test::sine(1000.0, 0.5, kRate, 0.5);
    const auto y = throughChain(QString("shift by=%1").arg(ms).toStdString(), x)[0];
    std::complex<double> sum = 0.0;
    for (std::size_t i = 4800; i < 19200; ++i)
        sum += double(y[i]) * std::polar(1.0, -2.0 * kPi * 1000.0 * (double(i) / kRate - ms * 1e-3));
    // A sine against e^-jwt has the angle -90 degrees. 0.01 sample of 48 kHz at 1 kHz is 0.0013.
    QVERIFY(std::abs(std::arg(sum * std::polar(1.0, kPi / 2.0))) < 0.0013);
}

void TestEffects::widenKeepsTheLowEnd()
{
    const auto y = throughChain("widen by=12 from=200 late=right", impulse(0.3));
    QCOMPARE(y.size(), std::size_t(2));
    QCOMPARE(y[0][0], 1.0f);
    QVERIFY(std::abs(test::responseDb(y[1], 30.0, kRate)) < 1.5); // the low end: hardly moved
    // Above, only what is late by 576 frames.
    const auto at = std::ranges::max_element(y[1].begin() + 100, y[1].end()) - y[1].begin();
    QCOMPARE(at, 576);
}

// A ramp shows the weighed delay of all taps at once: y = sum of a_k (t - d_k(t)). Its moving part is nowhere within a
// minute like itself to within a fiftieth of its power; for three rates of a hertz, no choice could keep it farther.
void TestEffects::chorusNeverRepeats()
{
    constexpr double kLow = 8000.0; // a slow rate, for a long look
    std::vector<float> ramp(std::size_t(130.0 * kLow));
    for (std::size_t i = 0; i < ramp.size(); ++i) ramp[i] = float(double(i) / kLow);
    for (const auto& side : throughChain("chorus rate=1 depth=3 delay=9 mix=1", ramp, kLow)) {
        std::vector<double> moved;
        for (std::size_t i = 8000; i < side.size(); i += 160) moved.push_back(double(side[i]));
        const auto n = double(moved.size());
        double st = 0.0, sy = 0.0, stt = 0.0, sty = 0.0; // less its straight line
        for (std::size_t i = 0; i < moved.size(); ++i) {
            const auto t = double(i);
            st += t, sy += moved[i], stt += t * t, sty += t * moved[i];
        }
        const double slope = (n * sty - st * sy) / (n * stt - st * st);
        for (std::size_t i = 0; i < moved.size(); ++i) moved[i] -= sy / n + slope * (double(i) - st / n);
        const auto likeness = [&](std::size_t lag) {
            double ab = 0.0, aa = 0.0, bb = 0.0;
            for (std::size_t i = 0; i + lag < moved.size(); ++i)
                ab += moved[i] * moved[i + lag], aa += moved[i] * moved[i], bb += moved[i + lag] * moved[i + lag];
            return ab / std::sqrt(aa * bb);
        };
        QVERIFY(likeness(1) > 0.98); // so a return would show
        double most = 0.0;
        for (std::size_t lag = 25; lag < 60 * 50; ++lag) most = std::max(most, likeness(lag)); // 0.5 to 60 s
        QVERIFY2(most < 0.99, qPrintable(QString::number(most)));
    }
}

void TestEffects::echoesOfTwoSides()
{
    const auto y = throughChain("delay sides=two time=100ms other=150ms feedback=0.5 mix=1", impulse(0.6));
    const auto near = [](double a, double b) { return std::abs(a - b) < 1e-6; };
    QVERIFY(near(y[0][4800], 1.0) && near(y[0][9600], 0.5) && near(y[0][7200], 0.0));
    QVERIFY(near(y[1][7200], 1.0) && near(y[1][14400], 0.5) && near(y[1][4800], 0.0));
    const auto close = throughChain("delay sides=two time=100ms other=150ms feedback=0 mix=1 spread=0", impulse(0.3));
    QVERIFY(near(close[0][4800], 0.5) && near(close[1][4800], 0.5));
}

void TestEffects::echoesGoFromSideToSide()
{
    for (const double feedback : {0.0, 0.1, 0.5, 0.9}) { // each side's echoes fall by it, alike on both
        const auto y =
            throughChain("delay sides=pingpong time=100ms mix=1 feedback=" + std::to_string(feedback), impulse(0.9));
        const auto near = [](double a, double b) { return std::abs(a - b) < 1e-6; };
        for (std::size_t k = 0; k < 4; ++k) {
            const std::size_t left = 4800 + 9600 * k, right = left + 4800;
            const double level = k == 0 ? 1.0 : std::pow(feedback, double(k));
            QVERIFY(near(y[0][left], level) && near(y[1][left], 0.0));
            QVERIFY(near(y[1][right], level) && near(y[0][right], 0.0));
        }
    }
}

// Each time round takes one more of the same filter off.
void TestEffects::echoesAreFiltered()
{
    const auto y = throughChain("delay time=200ms feedback=0.8 mix=1 low_cut=200 high_cut=2000", impulse(1.0))[0];
    for (const double hz : {100.0, 1000.0, 5000.0}) {
        const auto echo = [&](int k) {
            return test::responseDb({y.begin() + 9600 * k - 20, y.begin() + 9600 * k + 9000}, hz, kRate);
        };
        // Bilinear with prewarping: exact at the corner, and by tan elsewhere.
        const double w = std::tan(kPi * hz / kRate), low = std::tan(kPi * 200.0 / kRate),
                     high = std::tan(kPi * 2000.0 / kRate);
        const double wanted = 20.0 * std::log10(0.8) - 10.0 * std::log10(1.0 + low * low / (w * w)) -
                              10.0 * std::log10(1.0 + w * w / (high * high));
        QVERIFY2(std::abs(echo(2) - echo(1) - wanted) < 0.1, qPrintable(QString::number(echo(2) - echo(1) - wanted)));
        QVERIFY(std::abs(echo(3) - echo(2) - wanted) < 0.1);
    }
}

void TestEffects::echoesStepBack()
{
    // Somebody plays steadily: the echoes of it are as loud as he is, so they step back by all of it.
    const auto x = test::sine(480.0, 0.3, kRate, 2.0);
    const auto plain = throughChain("delay time=100ms feedback=0 mix=1", x)[0],
               ducked = throughChain("delay time=100ms feedback=0 mix=1 duck=12", x)[0];
    const double by = 10.0 * std::log10(powerOf(std::span(ducked).last(9600)) / powerOf(std::span(plain).last(9600)));
    QVERIFY2(std::abs(by + 12.0) < 0.3, qPrintable(QString::number(by)));
    // Repeats that pile up on it do not hide him.
    const auto piled = throughChain("delay time=100ms feedback=0.5 mix=1", x)[0],
               back = throughChain("delay time=100ms feedback=0.5 mix=1 duck=9", x)[0];
    const double all = 10.0 * std::log10(powerOf(std::span(back).last(9600)) / powerOf(std::span(piled).last(9600)));
    QVERIFY2(std::abs(all + 9.0) < 0.3, qPrintable(QString::number(all)));
    // He stops: after a second they are back. One burst, the echo long after it.
    std::vector<float> burst = test::sine(480.0, 0.3, kRate, 0.2);
    burst.resize(std::size_t(3.0 * kRate));
    const auto late = throughChain("delay time=1800ms feedback=0 mix=1 duck=12", burst)[0];
    QVERIFY(10.0 * std::log10(powerOf(std::span(late).subspan(std::size_t(1.85 * kRate), 4800)) / (0.3 * 0.3 / 2.0)) >
            -0.5);
}

void TestEffects::reverbDecaysAsSet_data()
{
    QTest::addColumn<QString>("kind");
    QTest::addColumn<double>("decay");
    for (const char* kind : {"room", "hall", "plate"})
        for (const double s : {0.5, 1.5, 4.0})
            QTest::newRow(qPrintable(QString("%1, %2 s").arg(kind).arg(s))) << QString(kind) << s;
}

void TestEffects::reverbDecaysAsSet()
{
    QFETCH(QString, kind);
    QFETCH(double, decay);
    // A tail is like noise: one says its decay to a few in a hundred, so several that began at other moments.
    constexpr int kStarts = 8;
    std::vector<std::vector<float>> tails;
    for (int k = 0; k < kStarts; ++k) {
        const auto late = std::size_t(0.21 * k * kRate);
        auto x = impulse(2.2 * decay + 0.3);
        x.insert(x.begin(), late, 0.0f);
        for (auto& side :
             throughChain(QString("reverb kind=%1 decay=%2 low=1.5 high=0.5 mix=1 pre=0 low_cut=20 high_cut=20000")
                              .arg(kind)
                              .arg(decay)
                              .toStdString(),
                          x))
            tails.emplace_back(side.begin() + long(late), side.end());
    }
    const auto check = [&](double hz, double wanted, double within) {
        double found = 0.0;
        for (const auto& tail : tails) found += decayOf(tail, hz) / double(tails.size());
        QVERIFY2(std::abs(found / wanted - 1.0) < within, qPrintable(QString("%1 Hz: %2 s").arg(hz).arg(found)));
    };
    check(1000.0, decay, 0.02); // goals
    if (decay < 1.0) return;    // the bands' own filters ring as long
    check(60.0, 1.5 * decay, 0.08);
    check(15000.0, 0.5 * decay, 0.05);
}

void TestEffects::reverbIsAsLoudAsWhatComesIn()
{
    for (const char* kind : {"room", "hall", "plate"})
        for (const double s : {0.5, 3.0}) {
            const auto x = test::whiteNoise(0.1, std::size_t((2.0 * s + 2.0) * kRate), 3);
            const auto y = throughChain(QString("reverb kind=%1 decay=%2 high=1 mix=1 low_cut=20 high_cut=20000")
                                            .arg(kind)
                                            .arg(s)
                                            .toStdString(),
                                        x);
            // Its cuts stand at the ends of the band; the same two for the comparison.
            const auto dry = throughChain("eq low_cut=20 high_cut=20000", x)[0];
            for (const auto& side : y) {
                const double db =
                    10.0 * std::log10(powerOf(std::span(side).last(48000)) / powerOf(std::span(dry).last(48000)));
                QVERIFY2(std::abs(db) < 1.0, qPrintable(QString("%1 %2: %3").arg(kind).arg(s).arg(db)));
            }
            double both = 0.0;
            for (std::size_t i = y[0].size() - 48000; i < y[0].size(); ++i) both += double(y[0][i]) * double(y[1][i]);
            QVERIFY(std::abs(both) / 48000.0 < 0.3 * 0.01); // wide
        }
}

namespace {

/// How much later a frequency comes to a spring's far end than the lowest ones, s: forty allpasses of the first order,
/// each (1 - a^2) / (1 + 2 a cos w + a^2) frames late, at 2.4 times the corner.
double fallsBehindS(double hz, double cornerHz, double a)
{
    const double rate = 2.4 * cornerHz, turn = 2.0 * kPi * hz / rate;
    return 40.0 / rate * ((1.0 - a * a) / (1.0 + 2.0 * a * std::cos(turn) + a * a) - (1.0 - a) / (1.0 + a));
}

/// Energy of a stretch's spectrum between two frequencies, dB.
double bandDb(const std::vector<float>& x, double rate, double fromS, double toS, double lowHz, double highHz)
{
    double sum = 0.0;
    const auto from = std::size_t(fromS * rate), to = std::size_t(toS * rate);
    for (int k = 0; k < 40; ++k) {
        const double hz = lowHz + (highHz - lowHz) * (k + 0.5) / 40.0;
        std::complex<double> h = 0.0;
        for (std::size_t i = from; i < to; ++i)
            h += double(x[i]) * std::polar(0.5 - 0.5 * std::cos(2.0 * kPi * double(i - from) / double(to - from)),
                                           -2.0 * kPi * hz * double(i) / rate);
        sum += std::norm(h);
    }
    return 10.0 * std::log10(sum);
}

} // namespace

// The first of it comes after half a round, the later the higher it is, as the sections' closed form says; two springs,
// alike in power.
void TestEffects::springChirps()
{
    const auto y = throughChain("spring decay=0.3 round=90 corner=4000 mix=1", impulse(0.16))[0];
    for (const double hz : {500.0, 1000.0, 1800.0, 2600.0}) {
        // The centre of gravity in time of a narrow band.
        std::vector<float> band = y;
        std::vector<float> filter = impulse(0.16);
        for (auto* x : {&band, &filter})
            for (int k = 0; k < 2; ++k) {
                Biquad low(lowPass(hz * 1.06, 2.0, kRate)), high(highPass(hz / 1.06, 2.0, kRate));
                low.process(*x), high.process(*x);
            }
        const auto middleS = [](const std::vector<float>& h) {
            double sum = 0.0, whole = 0.0;
            for (std::size_t i = 0; i < std::size_t(0.11 * kRate); ++i)
                sum += double(i) / kRate * double(h[i]) * double(h[i]), whole += double(h[i]) * double(h[i]);
            return sum / whole;
        };
        const double found = middleS(band) - middleS(filter);
        const double wanted =
            0.5 * (0.045 + fallsBehindS(hz, 4000.0, 0.62) + 1.2272 * 0.045 + fallsBehindS(hz, 4000.0, 0.57));
        QVERIFY2(std::abs(found - wanted) < 0.001,
                 qPrintable(QString("%1 Hz: %2 ms, wanted %3").arg(hz).arg(1e3 * found).arg(1e3 * wanted)));
    }
}

void TestEffects::springStartsAfterHalfARound_data()
{
    QTest::addColumn<double>("rate");
    for (const double rate : {44100.0, 48000.0, 96000.0}) QTest::addRow("%.0f", rate) << rate;
}

void TestEffects::springStartsAfterHalfARound()
{
    QFETCH(double, rate);
    for (const double roundMs : {35.0, 44.0, 90.0})
        for (const double corner : {2500.0, 4200.0, 6000.0}) {
            std::vector<float> x(std::size_t(0.1 * rate), 0.0f);
            x[0] = 1.0f;
            const auto y = throughChain(
                "spring mix=1 round=" + std::to_string(roundMs) + " corner=" + std::to_string(corner), x, rate)[0];
            const float most = std::abs(*std::ranges::max_element(y, {}, [](float v) { return std::abs(v); }));
            const auto first = std::ranges::find_if(y, [&](float v) { return std::abs(v) > 0.1f * most; });
            const double at = 1e3 * double(first - y.begin()) / rate;
            QVERIFY2(std::abs(at - 0.5 * roundMs) < 0.4, qPrintable(QString::number(at)));
        }
}

// Its top ends at its corner, by the same decibels whatever the rate.
void TestEffects::springIsTheSameAtEachRate()
{
    std::vector<double> first;
    for (const double rate : {48000.0, 44100.0, 96000.0}) {
        std::vector<float> x(std::size_t(1.2 * rate), 0.0f);
        x[0] = 1.0f;
        const auto y = throughChain("spring mix=1 decay=1 corner=3700", x, rate)[0];
        std::vector<double> found;
        for (const double hz : {200.0, 1000.0, 3000.0, 3600.0, 4100.0})
            found.push_back(bandDb(y, rate, 0.0, 1.2, 0.97 * hz, 1.03 * hz));
        if (first.empty()) first = found;
        for (std::size_t k = 0; k < found.size(); ++k)
            QVERIFY2(std::abs(found[k] - first[k]) < 0.3, qPrintable(QString::number(found[k] - first[k])));
        const double inside = bandDb(y, rate, 0.0, 1.2, 1000.0, 3300.0);
        QVERIFY(bandDb(y, rate, 0.0, 1.2, 4200.0, 4400.0) < inside - 20.0);
    }
}

// At each frequency, near the corner, too, where a round takes more than twice as long as at low ones.
void TestEffects::springDecaysAsSet()
{
    for (const double s : {1.0, 1.8, 3.0}) {
        const auto y = throughChain("spring mix=1 corner=4300 decay=" + std::to_string(s), impulse(1.3 * s))[0];
        for (const double hz : {400.0, 1500.0, 3000.0, 4000.0}) {
            const double low = hz - 120.0, high = hz + 120.0; // ten of its modes
            const double before = bandDb(y, kRate, 0.2 * s, 0.5 * s, low, high),
                         after = bandDb(y, kRate, 0.8 * s, 1.1 * s, low, high);
            const double found = 0.6 * s * 60.0 / (before - after);
            QVERIFY2(std::abs(found / s - 1.0) < 0.08,
                     qPrintable(QString("%1 s at %2 Hz: %3").arg(s).arg(hz).arg(found)));
        }
    }
}

QTEST_APPLESS_MAIN(TestEffects)
#include "test_effects.moc"
