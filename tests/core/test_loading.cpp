#include "core/audio/audio_reader.h"
#include "core/rig/compiled_rig.h"
#include "core/rig/nodes/loading.h"
#include "support/signals.h"

#include <Eigen/Dense>
#include <QFile>
#include <QProcess>
#include <QStandardPaths>
#include <QtTest/QtTest>
#include <cstdio>

using namespace gristle;
using namespace gristle::core;

namespace {

using Complex = std::complex<double>;

/// A set-up by the keys of the node.
GuitarCircuit setup(const std::string& line)
{
    const auto chain = parseRecallLine("loading " + line);
    Q_ASSERT(chain);
    return guitarCircuitOf(completeValues(*findNodeType("loading"), chain->front().values));
}

double db(Complex h) { return 20.0 * std::log10(std::abs(h)); }

double taper(double turn) { return (std::pow(81.0, turn / 10.0) - 1.0) / 80.0; }

/// The same circuit by its node equations, as a matrix: nodes 0 behind the coil, 1 the volume's wiper, 2 behind the
/// buffer. Another method than the chain of two-ports.
Complex byNodes(const GuitarCircuit& g, double hz)
{
    const Complex jw(0.0, 2.0 * std::numbers::pi * hz);
    Eigen::Matrix3cd y = Eigen::Matrix3cd::Zero();
    Eigen::Vector3cd i = Eigen::Vector3cd::Zero();
    const auto ground = [&](int node, Complex admittance) { y(node, node) += admittance; };
    const auto between = [&](int a, int b, Complex admittance) {
        y(a, a) += admittance, y(b, b) += admittance, y(a, b) -= admittance, y(b, a) -= admittance;
    };
    const Complex coil = 1.0 / (1.0 / (jw * g.pickup.inductanceH) + 1.0 / g.pickup.lossOhm) + g.pickup.resistanceOhm;
    ground(0, 1.0 / coil);
    i(0) = 1.0 / coil; // a source of one volt behind it
    ground(0, jw * g.pickup.capacitanceF);
    const auto& c = g.controls;
    const Complex tone = 1.0 / (taper(c.tone) * c.toneOhm + 1.0 / (jw * c.toneF));
    ground(c.wiring == ToneWiring::BeforeVolume ? 0 : 1, tone);
    const double below = std::max(taper(c.volume) * c.volumeOhm, 1e-3);
    between(0, 1, 1.0 / (c.volumeOhm - below + 1e-6));
    ground(1, 1.0 / below);
    ground(1, jw * g.cable.metres * g.cable.pFPerMetre * 1e-12);
    const InputImpedance& first = g.buffer ? g.buffer->input : g.input;
    ground(1, Complex(1.0 / first.ohm) + jw * first.farad);
    if (!g.buffer) {
        ground(2, 1.0);
        return y.partialPivLu().solve(i)(1);
    }
    ground(2, 1.0 / g.buffer->outputOhm); // driven by the wiper's voltage, drawing nothing from it
    y(2, 1) -= 1.0 / g.buffer->outputOhm;
    ground(2, jw * g.buffer->after.farad() + 1.0 / g.input.ohm + jw * g.input.farad);
    return y.partialPivLu().solve(i)(2);
}

const char* const kSetups[] = {"",
                               "input=68",
                               "input=68 buffer=input",
                               "input=68 buffer=guitar cable=12",
                               "pickup=double cable=10 pots=250",
                               "pickup=wide volume=6 cable=15",
                               "pickup=hot volume=7 tone=3 wiring=after",
                               "tone=0",
                               "volume=0",
                               "henry=3.3 coil_kohm=7 coil_pf=200 input=10000 cable=0"};

void rows()
{
    QTest::addColumn<QString>("line");
    for (const char* line : kSetups) QTest::newRow(*line ? line : "as initial") << line;
}

} // namespace

class TestLoading : public QObject {
    Q_OBJECT
private slots:
    void agreesWithTheNodeEquations_data() { rows(); }
    void agreesWithTheNodeEquations();
    void agreesWithTheCircuitSimulator_data() { rows(); }
    void agreesWithTheCircuitSimulator();
    void resonanceOfAPlainCoil_data();
    void resonanceOfAPlainCoil();
    void noPeakNoResonance();
    void aBufferBringsItBack();
    void filterIsTheQuotient_data();
    void filterIsTheQuotient();
    void nodeIsTransparentWhereNothingChanged();
};

void TestLoading::agreesWithTheNodeEquations()
{
    QFETCH(QString, line);
    const GuitarCircuit g = setup(line.toStdString());
    for (double hz = 20.0; hz <= 20000.0; hz *= 1.06) {
        const double ours = db(responseAt(g, hz)), nodes = db(byNodes(g, hz));
        QVERIFY2(std::abs(ours - nodes) < 0.01, qPrintable(QString("%1 Hz: %2, %3").arg(hz).arg(ours).arg(nodes)));
    }
}

void TestLoading::agreesWithTheCircuitSimulator()
{
    if (QStandardPaths::findExecutable("ngspice").isEmpty())
        QSKIP("ngspice is not installed: `./run test` installs it");
    QFETCH(QString, line);
    const GuitarCircuit g = setup(line.toStdString());
    // The netlist in docs/circuits, with this set-up's values.
    QFile netlist(GRISTLE_SOURCE_DIR "/docs/circuits/loading.cir");
    QVERIFY(netlist.open(QIODevice::ReadOnly));
    QString text = QString::fromUtf8(netlist.readAll());
    const double below = std::max(taper(g.controls.volume) * g.controls.volumeOhm, 1e-3);
    const bool before = g.controls.wiring == ToneWiring::BeforeVolume;
    const InputImpedance first = g.buffer ? g.buffer->input : g.input;
    const Buffer behind = g.buffer.value_or(Buffer{});
    const std::pair<const char*, double> values[] = {
        {"coil_ohm", g.pickup.resistanceOhm},
        {"coil_henry", g.pickup.inductanceH},
        {"coil_loss", g.pickup.lossOhm},
        {"coil_farad", g.pickup.capacitanceF},
        {"tone_before", before ? taper(g.controls.tone) * g.controls.toneOhm + 1e-6 : 1e12},
        {"tone_after", before ? 1e12 : taper(g.controls.tone) * g.controls.toneOhm + 1e-6},
        {"tone_farad", g.controls.toneF},
        {"volume_above", std::max(1e-6, g.controls.volumeOhm - below)},
        {"volume_below", below},
        {"cable_farad", g.cable.farad() + 1e-18},
        {"first_ohm", first.ohm},
        {"first_farad", first.farad},
        {"buffer_ohm", behind.outputOhm},
        {"after_farad", (g.buffer ? behind.after.farad() : 0.0) + 1e-18},
        {"input_ohm", g.buffer ? g.input.ohm : 1e12},
        {"input_farad", g.buffer ? g.input.farad : 1e-18}};
    for (const auto& [name, value] : values) text.replace(QString("{%1}").arg(name), QString::number(value, 'g', 15));
    text.replace("{out}", g.buffer ? "out" : "wiper");
    QTemporaryDir dir;
    text.replace("{file}", dir.filePath("response.txt"));
    QVERIFY2(!text.contains('{'), "the netlist asks for a value that the test does not give");
    QFile filled(dir.filePath("loading.cir"));
    QVERIFY(filled.open(QIODevice::WriteOnly));
    filled.write(text.toUtf8());
    filled.close();
    QProcess run;
    run.start("ngspice", {"-b", filled.fileName()});
    QVERIFY(run.waitForFinished(30000));
    QFile answer(dir.filePath("response.txt"));
    QVERIFY2(answer.open(QIODevice::ReadOnly), run.readAllStandardError().constData());
    int points = 0;
    for (const QByteArray& row : answer.readAll().split('\n')) {
        double hz = 0.0, level = 0.0;
        if (std::sscanf(row.constData(), "%lf %lf", &hz, &level) != 2 || hz < 20.0 || hz > 20000.0) continue;
        const double ours = db(responseAt(g, hz));
        QVERIFY2(std::abs(ours - level) < 0.05,
                 qPrintable(QString("%1 Hz: %2, ngspice %3").arg(hz).arg(ours).arg(level)));
        ++points;
    }
    QVERIFY(points >= 60);
}

void TestLoading::resonanceOfAPlainCoil_data()
{
    QTest::addColumn<double>("q");
    for (const double q : {1.0, 2.0, 5.0}) QTest::addRow("Q %g", q) << q;
}

void TestLoading::resonanceOfAPlainCoil()
{
    // Coil, capacitance, and a load that sets Q: a second-order low pass in closed form.
    // f_peak = f0 sqrt(1 - 1 / (2 Q^2)); f0 = 1 / (2 pi sqrt(L C)); Q = R sqrt(C / L) of a parallel load.
    QFETCH(double, q);
    GuitarCircuit g;
    g.pickup = {1e-3, 2.0, 500e-12, 1e15};
    g.controls = {1e15, 10.0, 1e15, 22e-9, 10.0, ToneWiring::BeforeVolume};
    g.cable.metres = 0.0;
    g.input = {q * std::sqrt(2.0 / 500e-12), 0.0};
    const double f0 = 1.0 / (2.0 * std::numbers::pi * std::sqrt(2.0 * 500e-12));
    const auto r = resonanceOf(g);
    QVERIFY(r.hz && r.q);
    QVERIFY(std::abs(*r.hz / (f0 * std::sqrt(1.0 - 0.5 / (q * q))) - 1.0) < 1e-3);
    QVERIFY(std::abs(*r.q / q - 1.0) < 0.01);
}

void TestLoading::noPeakNoResonance()
{
    const auto r = resonanceOf(setup("input=20"));
    QVERIFY(!r.hz && !r.q);
}

void TestLoading::aBufferBringsItBack()
{
    const double direct = insertionLossDb(setup("input=68"), 4000.0),
                 buffered = insertionLossDb(setup("input=68 buffer=input"), 4000.0),
                 high = insertionLossDb(setup("input=1000"), 4000.0);
    QVERIFY(direct > 5.0);          // a low input dulls the guitar
    QVERIFY(buffered < high + 0.2); // a buffer of 1 Mohm is as good as an input of 1 Mohm but for its own 0.1 dB
    GuitarCircuit ideal = setup("");
    ideal.input = {1e15, 0.0};
    QVERIFY(std::abs(insertionLossDb(ideal, 3000.0)) < 1e-6);
}

void TestLoading::filterIsTheQuotient_data()
{
    QTest::addColumn<double>("rate");
    for (const double rate : {44100.0, 48000.0, 96000.0, 192000.0}) QTest::addRow("%g Hz", rate) << rate;
}

void TestLoading::filterIsTheQuotient()
{
    QFETCH(double, rate);
    const GuitarCircuit from = setup(""), to = setup("pickup=narrow input=68 cable=12 tone=6");
    const auto h = loadingFilter(from, to, rate);
    for (double hz = 60.0; hz <= 16000.0; hz *= 1.1) {
        Complex sum = 0.0;
        for (std::size_t i = 0; i < h.size(); ++i)
            sum += double(h[i]) * std::polar(1.0, -2.0 * std::numbers::pi * hz * double(i) / rate);
        const double wanted = db(responseAt(to, hz)) - db(responseAt(from, hz));
        QVERIFY2(std::abs(db(sum) - wanted) < 0.05,
                 qPrintable(QString("%1 Hz: %2, %3").arg(hz).arg(db(sum)).arg(wanted)));
    }
    // Minimum phase: no other filter of that magnitude has more of its energy this early.
    double early = 0.0, all = 0.0;
    for (std::size_t i = 0; i < h.size(); ++i) {
        all += double(h[i]) * double(h[i]);
        if (double(i) < rate * 0.001) early += double(h[i]) * double(h[i]);
    }
    QVERIFY(early > 0.95 * all);
}

void TestLoading::nodeIsTransparentWhereNothingChanged()
{
    RigDocument rig;
    rig.chain = *parseRecallLine("loading");
    CompileOptions options;
    options.maxBlock = 4096;
    auto compiled = CompiledRig::compile(rig, options);
    QVERIFY(bool(compiled));
    auto x = test::whiteNoise(0.1, 30000);
    const auto before = x;
    std::vector<float> other(4096);
    for (std::size_t at = 0; at < x.size(); at += 4096) {
        AudioBlock block{{x.data() + at, other.data()}, 1, std::min<std::size_t>(4096, x.size() - at)};
        compiled->process(block);
    }
    const std::size_t late = compiled->latency();
    for (std::size_t i = late; i < x.size(); ++i) QVERIFY(std::abs(x[i] - before[i - late]) < 1e-5f);
}

QTEST_GUILESS_MAIN(TestLoading)
#include "test_loading.moc"
