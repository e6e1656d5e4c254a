#include "core/rig/circuit/circuit_solver.h"
#include "core/rig/circuit/voices.h"
#include "support/simulator.h"

#include <QtTest/QtTest>
#include <cmath>
#include <numbers>
#include <numeric>

using namespace gristle::core;

namespace {

constexpr double kPi = std::numbers::pi;

/// A common-cathode stage behind a coupling capacitor, and what it drives.
Netlist oneStage(double sourceOhm = 100e3)
{
    Netlist n;
    const auto in = n.node(), coupled = n.node(), grid = n.node(), cathode = n.node(), plate = n.node(),
               supply = n.node(), out = n.node();
    n.setInput(in);
    n.supply(supply, 300.0);
    n.capacitor(in, coupled, 22e-9);
    n.resistor(coupled, Netlist::kGround, 1e6);
    n.resistor(coupled, grid, sourceOhm);
    n.resistor(cathode, Netlist::kGround, 1500.0);
    n.capacitor(cathode, Netlist::kGround, 10e-6);
    n.resistor(supply, plate, 100e3);
    n.capacitor(plate, out, 22e-9);
    n.resistor(out, Netlist::kGround, 470e3);
    n.setOutput(out);
    n.tube(plate, grid, cathode, Triode{});
    return n;
}

/// Two of them: the second one's grid loads the first one's plate, and an unbypassed cathode.
Netlist twoStages()
{
    Netlist n;
    const auto in = n.node(), grid1 = n.node(), cathode1 = n.node(), plate1 = n.node(), supply = n.node(),
               coupled = n.node(), grid2 = n.node(), cathode2 = n.node(), plate2 = n.node(), out = n.node();
    n.setInput(in);
    n.supply(supply, 320.0);
    n.resistor(in, grid1, 34e3);
    n.resistor(grid1, Netlist::kGround, 1e6);
    n.resistor(cathode1, Netlist::kGround, 1800.0);
    n.capacitor(cathode1, Netlist::kGround, 1e-6);
    n.resistor(supply, plate1, 120e3);
    n.capacitor(plate1, coupled, 10e-9);
    n.resistor(coupled, grid2, 220e3);
    n.resistor(grid2, Netlist::kGround, 470e3);
    n.resistor(cathode2, Netlist::kGround, 3300.0);
    n.resistor(supply, plate2, 150e3);
    n.capacitor(plate2, out, 22e-9);
    n.resistor(out, Netlist::kGround, 1e6);
    n.setOutput(out);
    n.tube(plate1, grid1, cathode1, Triode{});
    n.tube(plate2, grid2, cathode2, Triode{});
    return n;
}

/// The power of what is left below 20 kHz of a signal.
double audiblePower(const std::vector<double>& x, double rate)
{
    constexpr int kHalf = 300;
    std::vector<double> taps;
    for (int k = -kHalf; k <= kHalf; ++k) {
        const double t = k == 0 ? 1e-9 : k, w = 0.5 + 0.5 * std::cos(kPi * k / (kHalf + 1.0));
        taps.push_back(w * std::sin(2.0 * kPi * 20000.0 / rate * t) / (kPi * t));
    }
    double power = 0.0;
    for (std::size_t i = 0; i + taps.size() <= x.size(); i += 8) { // over 20 kHz nothing is left to fold
        const double y = std::inner_product(taps.begin(), taps.end(), x.begin() + long(i), 0.0);
        power += y * y;
    }
    return power;
}

/// What the solver is off by from Debian's circuit simulator, below 20 kHz, in dB of the output; NaN where the
/// simulator gave nothing. The input is loud for some 20 ms, then, from a whole cycle on, a hundredth of that:
/// blocking, and recovery from it.
double errorAgainstSimulator(const Netlist& n, double hz, double volts)
{
    constexpr double kSeconds = 0.04, kRate = 384000.0;
    const double turn = std::round(0.02 * hz) / hz;
    const auto input = [&](double t) { return (t < turn ? volts : 0.01 * volts) * std::sin(2.0 * kPi * hz * t); };
    const QString formula = QString("V=(time<%1?%2:%3)*sin(%4*time)")
                                .arg(turn, 0, 'g', 15)
                                .arg(volts)
                                .arg(0.01 * volts)
                                .arg(2.0 * kPi * hz, 0, 'g', 15);
    const auto expected = gristle::test::simulate(n, formula.toStdString(), kSeconds, 1e-6);
    if (expected.size() < 39000) return std::nan("");
    CircuitSolver solver(n, kRate);
    std::vector<double> miss, truth;
    for (int i = 0; i < int(kSeconds * kRate) - 8; ++i) {
        truth.push_back(gristle::test::valueAt(expected, i / kRate / 1e-6));
        miss.push_back(solver.step(input(i / kRate)) - truth.back());
    }
    return 10.0 * std::log10(audiblePower(miss, kRate) / audiblePower(truth, kRate));
}

} // namespace

class TestCircuit : public QObject {
    Q_OBJECT
private slots:
    void slopesAreThoseOfTheCurrents();
    void restIsWhereTheLawsMeet();
    void agreesWithTheCircuitSimulator_data();
    void agreesWithTheCircuitSimulator();
    void amplifierAgreesWithTheCircuitSimulator_data();
    void amplifierAgreesWithTheCircuitSimulator();
};

void TestCircuit::slopesAreThoseOfTheCurrents()
{
    for (const TubeLaw& t : {TubeLaw(Triode{}), TubeLaw(Pentode{})})
        for (const double vg : {-30.0, -4.0, -1.2, -0.1, 0.3, 2.0})
            for (const double vp : {20.0, 120.0, 260.0}) {
                constexpr double kStep = 1e-5;
                const TubeSlopes s = tubeSlopes(t, vg, vp);
                const auto slope = [&](double g, double p, double TubeCurrents::*which) {
                    return (tubeCurrents(t, vg + g, vp + p).*which - tubeCurrents(t, vg - g, vp - p).*which) / (2e-5);
                };
                const auto close = [](double a, double b) { return std::abs(a - b) <= 1e-4 * std::abs(b) + 1e-10; };
                QVERIFY(close(s.gridByGrid, slope(kStep, 0.0, &TubeCurrents::grid)));
                QVERIFY(close(s.plateByGrid, slope(kStep, 0.0, &TubeCurrents::plate)));
                QVERIFY(close(s.plateByPlate, slope(0.0, kStep, &TubeCurrents::plate)));
            }
}

// Ohm's law over the two resistors that the plate's current passes.
void TestCircuit::restIsWhereTheLawsMeet()
{
    const CircuitSolver solver(oneStage(), 384000.0);
    const double current = solver.restCurrents()[0].plate;
    const auto [vg, vp] = solver.restVoltages()[0];
    QVERIFY(std::abs(vp - (300.0 - current * (100e3 + 1500.0))) < 1e-3);
    QVERIFY(std::abs(vg + current * 1500.0) < 2e-3); // the grid's own small current goes through a megohm
    QVERIFY(current > 0.5e-3 && current < 1.5e-3);
}

void TestCircuit::agreesWithTheCircuitSimulator_data()
{
    QTest::addColumn<bool>("two");
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("volts");
    QTest::addColumn<double>("reach");
    // Goals: -60 dB for a stage, -40 for an amplifier of several, from clean to hard driven.
    for (const double hz : {80.0, 440.0, 5000.0})
        for (const double volts : {0.1, 3.0, 30.0})
            QTest::addRow("one stage, %g Hz, %g V", hz, volts) << false << hz << volts << -60.0;
    for (const double hz : {440.0, 5000.0})
        for (const double volts : {0.1, 30.0})
            QTest::addRow("two stages, %g Hz, %g V", hz, volts) << true << hz << volts << (hz < 1000.0 ? -60.0 : -40.0);
}

void TestCircuit::agreesWithTheCircuitSimulator()
{
    if (!gristle::test::hasSimulator()) QSKIP("ngspice is not installed: `./run test` installs it");
    QFETCH(bool, two);
    QFETCH(double, hz);
    QFETCH(double, volts);
    QFETCH(double, reach);
    const double errorDb = errorAgainstSimulator(two ? twoStages() : oneStage(), hz, volts);
    qInfo("%s: error %.1f dB", QTest::currentDataTag(), errorDb);
    QVERIFY2(errorDb < reach, qPrintable(QString::number(errorDb)));
}

void TestCircuit::amplifierAgreesWithTheCircuitSimulator_data()
{
    QTest::addColumn<int>("voice");
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("volts");
    QTest::newRow("clean, soft") << int(Voice::CleanHeadroom) << 440.0 << 0.05;
    QTest::newRow("clean, hard") << int(Voice::CleanHeadroom) << 110.0 << 1.0;
    QTest::newRow("cascade, soft") << int(Voice::TightCascade) << 440.0 << 0.005;
    QTest::newRow("cascade, hard") << int(Voice::TightCascade) << 110.0 << 0.3;
    QTest::newRow("cascade, hard, high") << int(Voice::TightCascade) << 1500.0 << 0.3;
}

// Goal: -40 dB for the whole amplifier, loudspeaker, sag and feedback.
void TestCircuit::amplifierAgreesWithTheCircuitSimulator()
{
    if (!gristle::test::hasSimulator()) QSKIP("ngspice is not installed: `./run test` installs it");
    QFETCH(int, voice);
    QFETCH(double, hz);
    QFETCH(double, volts);
    const double errorDb = errorAgainstSimulator(amplifierNetlist(Voice(voice), {}), hz, volts);
    qInfo("%s: error %.1f dB", QTest::currentDataTag(), errorDb);
    QVERIFY2(errorDb < -40.0, qPrintable(QString::number(errorDb)));
}

QTEST_APPLESS_MAIN(TestCircuit)
#include "test_circuit.moc"
