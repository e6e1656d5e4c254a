// Pitch of one string: against strings whose first partial is known, sums of damped partials by the stiff string's law,
// and what is no string.

#include "core/measure/tuner.h"
#include "core/sim/performance.h"
#include "core/sim/plucked_string.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <random>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;

double centsBetween(double a, double b) { return 1200.0 * std::log2(a / b); }

/// Partials of a stiff string, each with a decay of its own; the first one is at `hz`.
std::vector<float> partials(double hz, double b, double seconds, double rateHz, unsigned seed)
{
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> phase(0.0, 6.28318), size(0.2, 1.0);
    const double base = hz / std::sqrt(1.0 + b);
    std::vector<float> out(std::size_t(seconds * rateHz));
    for (int n = 1; n <= 20; ++n) {
        const double f = n * base * std::sqrt(1.0 + b * n * n), start = phase(random), a = size(random) / n;
        if (f > 0.45 * rateHz) break;
        for (std::size_t i = 0; i < out.size(); ++i) {
            const double t = double(i) / rateHz;
            out[i] += float(0.2 * a * std::exp(-t * (0.5 + 0.4 * n)) * std::sin(6.283185307179586 * f * t + start));
        }
    }
    return out;
}

} // namespace

class TestTuner : public QObject {
    Q_OBJECT
private slots:
    void lawIsFound_data();
    void lawIsFound();
    void strings_data();
    void strings();
    void otherRates_data();
    void otherRates();
    void noiseAndHum();
    void weakFirstPartial();
    void noStringNoPitch_data();
    void noStringNoPitch();
    void notesHaveNames_data();
    void notesHaveNames();
    void chordsHaveNoPitch();
    void overARecording();
};

// Goals: half a cent in 0.3 s, from 30 to 1,200 Hz.
void TestTuner::lawIsFound_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("b");
    for (const double hz : {30.0, 30.87, 41.2, 55.3, 61.74, 82.41, 110.2, 146.83, 196.6, 246.94, 329.63, 440.9, 659.26,
                            880.0, 1046.5, 1200.0})
        for (const double b : {0.0, 6e-5, 4e-4}) QTest::addRow("%g Hz, B %g", hz, b) << hz << b;
}

void TestTuner::lawIsFound()
{
    QFETCH(double, hz);
    QFETCH(double, b);
    for (unsigned seed = 1; seed <= 5; ++seed) {
        const auto found = pitchOf(partials(hz, b, 0.3, kRate, seed), kRate);
        QVERIFY(found);
        QVERIFY2(std::abs(centsBetween(found->hz, hz)) < 0.5, qPrintable(QString::number(centsBetween(found->hz, hz))));
        if (hz < 500.0)
            QVERIFY2(std::abs(found->inharmonicity - b) < 3e-5, qPrintable(QString::number(found->inharmonicity)));
    }
}

// The simulated string: dispersion in the loop, a pick, a pickup somewhere along it.
void TestTuner::strings_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("b");
    QTest::addColumn<bool>("twoPlanes");
    for (const double hz : {41.2, 61.74, 73.42, 82.41, 110.0, 146.83, 196.0, 246.94, 329.63, 493.88, 659.26, 987.77})
        for (const double b : {0.0, 1e-4})
            for (const bool twoPlanes : {false, true})
                QTest::addRow("%g Hz, B %g%s", hz, b, twoPlanes ? ", two planes" : "") << hz << b << twoPlanes;
}

void TestTuner::strings()
{
    QFETCH(double, hz);
    QFETCH(double, b);
    QFETCH(bool, twoPlanes);
    PluckedNote note;
    note.hz = hz;
    note.inharmonicity = b;
    note.seconds = 1.0;
    if (twoPlanes) note.secondPlane = 0.3;
    const auto x = pluck(note, kRate);
    const auto found = pitchOf(std::span(x).subspan(960, 14400), kRate); // 20 ms after the onset
    QVERIFY(found);
    // The second plane is 0.7 cent higher: what is heard lies between.
    const double cents = centsBetween(found->hz, hz);
    QVERIFY2(cents > -0.5 && cents < (twoPlanes ? 0.85 : 0.5), qPrintable(QString::number(cents)));
}

void TestTuner::otherRates_data()
{
    QTest::addColumn<double>("rate");
    for (const double rate : {44100.0, 88200.0, 96000.0, 192000.0}) QTest::addRow("%g Hz", rate) << rate;
}

void TestTuner::otherRates()
{
    QFETCH(double, rate);
    for (const double hz : {36.7, 82.41, 1100.0}) {
        const auto found = pitchOf(partials(hz, 6e-5, 0.3, rate, 7), rate);
        QVERIFY(found);
        QVERIFY(std::abs(centsBetween(found->hz, hz)) < 0.5);
    }
}

// Noise 50 dB and mains hum 40 dB below the string.
void TestTuner::noiseAndHum()
{
    std::mt19937 random(3);
    std::normal_distribution<float> draw;
    for (const double hz : {82.41, 196.0, 329.63}) {
        auto x = partials(hz, 6e-5, 0.3, kRate, 2);
        double power = 0.0;
        for (const float v : x) power += double(v) * double(v) / double(x.size());
        for (std::size_t i = 0; i < x.size(); ++i)
            x[i] +=
                float(std::sqrt(power)) * (0.003f * draw(random) + 0.01f * float(std::sin(0.0065449847 * double(i))));
        const auto found = pitchOf(x, kRate);
        QVERIFY(found);
        QVERIFY2(std::abs(centsBetween(found->hz, hz)) < 1.0, qPrintable(QString::number(centsBetween(found->hz, hz))));
    }
}

// A pickup in the middle of the string hears no even partials; one near a node of the first hears little of it.
void TestTuner::weakFirstPartial()
{
    const double hz = 82.41;
    std::vector<float> x(14400);
    for (std::size_t i = 0; i < x.size(); ++i)
        for (const auto& [n, a] : {std::pair(1, 0.02), {2, 0.3}, {3, 0.5}, {4, 0.2}, {5, 0.2}})
            x[i] += float(a * std::sin(6.283185307179586 * n * hz * double(i) / kRate + n));
    const auto found = pitchOf(x, kRate);
    QVERIFY(found);
    QVERIFY(std::abs(centsBetween(found->hz, hz)) < 0.1);
}

void TestTuner::noStringNoPitch_data()
{
    QTest::addColumn<QString>("what");
    for (const char* what : {"silence", "noise", "a chord", "a fifth", "too short", "nothing at all"})
        QTest::newRow(what) << what;
}

void TestTuner::noStringNoPitch()
{
    QFETCH(QString, what);
    std::vector<float> x(14400);
    if (what == "noise") {
        std::mt19937 random(5);
        std::normal_distribution<float> draw(0.0f, 0.1f);
        for (float& v : x) v = draw(random);
    } else if (what == "a chord") {
        for (const double hz : {110.0, 138.9, 165.3, 221.5}) {
            const auto string = partials(hz, 6e-5, 0.3, kRate, unsigned(hz));
            for (std::size_t i = 0; i < x.size(); ++i) x[i] += string[i];
        }
    } else if (what == "a fifth") {
        for (const double hz : {82.41, 123.61}) test::add(x, partials(hz, 6e-5, 0.3, kRate, unsigned(hz)));
    } else if (what == "too short") {
        x = partials(110.0, 0.0, 0.15, kRate, 1);
    } else if (what == "nothing at all") {
        x.clear();
    }
    const auto found = pitchOf(x, kRate);
    QVERIFY2(!found, qPrintable(QString("%1 Hz").arg(found ? found->hz : 0.0)));
}

void TestTuner::notesHaveNames_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("reference");
    QTest::addColumn<QString>("name");
    QTest::addColumn<double>("cents");
    QTest::newRow("A4") << 440.0 << 440.0 << "A4" << 0.0;
    QTest::newRow("low E") << 82.4069 << 440.0 << "E2" << 0.0;
    QTest::newRow("low E, flat") << 82.4069 * std::exp2(-12.0 / 1200.0) << 440.0 << "E2" << -12.0;
    QTest::newRow("A of 442") << 440.0 << 442.0 << "A4" << 1200.0 * std::log2(440.0 / 442.0);
    QTest::newRow("B0") << 30.8677 << 440.0 << "B0" << 0.0;
    QTest::newRow("between B and C") << 261.6256 * std::exp2(-40.0 / 1200.0) << 440.0 << "C4" << -40.0;
    QTest::newRow("F sharp") << 184.9972 << 440.0 << "F#3" << 0.0;
}

void TestTuner::notesHaveNames()
{
    QFETCH(double, hz);
    QFETCH(double, reference);
    QFETCH(QString, name);
    QFETCH(double, cents);
    const NearestNote note = nearestNote(hz, reference);
    QCOMPARE(QString::fromStdString(note.name), name);
    QVERIFY(std::abs(note.cents - cents) < 0.01);
}

// Chords of the simulated player, whose strings are not quite in tune with each other: hardly ever taken for a string.
void TestTuner::chordsHaveNoPitch()
{
    using Frets = std::vector<std::pair<int, int>>;
    std::size_t taken = 0, windows = 0;
    for (const Frets& frets : {Frets{{0, 0}, {1, 2}}, Frets{{0, 3}, {1, 5}, {2, 5}}, Frets{{1, 0}, {2, 2}},
                               Frets{{0, 0}, {1, 2}, {2, 2}, {3, 1}, {4, 0}, {5, 0}}, Frets{{3, 0}, {4, 0}}}) {
        std::vector<WrittenNote> part;
        for (int k = 0; k < 4; ++k) part.push_back({.beat = 2.0 * k, .beats = 1.8, .frets = frets});
        const auto played = perform(part, 100.0, standardTuning(), {}, kRate);
        taken += pitchesOver(played.volts, kRate).size();
        windows += std::size_t(4 * 10 * 1.8 * 0.6); // ten a second
    }
    QVERIFY2(double(taken) < 0.1 * double(windows), qPrintable(QString("%1 of %2").arg(taken).arg(windows)));
}

// A string, a rest, another string: each is found where it sounds, and nothing in the rest.
void TestTuner::overARecording()
{
    std::vector<float> x;
    const auto add = [&](const std::vector<float>& more) { x.insert(x.end(), more.begin(), more.end()); };
    add(partials(110.0, 6e-5, 1.0, kRate, 1));
    add(std::vector<float>(48000));
    add(partials(146.83, 6e-5, 1.0, kRate, 2));
    const auto found = pitchesOver(x, kRate);
    QVERIFY(found.size() >= 14);
    for (const PitchMoment& m : found) {
        QVERIFY2(m.timeS < 1.15 || m.timeS > 1.85, qPrintable(QString::number(m.timeS)));
        if (m.timeS < 0.86) QVERIFY(std::abs(centsBetween(m.pitch.hz, 110.0)) < 0.5);
        if (m.timeS > 2.14) QVERIFY(std::abs(centsBetween(m.pitch.hz, 146.83)) < 0.5);
    }
}

QTEST_GUILESS_MAIN(TestTuner)
#include "test_tuner.moc"
