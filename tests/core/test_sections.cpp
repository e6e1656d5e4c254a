#include "core/rig/circuit/circuit_solver.h"
#include "core/rig/circuit/voices.h"
#include "support/linear_circuit.h"

#include <QtTest/QtTest>
#include <algorithm>
#include <cmath>
#include <numbers>

using namespace gristle::core;

namespace {

constexpr double kPi = std::numbers::pi;
constexpr double kPlayedHz = 336000.0;

/// A tube with nothing about it: its voltages are what they are, whatever it draws.
TubeTable bare(const TubeLaw& law, double gridV, double plateV)
{
    return TubeTable({law, {}, 0.0, gridV, plateV, 0.9 * plateV, 1e-5});
}

/// What a pair draws once its voltages have stood still: those of the one, those of the other.
std::array<double, 4> drawn(TubePair& pair, const std::array<double, 4>& volts)
{
    const TubePair::Four to{volts[0], volts[1], volts[2], volts[3]}, nothing{};
    TubePair::Four out;
    for (int i = 0; i < 4; ++i) pair.step(nothing, to, out);
    return {out[0], out[1], out[2], out[3]};
}

} // namespace

class TestSections : public QObject {
    Q_OBJECT
private slots:
    void aPairGoesByItsLaws_data();
    void aPairGoesByItsLaws();
    void halvesOfAPairAreStrangers();
    void sectionsLoadEachOther_data();
    void sectionsLoadEachOther();
    void anAmplifierInSectionsIsTheAmplifier_data();
    void anAmplifierInSectionsIsTheAmplifier();
    void theSameControlsGoOn();
    void aBadSampleIsForgottenAtReset_data();
    void aBadSampleIsForgottenAtReset();
};

void TestSections::aPairGoesByItsLaws_data()
{
    QTest::addColumn<double>("grid");
    QTest::addColumn<double>("plate");
    QTest::newRow("at rest") << -1.5 << 180.0;
    QTest::newRow("nearly cut off") << -3.2 << 250.0;
    QTest::newRow("cut off") << -12.0 << 300.0;
    QTest::newRow("grid drawing") << 0.8 << 90.0;
    QTest::newRow("wide open") << 2.0 << 60.0;
}

// Truth: the published laws themselves, of a triode and a pentode side by side.
void TestSections::aPairGoesByItsLaws()
{
    QFETCH(double, grid);
    QFETCH(double, plate);
    constexpr double kMoreGrid = 8.0; // a pentode's grid goes about so much further
    const TubeTable triode = bare(Triode{}, -1.5, 180.0), pentode = bare(Pentode{}, -38.0, 360.0);
    TubePair pair(triode, pentode);
    const auto rest = [](const TubeLaw& law, double gridV, double plateV) {
        const auto [gridA, plateA] = tubeCurrents(law, gridV, plateV);
        return TubePort{.volts = {gridV, plateV}, .now = {gridA, plateA}};
    };
    pair.set(0, rest(Triode{}, -1.5, 180.0));
    pair.set(1, rest(Pentode{}, -38.0, 360.0));
    pair.rest();
    const auto out = drawn(pair, {grid, plate, kMoreGrid * grid, plate});
    const auto [triodeGrid, triodePlate] = tubeCurrents(Triode{}, grid, plate);
    const auto [pentodeGrid, pentodePlate] = tubeCurrents(Pentode{}, kMoreGrid * grid, plate);
    // Of some 3 and 200 mA: what a table between its rows is off by.
    for (const auto& [found, wanted, most] : {std::tuple(out[0], triodeGrid, 3e-3),
                                              {out[1], triodePlate, 3e-3},
                                              {out[2], pentodeGrid, 0.2},
                                              {out[3], pentodePlate, 0.2}})
        QVERIFY2(std::abs(found - wanted) < 2e-3 * (most + std::abs(wanted)),
                 qPrintable(QString("%1 A for %2").arg(found).arg(wanted)));
}

// One tube's signal, bends and all, changes no bit of the other's, on either side.
void TestSections::halvesOfAPairAreStrangers()
{
    const TubeTable triode = bare(Triode{}, -1.5, 180.0);
    TubePair quiet(triode, triode), loud(triode, triode), turned(triode, triode);
    const TubePair::Four nothing{};
    double most = 0.0;
    for (int i = 0; i < 2000; ++i) {
        const double soft = -1.5 + 0.5 * std::sin(0.01 * i), hard = -1.5 + 6.0 * std::sin(0.3 * i);
        TubePair::Four a, b, c;
        quiet.step(nothing, TubePair::Four{soft, 180.0, -1.5, 180.0}, a);
        loud.step(nothing, TubePair::Four{soft, 180.0, hard, 120.0}, b);
        turned.step(nothing, TubePair::Four{hard, 120.0, soft, 180.0}, c);
        for (int k = 0; k < 2; ++k) {
            QCOMPARE(std::bit_cast<std::uint64_t>(a[k]), std::bit_cast<std::uint64_t>(b[k]));
            QCOMPARE(std::bit_cast<std::uint64_t>(a[k]), std::bit_cast<std::uint64_t>(c[2 + k]));
            QCOMPARE(std::bit_cast<std::uint64_t>(b[2 + k]), std::bit_cast<std::uint64_t>(c[k]));
        }
        most = std::max(most, std::abs(a[1] - b[3]));
    }
    QVERIFY(most > 1e-3); // they were two different signals
}

void TestSections::sectionsLoadEachOther_data()
{
    QTest::addColumn<double>("hz");
    for (const double hz : {60.0, 300.0, 500.0, 900.0, 3000.0}) QTest::addRow("%g Hz", hz) << hz;
}

// The second rung of a ladder loads the first, up to 9 dB here: that is there, though each is a section of its own.
void TestSections::sectionsLoadEachOther()
{
    QFETCH(double, hz);
    constexpr double kFirstOhm = 47e3, kFirstF = 10e-9, kSecondOhm = 10e3, kSecondF = 22e-9, kRate = 384000.0;
    const std::vector sections{gristle::test::rung(kFirstOhm, kFirstF), gristle::test::rung(kSecondOhm, kSecondF)};
    CircuitSolver solver(sections, kRate);
    QCOMPARE(solver.late(), std::size_t(1));
    using namespace std::complex_literals;
    const std::complex<double> s = 2.0i * kPi * hz, first = s * kFirstOhm * kFirstF, second = s * kSecondOhm * kSecondF,
                               wanted = 1.0 / (1.0 + first + second + s * kFirstOhm * kSecondF + first * second),
                               found =
                                   gristle::test::gainOf(solver, hz, kRate) * std::polar(1.0, 2.0 * kPi * hz / kRate);
    QVERIFY2(std::abs(found - wanted) < 2e-3 * std::abs(wanted),
             qPrintable(QString("%1 of it off").arg(std::abs(found - wanted) / std::abs(wanted))));
}

void TestSections::anAmplifierInSectionsIsTheAmplifier_data()
{
    QTest::addColumn<int>("voice");
    QTest::addColumn<double>("volts");
    QTest::addColumn<double>("master");
    QTest::addColumn<double>("reach");
    for (const auto& [voice, name] : {std::pair(Voice::CleanHeadroom, "clean"), {Voice::TightCascade, "tight"}})
        for (const double volts : {0.005, 0.3, 4.0}) {
            QTest::addRow("%s, %g V", name, volts) << int(voice) << volts << 0.4 << -75.0;
            // Nothing then keeps what the driver's grid draws from the stage before.
            QTest::addRow("%s, %g V, master open", name, volts) << int(voice) << volts << 1.0 << -50.0;
        }
}

// What the second section is to the first is carried on from two samples ago: little is lost by that, as the solver in
// one section shows, which the circuit simulator is compared with for itself.
void TestSections::anAmplifierInSectionsIsTheAmplifier()
{
    QFETCH(int, voice);
    QFETCH(double, volts);
    QFETCH(double, master);
    QFETCH(double, reach);
    const AmplifierControls controls{.drive = 0.8, .master = master};
    CircuitSolver whole(amplifierNetlist(Voice(voice), controls), kPlayedHz),
        apart(amplifierSections(Voice(voice), controls), kPlayedHz);
    double off = 0.0, all = 0.0, before = 0.0;
    for (int i = 0; i < int(0.1 * kPlayedHz); ++i) { // loud, then soft: blocking, and recovery from it
        const double x = (i < 0.05 * kPlayedHz ? volts : 0.01 * volts) * std::sin(2.0 * kPi * 1500.0 * i / kPlayedHz);
        const double miss = apart.step(x) - before;
        before = whole.step(x);
        off += miss * miss;
        all += before * before;
    }
    QVERIFY2(off < std::pow(10.0, reach / 10.0) * all, qPrintable(QString("%1 dB").arg(10.0 * std::log10(off / all))));
}

void TestSections::theSameControlsGoOn()
{
    const auto sections = amplifierSections(Voice::TightCascade, {});
    CircuitSolver before(sections, kPlayedHz), after(sections, kPlayedHz);
    const auto input = [](int i) { return 0.3 * std::sin(0.005 * i); };
    for (int i = 0; i < 5000; ++i) before.step(input(i));
    after.takeOver(before);
    double most = 0.0;
    for (int i = 5000; i < 10000; ++i) {
        const double y = before.step(input(i));
        most = std::max(most, std::abs(y));
        const double miss = std::abs(after.step(input(i)) - y);
        QVERIFY2(miss < 1e-5, qPrintable(QString("sample %1: %2 V off").arg(i).arg(miss)));
    }
    QVERIFY(most > 1.0);
}

void TestSections::aBadSampleIsForgottenAtReset_data()
{
    QTest::addColumn<int>("part");
    QTest::newRow("whole") << int(AmplifierPart::Whole);
    QTest::newRow("preamp, a section alone") << int(AmplifierPart::Preamp);
}

void TestSections::aBadSampleIsForgottenAtReset()
{
    QFETCH(int, part);
    const auto sections = amplifierSections(Voice::CleanHeadroom, {}, {}, AmplifierPart(part));
    CircuitSolver hurt(sections, kPlayedHz), fresh(sections, kPlayedHz);
    for (const double bad : {std::nan(""), HUGE_VAL, 1e300}) {
        hurt.step(bad);
        for (int i = 0; i < 100; ++i) hurt.step(0.1);
        hurt.reset();
        fresh.reset();
        for (int i = 0; i < 1000; ++i)
            QCOMPARE(hurt.step(0.1 * std::sin(0.01 * i)), fresh.step(0.1 * std::sin(0.01 * i)));
    }
}

QTEST_APPLESS_MAIN(TestSections)
#include "test_sections.moc"
