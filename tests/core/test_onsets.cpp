// Onsets against sounds whose beginnings are exact by their making, and what must not change them.

#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "core/timing/double_take.h"
#include "support/sampled_guitar.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>
#include <numbers>
#include <random>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;

/// Plucks by their formula: partials that begin at once and die away, the higher ones sooner.
std::vector<float> plucks(const std::vector<double>& onsetS, const std::vector<double>& hz, double rateHz,
                          double lasts = 0.5)
{
    std::vector<float> out(std::size_t((onsetS.back() + 1.0) * rateHz));
    for (std::size_t n = 0; n < onsetS.size(); ++n) {
        const auto first = std::size_t(std::ceil(onsetS[n] * rateHz));
        const std::size_t end = std::min(out.size(), first + std::size_t(8.0 * lasts * rateHz)); // 100 dB down
        for (int h = 1; h <= 12; ++h) {
            const std::complex<double> s(-(1.0 + 0.4 * h) / lasts, 2.0 * std::numbers::pi * h * hz[n % hz.size()]);
            const auto step = std::exp(s / rateHz);
            auto z = 0.1 / h * std::exp(s * (double(first) / rateHz - onsetS[n]));
            for (std::size_t i = first; i < end; ++i, z *= step) out[i] += float(z.imag());
        }
    }
    return out;
}

std::vector<double> atHand(int count, double apartS, unsigned seed)
{
    std::mt19937 random(seed);
    std::normal_distribution<double> hand(0.0, 0.01);
    std::vector<double> out;
    for (int i = 0; i < count; ++i) out.push_back(0.6 + apartS * i + hand(random));
    return out;
}

std::vector<double> timesOf(const std::vector<Onset>& onsets)
{
    std::vector<double> out;
    for (const Onset& o : onsets) out.push_back(o.timeS);
    return out;
}

double farthestMs(const std::vector<double>& a, const std::vector<double>& b)
{
    double most = 0.0;
    for (std::size_t i = 0; i < std::min(a.size(), b.size()); ++i)
        most = std::max(most, 1000.0 * std::abs(a[i] - b[i]));
    return most;
}

std::vector<float> scaled(std::vector<float> x, float by)
{
    for (float& v : x) v *= by;
    return x;
}

/// A string as Karplus and Strong had it: a burst of noise, another each time, goes round and loses its top. Nothing of
/// the program's own strings is in it: no scrape, no stiffness, no pickup.
class PlainString {
public:
    explicit PlainString(std::mt19937& random) : random_(random) {}
    void pluck(double hz, double strength, bool muted)
    {
        std::normal_distribution<double> noise;
        std::uniform_real_distribution<double> part;
        const auto length = std::size_t(kRate / hz);
        std::vector<double> burst(length);
        const double dull = 0.3 + 0.3 * part(random_);
        double held = 0.0;
        for (double& v : burst) v = held += dull * (noise(random_) - held);
        const auto at = std::size_t(double(length) * (0.1 + 0.1 * part(random_))); // where the pick is
        ring_.assign(length, 0.0);
        for (std::size_t i = 0; i < length; ++i) ring_[i] = strength * (burst[i] - burst[(i + length - at) % length]);
        at_ = 0, last_ = 0.0, keeps_ = muted ? 0.93 : 0.9965;
    }
    double next()
    {
        if (ring_.empty()) return 0.0;
        const double v = ring_[at_];
        ring_[at_] = keeps_ * 0.5 * (v + last_);
        last_ = v;
        at_ = (at_ + 1) % ring_.size();
        return v;
    }

private:
    std::mt19937& random_;
    std::vector<double> ring_;
    std::size_t at_ = 0;
    double last_ = 0.0, keeps_ = 0.0;
};

/// Singles over four strings, muted sixteenths on one, or strums of five, by such strings that ring until plucked
/// again.
std::vector<float> plainStrings(const QString& kind, const std::vector<double>& onsetS, unsigned seed, double drive)
{
    constexpr int kFrets[8] = {0, 3, 5, 7, 5, 3, 2, 0}, kShape[5] = {0, 2, 2, 1, 0};
    constexpr double kOpen[6] = {82.41, 110.0, 146.8, 196.0, 246.9, 329.6};
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> part;
    std::normal_distribution<double> noise;
    struct Pluck {
        std::size_t at, string;
        int fret;
    };
    std::vector<Pluck> all;
    for (std::size_t i = 0; i < onsetS.size(); ++i)
        if (kind == "strums")
            for (std::size_t s = 0; s < 5; ++s)
                all.push_back({std::size_t((onsetS[i] + 0.002 * double(s) * (0.7 + 0.6 * part(random))) * kRate), s,
                               2 * int(i / 2 % 3) + kShape[s]});
        else
            all.push_back({std::size_t(onsetS[i] * kRate), kind == "singles" ? 1 + i / 4 % 4 : 0,
                           kFrets[kind == "singles" ? i % 8 : i / 4 % 8]});
    std::ranges::sort(all, {}, &Pluck::at);
    std::vector<PlainString> strings(6, PlainString(random));
    std::vector<float> out(std::size_t((onsetS.back() + 1.0) * kRate));
    std::size_t next = 0;
    for (std::size_t i = 0; i < out.size(); ++i) {
        for (; next < all.size() && all[next].at == i; ++next)
            strings[all[next].string].pluck(kOpen[all[next].string] * std::exp2(all[next].fret / 12.0),
                                            0.6 + 0.4 * part(random), kind == "muted");
        double sum = 1e-4 * noise(random);
        for (PlainString& s : strings) sum += s.next();
        out[i] = float(drive > 0.0 ? 0.3 * std::tanh(0.3 * drive * sum) : 0.15 * sum);
    }
    return out;
}

} // namespace

class TestOnsets : public QObject {
    Q_OBJECT
private slots:
    void plucksByTheirFormula_data()
    {
        QTest::addColumn<double>("rate");
        QTest::addColumn<double>("apart");
        for (const double rate : {44100.0, 48000.0, 96000.0})
            for (const double apart : {0.12, 0.25, 0.5}) QTest::addRow("%g Hz, %g s", rate, apart) << rate << apart;
    }
    void plucksByTheirFormula()
    {
        QFETCH(double, rate);
        QFETCH(double, apart);
        const auto truth = atHand(24, apart, 3);
        const auto found = timesOf(findOnsets(plucks(truth, {110.0, 146.8, 196.0, 82.4}, rate), rate));
        QCOMPARE(found.size(), truth.size());
        QVERIFY2(farthestMs(found, truth) < 1.5, qPrintable(QString("%1 ms").arg(farthestMs(found, truth))));
    }

    /// What is done to a whole recording moves no onset: its level, polarity, an offset, silence before it.
    void whatMustNotMatter()
    {
        const auto truth = atHand(20, 0.3, 5);
        const auto x = plucks(truth, {98.0, 130.8, 164.8}, kRate);
        const auto found = timesOf(findOnsets(x, kRate));
        QCOMPARE(found.size(), truth.size());
        for (const float by : {0.01f, -1.0f, 3.0f}) {
            const auto other = timesOf(findOnsets(scaled(x, by), kRate));
            QCOMPARE(other.size(), found.size());
            QVERIFY(farthestMs(other, found) < 0.05);
        }
        std::vector<float> later(24000, 0.0f);
        later.insert(later.end(), x.begin(), x.end());
        auto moved = timesOf(findOnsets(later, kRate));
        QCOMPARE(moved.size(), found.size());
        for (double& t : moved) t -= 0.5;
        QVERIFY(farthestMs(moved, found) < 0.05);
    }

    /// Strings of a strum within 45 ms are one note, two plucks further apart are two.
    void aStrumIsOne()
    {
        for (const auto& [apartS, notes] : {std::pair(0.012, 8), {0.030, 8}, {0.075, 16}}) {
            std::vector<double> truth;
            for (int i = 0; i < 8; ++i) truth.push_back(0.5 + 0.6 * i), truth.push_back(0.5 + 0.6 * i + apartS);
            const auto found = findOnsets(plucks(truth, {110.0, 164.8}, kRate), kRate);
            QVERIFY2(int(found.size()) == notes, qPrintable(QString("%1 s: %2").arg(apartS).arg(found.size())));
        }
    }

    /// No note begins where a sound only moves.
    void whatIsNoNote_data()
    {
        QTest::addColumn<QString>("what");
        for (const char* what : {"beats", "bend", "vibrato", "fades in", "tremolo"})
            QTest::newRow(what) << QString(what);
    }
    void whatIsNoNote()
    {
        QFETCH(QString, what);
        std::vector<float> x(std::size_t(6.0 * kRate));
        double phase = 0.0;
        for (std::size_t i = 0; i < x.size(); ++i) {
            const double t = double(i) / kRate, pi = std::numbers::pi;
            double hz = 196.0, level = 0.3 * std::min(1.0, t / 0.002);
            if (what == "bend") hz *= std::exp2(std::clamp(t - 2.0, 0.0, 0.5) / 3.0);
            if (what == "vibrato") hz *= std::exp2(0.025 * std::sin(2.0 * pi * 5.5 * t));
            if (what == "fades in") level *= std::clamp(0.2 + 0.3 * t, 0.0, 1.0);
            if (what == "tremolo") level *= 0.75 + 0.25 * std::sin(2.0 * pi * 4.0 * t);
            phase += hz / kRate;
            double v = 0.0;
            for (int h = 1; h < 8; ++h) v += std::sin(2.0 * pi * h * phase) / h;
            if (what == "beats") v += std::sin(2.0 * pi * 1.006 * phase) + 0.5 * std::sin(2.0 * pi * 2.013 * phase);
            x[i] = float(level * v * 0.5);
        }
        const auto found = findOnsets(x, kRate);
        QVERIFY2(found.size() <= 1 && (found.empty() || found[0].timeS < 0.05),
                 qPrintable(
                     QString("%1, the last at %2 s").arg(found.size()).arg(found.empty() ? 0.0 : found.back().timeS)));
    }

    /// A sampled guitar through an amplifier, the same notes at many strengths: soft ones swell under loud ones.
    void drivenAtManyStrengths()
    {
        std::mt19937 random(9);
        std::vector<test::SampledNote> notes;
        constexpr int kPitches[] = {40, 47, 43, 55};
        for (int i = 0; i < 96; ++i)
            notes.push_back({0.5 + 0.3 * i, 0.26, kPitches[i / 4 % 4], 70 + int(random() % 50)});
        const auto x = test::playSampled(notes, test::SampledGuitar::Overdriven, 48000, 31.0, 0.5);
        if (x.empty()) QSKIP("no synthesiser with a sound font here");
        const auto found = findOnsets(x, kRate);
        double hit = 0.0;
        for (const auto& n : notes) {
            const double truth = test::sampledOnsetS(n.startS, kRate) + 0.01; // in the middle of its attack
            hit += std::ranges::any_of(found, [&](const Onset& o) { return std::abs(o.timeS - truth) < 0.025; });
        }
        const double f1 = 2.0 * hit / double(found.size() + notes.size());
        QVERIFY2(f1 > 0.95, qPrintable(QString("F1 %1").arg(f1)));
    }

    /// Goals on strings of another make: F1 0.98, places and pairs to 1.5 ms; here they are reached by far.
    void stringsOfAnotherMake_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<double>("drive");
        for (const QString kind : {"singles", "muted", "strums"})
            for (const double drive : {0.0, 3.0, 20.0})
                QTest::newRow(qPrintable(QString("%1, drive %2").arg(kind).arg(drive))) << kind << drive;
    }
    void stringsOfAnotherMake()
    {
        QFETCH(QString, kind);
        QFETCH(double, drive);
        std::mt19937 random(5);
        std::normal_distribution<double> hand(0.0, 0.006);
        std::vector<double> first, second;
        for (int i = 0; i < 100; ++i) {
            const double t = 0.6 + (kind == "singles" ? 0.25 : kind == "muted" ? 0.125 : 0.5) * i;
            first.push_back(t + hand(random)), second.push_back(t + 0.007 + hand(random));
        }
        const auto a = plainStrings(kind, first, 1, drive), b = plainStrings(kind, second, 2, drive);
        const auto found = timesOf(findOnsets(a, kRate));
        QVERIFY(std::abs(double(found.size()) - 100.0) <= 2.0);
        if (found.size() == first.size()) QVERIFY(farthestMs(found, first) < 10.0); // of a strum: any of its strings
        const auto take = comparePerformances(a, b, kRate).value();
        QVERIFY(take.notes.size() >= 98 && !take.isCopy && !take.isUnrelated);
        double squares = 0.0, within = 0.0;
        for (const NotePair& n : take.notes) {
            const auto near = std::ranges::min_element(first, {}, [&](double t) { return std::abs(t - n.timeS); });
            const double off = n.offsetMs - 1000.0 * (second[std::size_t(near - first.begin())] - *near);
            squares += off * off / double(take.notes.size());
            within += std::abs(off) < 2.0 * n.offsetDoubtMs;
        }
        QVERIFY2(std::sqrt(squares) < 0.5, qPrintable(QString("%1 ms").arg(std::sqrt(squares))));
        QVERIFY(within > 0.95 * double(take.notes.size()));
    }

    /// Second against first is first against second inverted.
    void theOtherWayRound()
    {
        PlayingStyle one, other;
        one.seed = 3, other.seed = 8, other.timingMeanMs = 6.0, other.tuningCents = 4.0;
        const auto part = brokenChords(8, 4.0);
        const auto a = perform(part, 112.0, standardTuning(), one, kRate).volts;
        const auto b = scaled(perform(part, 112.0, standardTuning(), other, kRate).volts, 0.5f);
        const auto there = comparePerformances(a, b, kRate).value(), back = comparePerformances(b, a, kRate).value();
        QCOMPARE(there.notes.size(), back.notes.size());
        for (std::size_t i = 0; i < there.notes.size(); ++i) {
            const NotePair &p = there.notes[i], &q = back.notes[i];
            QVERIFY(std::abs(p.offsetMs + q.offsetMs) < 2.0 * (p.offsetDoubtMs + q.offsetDoubtMs));
            QVERIFY(std::abs(p.levelDb + q.levelDb) < 0.01);
            if (p.cents && q.cents) QVERIFY(std::abs(*p.cents + *q.cents) < 2.0 * (p.centsDoubt + q.centsDoubt));
        }
        QVERIFY(std::abs(there.levelDifferenceDb + back.levelDifferenceDb) < 0.01);
        QVERIFY(std::abs(there.driftMs + back.driftMs) < there.driftDoubtMs);
        QCOMPARE(there.unmatchedFirst, back.unmatchedSecond);
    }

    /// The same performance at half its strength is the same, and the doubts say how little else it could be.
    void onesOwnCopyHasNoDoubt()
    {
        PlayingStyle style;
        style.seed = 4;
        const auto a = perform(rhythmRiff(6), 118.0, standardTuning(), style, kRate).volts;
        const auto take = comparePerformances(a, scaled(a, 0.5f), kRate).value();
        QVERIFY(take.isCopy);
        for (const NotePair& n : take.notes) {
            QVERIFY2(std::abs(n.offsetMs) < 0.03 && std::abs(n.levelDb + 6.02) < 0.01,
                     qPrintable(QString("%1 ms, %2 dB at %3").arg(n.offsetMs).arg(n.levelDb).arg(n.timeS)));
            QVERIFY(n.offsetDoubtMs < 1.0);
            if (n.cents) QVERIFY(std::abs(*n.cents) < 0.01 && n.centsDoubt < 0.2);
        }
    }
};

QTEST_APPLESS_MAIN(TestOnsets)
#include "test_onsets.moc"
