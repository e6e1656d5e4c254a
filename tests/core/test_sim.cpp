#include "core/sim/performance.h"
#include "core/sim/plucked_string.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>

using namespace gristle;
using namespace gristle::core;

namespace {

/// Over a Hann window.
double amplitudeAt(const std::vector<float>& x, double hz, std::size_t from, std::size_t frames)
{
    using Complex = std::complex<double>;
    const Complex turn = std::polar(1.0, -2.0 * std::numbers::pi * hz / 48000.0),
                  swell = std::polar(1.0, 2.0 * std::numbers::pi / double(frames));
    Complex at = 1.0, window = 1.0, sum = 0.0;
    for (std::size_t i = 0; i < frames; ++i, at *= turn, window *= swell)
        sum += (0.5 - 0.5 * window.real()) * double(x[from + i]) * at;
    return 4.0 / double(frames) * std::abs(sum);
}

/// How far the strongest frequency near `hz` is from it, by a fine search.
double centsOf(const std::vector<float>& x, double hz, std::size_t from, std::size_t frames)
{
    double best = 0.0, most = 0.0;
    for (double cents = -60.0; cents <= 60.0; cents += 4.0)
        if (const double a = amplitudeAt(x, hz * std::exp2(cents / 1200.0), from, frames); a > most)
            most = a, best = cents;
    for (double cents = best - 4.0, end = best + 4.0; cents <= end; cents += 0.25)
        if (const double a = amplitudeAt(x, hz * std::exp2(cents / 1200.0), from, frames); a > most)
            most = a, best = cents;
    return best;
}

} // namespace

class TestSim : public QObject {
    Q_OBJECT
private slots:
    void stringIsInTune_data();
    void stringIsInTune();
    void partialsOfAStiffString_data();
    void partialsOfAStiffString();
    void stiffnessByTheFormula();
    void planesBeatAndDecay();
    void bendsAndSlidesArrive();
    void aStringSoundsOneNoteAtATime();
    void thePickIsHeardBefore();
    void sameSeedSameSamples();
    void latenessIsPlayed();
    void interfaceClipsAndHums();
};

void TestSim::stringIsInTune_data()
{
    QTest::addColumn<double>("hz");
    for (const double hz : {73.42, 82.41, 146.83, 329.63, 659.26}) QTest::addRow("%g", hz) << hz;
}

void TestSim::stringIsInTune()
{
    QFETCH(double, hz);
    PluckedNote note;
    note.hz = hz;
    note.seconds = 2.0;
    const auto x = pluck(note, 48000.0);
    const double cents = centsOf(x, hz, 4800, 72000);
    QVERIFY2(std::abs(cents) <= 1.0, qPrintable(QString::number(cents)));
}

void TestSim::partialsOfAStiffString_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("b");
    QTest::newRow("low, wound") << 82.41 << 8e-5;
    QTest::newRow("fifth string, fifth fret") << 146.83 << 1.05e-4;
    QTest::newRow("third string") << 196.0 << 1.1e-4;
    QTest::newRow("third string, twelfth fret") << 392.0 << 4.4e-4;
    QTest::newRow("first string, twelfth fret") << 659.26 << 6e-5;
}

void TestSim::partialsOfAStiffString()
{
    QFETCH(double, hz);
    QFETCH(double, b);
    PluckedNote note;
    note.hz = hz, note.inharmonicity = b, note.seconds = 2.0, note.pickAt = 0.071, note.pickupAt = 0.061;
    const auto x = pluck(note, 48000.0);
    const double first = hz / std::sqrt(1.0 + b);
    for (int n = 1; n <= 16 && n * hz < 5000.0; ++n) {
        const double wanted = n * first * std::sqrt(1.0 + b * n * n);
        const double off = centsOf(x, wanted, 2400, 48000);
        // Allpass sections fit the formula; that single partials are off is heard from some 10 cents on.
        QVERIFY2(std::abs(off) <= 2.0, qPrintable(QString("partial %1: %2 cents").arg(n).arg(off)));
    }
}

void TestSim::stiffnessByTheFormula()
{
    // Steel, 0.4 mm, 78 N, 0.648 m: pi^3 * 200e9 * (0.4e-3)^4 / (64 * 78 * 0.648^2), worked out by hand.
    QVERIFY(std::abs(inharmonicityOf({0.4, 78.0}, 0.648) / 7.573e-5 - 1.0) < 1e-3);
    // Half the length at the same tension: four times.
    QVERIFY(std::abs(inharmonicityOf({0.4, 78.0}, 0.324) / inharmonicityOf({0.4, 78.0}, 0.648) - 4.0) < 1e-9);
}

void TestSim::planesBeatAndDecay()
{
    // Two planes split by 8 cents at 220 Hz beat at 220 (2^(8/1200) - 1) = 1.019 Hz: the first partial has its least
    // after half a beat, and its next most after a whole one.
    PluckedNote note;
    note.hz = 220.0, note.seconds = 3.0, note.secondPlane = 0.9, note.planeSplitCents = 8.0;
    const auto x = pluck(note, 48000.0);
    note.secondPlane = 0.0;
    const auto alone = pluck(note, 48000.0);
    std::vector<double> envelope; // of the first partial against that of the first plane alone, every 10 ms
    for (std::size_t at = 4800; at + 4800 < x.size(); at += 480)
        envelope.push_back(amplitudeAt(x, 220.5, at - 2400, 4800) / amplitudeAt(alone, 220.0, at - 2400, 4800));
    const auto until = envelope.begin() + 100; // to 1.1 s
    const auto least = std::min_element(envelope.begin(), until);
    const double leastS = 0.1 + 0.01 * double(least - envelope.begin());
    QVERIFY2(std::abs(leastS - 0.491) < 0.04, qPrintable(QString::number(leastS)));
    QVERIFY(*std::max_element(least, until) > 1.3 * *least);
    // Without the second plane it only falls.
    QVERIFY(amplitudeAt(alone, 220.0, 24000, 4800) > amplitudeAt(alone, 220.0, 48000, 4800));
}

void TestSim::bendsAndSlidesArrive()
{
    PlayingStyle style;
    style.timingSdMs = 0.0, style.tuningSdCents = 0.0, style.secondPlane = 0.0;
    for (const auto kind : {Glide::Kind::Bend, Glide::Kind::Slide}) {
        WrittenNote note{0.0, 6.0, {{3, 5}}, 0.8, false, {}};
        note.glides = {{2.0, 1.0, 2.0, kind}, {4.0, 0.5, -3.0, kind}};
        const auto p = perform({note}, 120.0, standardTuning(), style, 48000.0);
        const double hz = standardTuning()[3] * std::exp2(5.0 / 12.0);
        const auto frame = [&](double beat) { return std::size_t((p.onsetS[0] + beat * 0.5) * 48000.0); };
        const auto at = [&](double semitones, double beat) {
            return centsOf(p.volts, hz * std::exp2(semitones / 12.0), frame(beat), 16800);
        };
        QVERIFY(std::abs(at(0.0, 1.0)) < 3.0);
        QVERIFY(std::abs(at(2.0, 3.1)) < 3.0);
        QVERIFY(std::abs(at(-1.0, 4.8)) < 3.0);
        // Half way a bend is between the frets, and a slide stands on one.
        const double half = centsOf(p.volts, hz * std::exp2(1.0 / 12.0), frame(2.52), 4800);
        if (kind == Glide::Kind::Slide) QVERIFY2(std::abs(half) < 20.0, qPrintable(QString::number(half)));
    }
}

void TestSim::aStringSoundsOneNoteAtATime()
{
    // The first note is written to ring on; the second is on the same string, far above it.
    PlayingStyle style;
    style.timingSdMs = 0.0;
    const std::vector<WrittenNote> part{{0.0, 8.0, {{0, 0}}, 0.8, false, {}}, {2.0, 6.0, {{0, 12}}, 0.8, false, {}}};
    const auto p = perform(part, 120.0, standardTuning(), style, 48000.0);
    const std::size_t later = std::size_t((p.onsetS[1] + 0.3) * 48000.0);
    // 82.4 Hz is no partial of the octave.
    QVERIFY(amplitudeAt(p.volts, 82.41, later, 24000) < 0.003 * amplitudeAt(p.volts, 164.81, later, 24000));
}

void TestSim::thePickIsHeardBefore()
{
    PlayingStyle style;
    style.timingSdMs = 0.0;
    const auto before = [&](double noise) {
        style.pickNoise = noise;
        const auto p = perform({{0.0, 1.0, {{0, 0}}, 0.9, false, {}}}, 120.0, standardTuning(), style, 48000.0);
        const std::size_t onset = std::size_t(p.onsetS[0] * 48000.0);
        float most = 0.0f;
        for (std::size_t i = onset - 400; i < onset; ++i) most = std::max(most, std::abs(p.volts[i]));
        return most;
    };
    QCOMPARE(before(0.0), 0.0f);
    QVERIFY(before(1.0) > 1e-4f);
}

void TestSim::sameSeedSameSamples()
{
    const std::vector<WrittenNote> part{{0.0, 1.0, {{0, 0}, {1, 2}}, 0.8, false}, {1.0, 1.0, {{0, 3}}, 0.6, true}};
    PlayingStyle a, b;
    b.seed = 2;
    const auto one = perform(part, 120.0, standardTuning(), a, 48000.0),
               two = perform(part, 120.0, standardTuning(), a, 48000.0);
    QVERIFY(one.volts == two.volts);
    QVERIFY(one.volts != perform(part, 120.0, standardTuning(), b, 48000.0).volts);
    QCOMPARE(one.onsetS.size(), part.size());
}

void TestSim::latenessIsPlayed()
{
    std::vector<WrittenNote> part;
    for (int i = 0; i < 16; ++i) part.push_back({double(i), 0.9, {{0, 0}}, 0.8, false});
    PlayingStyle style;
    style.timingSdMs = 0.0;
    style.lateFromBeat = 8.0, style.lateToBeat = 12.0, style.lateMs = 25.0;
    const auto p = perform(part, 120.0, standardTuning(), style, 48000.0);
    for (int i = 0; i < 16; ++i) {
        const double expected = style.leadInS + i * 0.5 + (i >= 8 && i < 12 ? 0.025 : 0.0);
        QVERIFY(std::abs(p.onsetS[std::size_t(i)] - expected) < 1e-9);
    }
}

void TestSim::interfaceClipsAndHums()
{
    const auto volts = test::sine(1000.0, 10.0, 48000.0, 0.1);
    const auto clipped = digitise(volts, {}, 48000.0);
    QCOMPARE(*std::ranges::max_element(clipped), 1.0f);
    SimulatedInterface interface;
    interface.humDbfs = -50.0;
    interface.noiseDbfs = -120.0;
    const auto hum = digitise(std::vector<float>(48000 * 2, 0.0f), interface, 48000.0);
    double squares = 0.0;
    for (const float v : hum) squares += double(v) * double(v);
    QVERIFY(std::abs(10.0 * std::log10(2.0 * squares / double(hum.size())) + 50.0) < 0.1);
    interface.gainDb = 6.0206;
    interface.humDbfs = -200.0;
    const auto one = digitise(std::vector<float>(10, 1.0f), interface, 48000.0);
    QVERIFY(std::abs(double(one[5]) - 2.0 / 4.361086) < 1e-4); // +12 dBu: 1.0 is 4.36 V
}

QTEST_APPLESS_MAIN(TestSim)
#include "test_sim.moc"
