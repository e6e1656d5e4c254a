// What signals lose where they meet: closed forms of sums of sines, and lanes of one performance that were set against
// each other on purpose.

#include "core/advice/sum_findings.h"
#include "core/timing/sum_loss.h"
#include "support/chain.h"
#include "support/natural_guitar.h"

#include <QtTest/QtTest>
#include <random>

using namespace gristle;
using namespace gristle::core;
using gristle::test::NaturalPart;

namespace {

constexpr double kRate = 48000.0, kPi = std::numbers::pi;

/// Partials of changing chords, of which every delay is known exactly.
struct Chords {
    struct Partial {
        double hz, size, phase;
    };
    std::vector<std::vector<Partial>> bars;
    explicit Chords(unsigned seed)
    {
        std::mt19937 random(seed);
        std::uniform_real_distribution<double> turn(0.0, 2.0 * kPi), root(80.0, 200.0);
        for (int bar = 0; bar < 8; ++bar) {
            auto& partials = bars.emplace_back();
            for (const double ratio : {1.0, 1.498, 2.0})
                for (double hz = root(random) * ratio, n = 1.0; n * hz < 9000.0 && n < 40.0; ++n)
                    partials.push_back({n * hz, 0.02 / std::sqrt(n), turn(random)});
        }
    }
    std::vector<float> later(double ms, double sign = 1.0) const
    {
        std::vector<float> out;
        for (const auto& bar : bars) {
            std::vector<double> sum(std::size_t(kRate), 0.0);
            for (const Partial& p : bar) {
                const std::complex<double> turn = std::polar(1.0, 2.0 * kPi * p.hz / kRate);
                auto z = std::polar(p.size, p.phase - 2.0 * kPi * p.hz * 1e-3 * ms);
                for (double& v : sum) v += z.imag(), z *= turn;
            }
            for (std::size_t i = 0; i < sum.size(); ++i) {
                const double in = std::sin(kPi * double(i) / kRate); // the bar fades in and out
                out.push_back(float(sign * in * in * sum[i]));
            }
        }
        return out;
    }
    /// Of it and itself later: 2 A (1 + cos) over 2 A.
    double lossDb(double ms, double sign = 1.0) const
    {
        double both = 0.0, crossed = 0.0;
        for (const auto& bar : bars)
            for (const Partial& p : bar) {
                both += p.size * p.size;
                crossed += sign * p.size * p.size * std::cos(2.0 * kPi * p.hz * 1e-3 * ms);
            }
        return -10.0 * std::log10(1.0 + crossed / both);
    }
};

std::vector<std::string> codes(const std::vector<Finding>& findings)
{
    std::vector<std::string> out;
    for (const Finding& f : findings) out.push_back(f.code);
    return out;
}

std::vector<Finding> found(const std::vector<float>& a, const std::vector<float>& b)
{
    const auto sum = sumLoss({a, b}, kRate, 20.0);
    return sum ? meetingFindings({"one", "other"}, *sum, kRate) : std::vector<Finding>{};
}

bool has(const std::vector<Finding>& findings, const char* code)
{
    const auto all = codes(findings);
    return std::ranges::find(all, code) != all.end();
}

std::vector<float> naturalTake(std::size_t voice, NaturalPart part, unsigned seed)
{
    test::NaturalPlaying how;
    how.seconds = 10.0, how.seed = seed;
    return test::playNatural(test::naturalVoices()[voice], part, how, kRate).x;
}

} // namespace

class TestSum : public QObject {
    Q_OBJECT
private slots:
    void lossIsTheClosedForm_data();
    void lossIsTheClosedForm();
    void theBestOffsetBringsThemTogether();
    void manyAreSummed();
    void lanesThatFightAreFound_data();
    void lanesThatFightAreFound();
    void twoPerformancesAreLetBe();
    void badInputIsTold();
};

void TestSum::lossIsTheClosedForm_data()
{
    QTest::addColumn<double>("ms");
    QTest::addColumn<double>("sign");
    for (const double ms : {0.0, 0.1, 0.37, 1.0, 2.0, 7.3})
        for (const double sign : {1.0, -1.0}) QTest::addRow("%g ms %s", ms, sign > 0 ? "" : "inverted") << ms << sign;
}

void TestSum::lossIsTheClosedForm()
{
    QFETCH(double, ms);
    QFETCH(double, sign);
    const Chords chords(1);
    const auto a = chords.later(0.0), b = chords.later(ms, sign);
    const auto sum = sumLoss({a, b}, kRate, 20.0);
    QVERIFY(bool(sum));
    const double expected = std::min(80.0, chords.lossDb(ms, sign));
    QVERIFY2(expected > 60.0 ? sum->lossDb > 60.0 : std::abs(sum->lossDb - expected) < 0.1,
             qPrintable(QString("%1 dB, %2 expected").arg(sum->lossDb).arg(expected)));
    QVERIFY(std::abs(sum->pairs[0].delaySamples - 1e-3 * ms * kRate) < 0.00002 * kRate);
    QCOMPARE(sum->pairs[0].isInverted, sign < 0.0);
    // The curve over offsets is that of the same closed form: moved by x, it is later by ms + x.
    const std::vector<double> offsets{-3.0, -0.25, 0.0, 0.05, 1.0, 3.0};
    const auto curve = lossOverOffsets(a, b, kRate, offsets);
    for (std::size_t i = 0; i < offsets.size(); ++i)
        if (const double there = chords.lossDb(ms + offsets[i], sign); there < 12.0)
            QVERIFY2(std::abs(curve[i] - there) < 0.1,
                     qPrintable(QString("at %1: %2, %3 expected").arg(offsets[i]).arg(curve[i]).arg(there)));
}

void TestSum::theBestOffsetBringsThemTogether()
{
    const Chords chords(2);
    for (const double ms : {-1.3, 0.4, 12.0}) {
        const auto a = chords.later(0.0), b = chords.later(ms);
        const auto sum = sumLoss({a, b}, kRate, 20.0);
        QVERIFY2(std::abs(sum->bestOffsetMs + ms) < 0.005, qPrintable(QString::number(sum->bestOffsetMs)));
        QVERIFY(std::abs(sum->bestLossDb + 10.0 * std::log10(2.0)) < 0.05);
    }
}

void TestSum::manyAreSummed()
{
    const Chords chords(3);
    const auto a = chords.later(0.0), b = chords.later(0.0), c = chords.later(0.0, -1.0);
    const auto sum = sumLoss({a, b, c}, kRate, 20.0);
    // One is left of three: 3 A over 1 A.
    QVERIFY(std::abs(sum->lossDb - 10.0 * std::log10(3.0)) < 0.01);
    QCOMPARE(sum->pairs.size(), std::size_t(2));
    QCOMPARE(meetingFindings({"a", "b", "c"}, *sum, kRate).size(), std::size_t(1));
    QCOMPARE(QString::fromStdString(meetingFindings({"a", "b", "c"}, *sum, kRate)[0].subject), QString("c"));
}

void TestSum::lanesThatFightAreFound_data()
{
    QTest::addColumn<QString>("other");
    QTest::addColumn<double>("ms");
    QTest::addColumn<QByteArray>("code");
    const QString lane = "softclip drive=3 | eq high_cut=5000";
    QTest::newRow("one lane as the other") << lane << 0.0 << QByteArray();
    QTest::newRow("late") << lane << 0.3 << QByteArray("sum.late");
    QTest::newRow("late by little") << lane << 0.1 << QByteArray("sum.late");
    QTest::newRow("late by much") << lane << 2.0 << QByteArray("sum.late");
    QTest::newRow("inverted") << lane + " | polarity" << 0.0 << QByteArray("sum.inverted");
    QTest::newRow("driven and inverted") << "hardclip drive=6 | eq high_cut=4000 | polarity" << 0.0
                                         << QByteArray("sum.inverted");
    QTest::newRow("driven, late") << "hardclip drive=6 | eq high_cut=4000 | shift by=1.5" << 0.0
                                  << QByteArray("sum.late");
    QTest::newRow("through an amplifier, late")
        << "circuit voice=clean | eq high_cut=4000 | shift by=1.5" << 0.0 << QByteArray("sum.late");
    QTest::newRow("low cut on one") << lane + " | eq low_cut=180 low_slope=24" << 0.0 << QByteArray("sum.phase");
}

/// Two lanes of one take of a guitar that nobody tuned on.
void TestSum::lanesThatFightAreFound()
{
    QFETCH(QString, other);
    QFETCH(double, ms);
    QFETCH(QByteArray, code);
    for (const NaturalPart part : {NaturalPart::Riff, NaturalPart::Strum}) {
        const auto take = naturalTake(2, part, 5);
        const auto a = test::throughChain("softclip drive=3 | eq high_cut=5000", take)[0];
        auto b = test::throughChain(other.toStdString(), take)[0];
        if (ms != 0.0) b = movedEarlier(b, -1e-3 * ms * kRate, false);
        const auto findings = found(a, b);
        QString all;
        for (const auto& c : codes(findings)) all += QString::fromStdString(c) + " ";
        if (code.isEmpty())
            QVERIFY2(findings.empty(), qPrintable(all));
        else
            QVERIFY2(has(findings, code.constData()), qPrintable("found: " + all));
    }
}

void TestSum::twoPerformancesAreLetBe()
{
    for (const NaturalPart part : {NaturalPart::Riff, NaturalPart::Strum, NaturalPart::Lead}) {
        const auto a = naturalTake(2, part, 1), b = naturalTake(2, part, 2), c = naturalTake(0, part, 3);
        QVERIFY(found(a, b).empty());
        QVERIFY(found(a, c).empty());
    }
}

void TestSum::badInputIsTold()
{
    const Chords chords(4);
    const auto a = chords.later(0.0);
    const std::vector<float> silence(a.size(), 0.0f), little(100, 0.1f);
    QVERIFY(!sumLoss({a}, kRate, 20.0));
    QVERIFY(!sumLoss({a, silence}, kRate, 20.0));
    QVERIFY(!sumLoss({a, little}, kRate, 20.0));
    QVERIFY(!sumLoss({a, a}, kRate, 0.0));
    // One that is longer is summed to its end.
    auto longer = a;
    longer.resize(a.size() + 48000, 0.0f);
    QVERIFY(std::abs(sumLoss({a, longer}, kRate, 20.0)->lossDb + 3.0103) < 1e-3);
}

QTEST_GUILESS_MAIN(TestSum)
#include "test_sum.moc"
