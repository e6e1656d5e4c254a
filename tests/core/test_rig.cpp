#include "core/advice/rig_findings.h"
#include "core/rig/circuit/tone_stack.h"
#include "core/rig/compiled_rig.h"
#include "core/rig/lane_path.h"
#include "core/rig/starting_points.h"
#include "support/rig_run.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>
#include <nlohmann/json.hpp>

using namespace gristle;
using namespace gristle::core;
using gristle::test::run;

namespace {

using Complex = std::complex<double>;

/// The tone stack's transfer by Gaussian elimination of the complex node equations: independent of the companion
/// method.
Complex toneTransfer(const ToneStackParts& p, const ToneControls& c, double hz)
{
    Complex a[6][7] = {};
    const auto y = [&](int i, int j, Complex g) { a[i][i] += g, a[j][j] += g, a[i][j] -= g, a[j][i] -= g; };
    const auto ground = [&](int i, Complex g) { a[i][i] += g; };
    const auto ohms = [](double r) { return Complex(1.0 / std::max(10.0, r)); };
    const auto farads = [&](double f) { return Complex(0.0, 2.0 * std::numbers::pi * hz * f); };
    ground(0, 1.0 / p.source);
    a[0][6] = 1.0 / p.source;
    y(0, 1, farads(p.trebleCap));
    y(1, 2, ohms(p.treblePot * (1.0 - c.treble)));
    y(2, 3, ohms(p.treblePot * c.treble));
    ground(2, 1.0 / p.load);
    y(0, 4, 1.0 / p.slope);
    y(4, 3, farads(p.bassCap));
    y(3, 5, ohms(p.bassPot * c.bass));
    y(4, 5, farads(p.middleCap));
    ground(5, ohms(p.middlePot * c.middle));
    for (int i = 0; i < 6; ++i) {
        int pivot = i;
        for (int r = i + 1; r < 6; ++r)
            if (std::abs(a[r][i]) > std::abs(a[pivot][i])) pivot = r;
        std::swap(a[i], a[pivot]);
        for (int r = 0; r < 6; ++r) {
            if (r == i) continue;
            const Complex f = a[r][i] / a[i][i];
            for (int k = i; k < 7; ++k) a[r][k] -= f * a[i][k];
        }
    }
    return a[2][6] / a[2][2];
}

} // namespace

class TestRig : public QObject {
    Q_OBJECT
private slots:
    void toneStackIsItsNetwork_data();
    void toneStackIsItsNetwork();
    void everyNodeDeclaresItself();
    void valuesAreChecked_data();
    void valuesAreChecked();
    void recallLineRoundTrips_data();
    void recallLineRoundTrips();
    void brokenLinesAreRefused_data();
    void brokenLinesAreRefused();
    void fileRoundTrips();
    void unknownNodesInFiles();
    void gainIsGain();
    void echoesStandInTime();
    void dottedEighthOfTheTempo();
    void lanesLineUp();
    void lanesThatFightAreTold_data();
    void lanesThatFightAreTold();
    void lanesStayApart();
    void lanesAreOpenedAndLeft();
    void impulseKeepsItsResponseAtAnotherRate();
    void startingPointsAreWhole();
    void missingImpulse();
    void filesStayInsideTheSession();
    void driveFollowsVolts();
};

void TestRig::toneStackIsItsNetwork_data()
{
    QTest::addColumn<double>("bass");
    QTest::addColumn<double>("middle");
    QTest::addColumn<double>("treble");
    for (const double b : {0.0, 0.5, 1.0})
        for (const double m : {0.0, 0.5, 1.0})
            for (const double t : {0.0, 0.5, 1.0}) QTest::addRow("%g %g %g", b, m, t) << b << m << t;
}

void TestRig::toneStackIsItsNetwork()
{
    QFETCH(double, bass);
    QFETCH(double, middle);
    QFETCH(double, treble);
    constexpr double kRate = 384000.0;
    const ToneControls controls{bass, middle, treble};
    ToneStack stack({}, controls, kRate);
    std::vector<double> h(1 << 17);
    for (std::size_t i = 0; i < h.size(); ++i) h[i] = stack.step(i == 0 ? 1.0 : 0.0);
    for (double hz = 20.0; hz <= 20000.0; hz *= 1.7) {
        Complex sum = 0.0, turn = 1.0;
        const Complex step = std::polar(1.0, -2.0 * std::numbers::pi * hz / kRate);
        for (const double v : h) sum += v * turn, turn *= step;
        const double off = 20.0 * std::log10(std::abs(sum) / std::abs(toneTransfer({}, controls, hz)));
        QVERIFY2(std::abs(off) < 0.1, qPrintable(QStringLiteral("%1 Hz: %2 dB").arg(hz).arg(off))); // goals: 0.1 dB
    }
}

void TestRig::everyNodeDeclaresItself()
{
    for (const NodeType& t : nodeTypes()) {
        QVERIFY(!t.type.empty() && !t.title.empty() && !t.about.empty() && t.make);
        QCOMPARE(findNodeType(t.type), &t);
        for (const ParameterSpec& p : t.parameters) {
            QVERIFY(!p.key.empty() && !p.label.empty() && !p.about.empty());
            if (p.kind != ParameterKind::File)
                QVERIFY2(bool(parseValue(t, p, p.initial)), p.key.c_str()); // the initial value is in range
        }
    }
}

void TestRig::valuesAreChecked_data()
{
    QTest::addColumn<QString>("line");
    for (const char* line :
         {"gain db=61", "gain db=nan", "gain db=loud", "delay time=0ms", "delay time=9s", "delay feedback=1.2",
          "delay mix=-0.1", "amplifier drive=11", "place law=5", "impulse file=\"\"", "drive tone=1"})
        QTest::newRow(line) << line;
}

void TestRig::valuesAreChecked()
{
    QFETCH(QString, line);
    const auto chain = parseRecallLine(line.toStdString());
    QVERIFY(!chain);
    QCOMPARE(chain.error().code, ErrorCode::Usage);
    QVERIFY(!chain.error().remedy.empty());
}

void TestRig::recallLineRoundTrips_data()
{
    QTest::addColumn<QString>("line");
    QTest::newRow("contract") << "gain db=6 | impulse file=cab.wav | delay time=1/8d tempo=104 feedback=0.4 mix=0.2";
    QTest::newRow("names with signs") << "impulse file=\"my {best}; cab | a \\\"b\\\".wav\"";
    QTest::newRow("lanes in lanes") << "gain | { drive ; { gain db=-3 ; } | place at=20 } | gain db=1";
    QTest::newRow("bypass") << "drive bypass=on | gain";
}

void TestRig::recallLineRoundTrips()
{
    QFETCH(QString, line);
    const auto chain = parseRecallLine(line.toStdString());
    QVERIFY(bool(chain));
    const auto again = parseRecallLine(recallLine(*chain));
    QVERIFY(bool(again));
    QVERIFY(*chain == *again);
}

void TestRig::brokenLinesAreRefused_data()
{
    QTest::addColumn<QString>("line");
    for (const char* line : {"nonsense", "gain db", "gain db=6 |", "| gain", "{ gain", "gain }", "gain ; gain",
                             "gain loud=1", "gain db=\"6", "{ gain } gain", "gain || gain"})
        QTest::newRow(line) << line;
    QTest::newRow("very deep") << QString(5000, '{');
}

void TestRig::brokenLinesAreRefused()
{
    QFETCH(QString, line);
    const auto chain = parseRecallLine(line.toStdString());
    QVERIFY(!chain);
    QCOMPARE(chain.error().code, ErrorCode::Usage);
}

void TestRig::fileRoundTrips()
{
    RigDocument rig;
    rig.name = "a rig";
    rig.version = 7;
    rig.di = DiStamp{-17.8, {4.5, false}, Octaves{-40, -12, -6, -5, -8, -14, -22, -41, -80}};
    rig.outputDb = -3.5;
    rig.chain = *parseRecallLine("drive drive=12 | { amplifier bass=2.5 ; delay time=1/4 bypass=on } | place at=-30");
    std::vector<std::string> warnings;
    const auto read = rigFromJson(rigToJson(rig), Unknown::Refuse, warnings);
    QVERIFY(bool(read));
    QVERIFY(*read == rig);
    QVERIFY(warnings.empty());
}

void TestRig::unknownNodesInFiles()
{
    const auto json = nlohmann::ordered_json::parse(
        R"({"gristle_rig":1,"chain":[{"node":"warp","x":1},{"node":"gain","db":3,"new":2}]})");
    std::vector<std::string> warnings;
    QCOMPARE(rigFromJson(json, Unknown::Refuse, warnings).error().code, ErrorCode::BadDocument);
    const auto read = rigFromJson(json, Unknown::Bypass, warnings);
    QVERIFY(read && read->chain[0].bypass);
    QCOMPARE(warnings.size(), std::size_t(2));
    // Typed anew, moved behind another and turned: what the line does not say stays with it.
    auto typed = parseRecallLine("boost | gain db=-2 | gain").value();
    keepUnknown(read->chain, typed);
    QVERIFY(typed[0].unknown.empty() && typed[2].unknown.empty());
    QCOMPARE(typed[1].unknown, std::string(R"({"new":2})"));
    const auto newer = nlohmann::ordered_json::parse(R"({"gristle_rig":99})");
    QCOMPARE(rigFromJson(newer, Unknown::Bypass, warnings).error().code, ErrorCode::NewerVersion);
    const auto outside = nlohmann::ordered_json::parse(R"({"gristle_rig":1,"chain":[{"node":"gain","db":300}]})");
    QCOMPARE(rigFromJson(outside, Unknown::Refuse, warnings).error().code, ErrorCode::OutOfRange);
}

void TestRig::gainIsGain()
{
    const auto x = test::whiteNoise(0.1, 1000);
    const auto y = run("gain db=-6.0206", x)[0];
    for (std::size_t i = 0; i < x.size(); ++i) QVERIFY(std::abs(y[i] - 0.5f * x[i]) < 1e-6f);
}

void TestRig::echoesStandInTime()
{
    std::vector<float> x(48000, 0.0f);
    x[0] = 1.0f;
    const auto y = run("delay time=100ms feedback=0.4 mix=0.25", x)[0];
    QVERIFY(std::abs(y[0] - 0.75f) < 1e-6f);
    double level = 0.25;
    for (std::size_t n = 4800; n < x.size(); n += 4800, level *= 0.4)
        QVERIFY(std::abs(double(y[n]) - level) < 1e-6); // 1 sample, exact here
    for (std::size_t n = 1; n < x.size(); ++n)
        if (n % 4800 != 0) QCOMPARE(y[n], 0.0f); // neither filtered nor modulated
}

void TestRig::dottedEighthOfTheTempo()
{
    // 0.75 of a quarter at 104 BPM: 20769.23 samples. The centre of the echo of a smooth pulse, to a part of a sample.
    std::vector<float> x(30000, 0.0f);
    for (int i = -40; i <= 40; ++i) x[std::size_t(100 + i)] = float(std::exp(-i * i / 200.0));
    const auto y = run("delay time=1/8d tempo=104 feedback=0 mix=1", x)[0];
    double sum = 0.0, moment = 0.0;
    for (std::size_t n = 20000; n < y.size(); ++n) sum += double(y[n]), moment += double(y[n]) * double(n);
    QVERIFY(std::abs(moment / sum - 100.0 - 0.75 * 60.0 / 104.0 * 48000.0) < 0.05); // world class: 0.05 sample
}

void TestRig::lanesThatFightAreTold_data()
{
    QTest::addColumn<QString>("chain");
    QTest::addColumn<double>("lossDb");
    // Closed forms, of two tones of 1 kHz: (1 + g^2) over the square of their sum.
    const double g = std::pow(10.0, -0.01);
    QTest::newRow("alike") << "{ gain ; gain }" << -10.0 * std::log10(2.0);
    QTest::newRow("nearly cancelled") << "{ gain ; polarity | gain db=-0.2 }"
                                      << 10.0 * std::log10((1.0 + g * g) / ((1.0 - g) * (1.0 - g)));
    QTest::newRow("a quarter late") << "{ gain ; shift by=0.25 }" << 0.0;
    QTest::newRow("three eighths late") << "{ gain ; shift by=0.375 }"
                                        << 10.0 * std::log10(2.0 / (2.0 + 2.0 * std::cos(0.75 * std::numbers::pi)));
    QTest::newRow("three alike, one inverted") << "{ gain ; gain ; polarity }" << 10.0 * std::log10(3.0);
}

void TestRig::lanesThatFightAreTold()
{
    QFETCH(QString, chain);
    QFETCH(double, lossDb);
    RigDocument rig;
    rig.chain = parseRecallLine(chain.toStdString()).value();
    CompileOptions options;
    options.context.rateHz = 48000.0;
    auto compiled = CompiledRig::compile(rig, options).value();
    std::vector<float> left(48000 * 4), right(left.size());
    for (std::size_t i = 0; i < left.size(); ++i)
        left[i] = float(0.1 * std::sin(2.0 * std::numbers::pi * 1000.0 * double(i) / 48000.0));
    for (std::size_t at = 0; at < left.size(); at += 1000) {
        AudioBlock b{{left.data() + at, right.data() + at}, 1, 1000};
        compiled.process(b);
    }
    QVERIFY(compiled.stages()[0].lanesLossDb.has_value());
    QVERIFY2(std::abs(*compiled.stages()[0].lanesLossDb - lossDb) < 0.05,
             qPrintable(QString("%1, %2 expected").arg(*compiled.stages()[0].lanesLossDb).arg(lossDb)));
    RenderReport report;
    report.stages = compiled.stages();
    const auto found = rigFindings(report, rig, std::nullopt, "rig");
    const auto told = std::ranges::find(found, "rig.lanes_cancel", &Finding::code);
    QCOMPARE(told != found.end(), lossDb > 1.0);
    if (lossDb > 10.0) QVERIFY(told->severity == Severity::Stop);
    compiled.reset();
    QVERIFY(!compiled.stages()[0].lanesLossDb.has_value());
}

void TestRig::lanesLineUp()
{
    // A driven lane has latency, a dry one none: a soft signal, for which the drive is nearly linear, adds up in phase.
    const auto x = test::sine(1000.0, 1e-3, 48000.0, 0.5);
    const auto y = run("{ ; drive drive=0 tone=12000 }", x)[0];
    const auto driven = run("drive drive=0 tone=12000", x)[0];
    for (std::size_t i = 0; i < x.size() - 10; ++i) QVERIFY(std::abs(y[i] - x[i] - driven[i]) < 1e-7f);
    QVERIFY(test::amplitudeAt(y, 1000.0, 48000.0, 4800) > 1.98e-3);
}

void TestRig::lanesStayApart()
{
    // Each lane is a channel of its own, in time with the other, whatever its latency and its channels.
    const auto x = test::sine(1000.0, 1e-3, 48000.0, 0.5);
    const auto y = run("{ drive drive=0 tone=12000 ; gain db=-6 } join=apart gain=6", x);
    QCOMPARE(y.size(), std::size_t(2));
    const auto driven = run("drive drive=0 tone=12000", x)[0];
    const float up = 1.9952623f, down = 0.5011872f;
    for (std::size_t i = 0; i < x.size() - 10; ++i) {
        QVERIFY(std::abs(y[0][i] - up * driven[i]) < 1e-7f);
        QVERIFY(std::abs(y[1][i] - up * down * x[i]) < 1e-7f);
    }
    // Of a lane with two sides their mean.
    const auto placed = run("{ place at=-100 ; } join=apart", x), sides = run("place at=-100", x);
    for (std::size_t i = 0; i < x.size() - 10; ++i)
        QVERIFY(std::abs(placed[0][i] - 0.5f * (sides[0][i] + sides[1][i])) < 1e-9f && placed[1][i] == x[i]);
    // Three lanes are no two outputs.
    RigDocument rig;
    rig.chain = parseRecallLine("{ ; ; gain } join=apart").value();
    const auto compiled = CompiledRig::compile(rig, {});
    QVERIFY(!compiled && compiled.error().message.find("here are 3") != std::string::npos);
}

void TestRig::lanesAreOpenedAndLeft()
{
    RigDocument rig;
    rig.chain = parseRecallLine("gate | { gain ; boost | { eq ; drive | limiter } | reverb } | delay").value();
    rig.outputDb = 3.0;
    LanePath path;
    QVERIFY(path.isOutermost() && !path.lane() && path.leadingUp() == 0);
    QVERIFY(path.straight(rig) == rig);
    QVERIFY(!path.open(rig, 0, 0) && !path.open(rig, 1, 2) && !path.open(rig, 9, 0)); // no lane is there
    QVERIFY(path.open(rig, 1, 1) && path.open(rig, 1, 1));
    QCOMPARE(recallLine(path.in(rig)), std::string("drive | limiter"));
    QCOMPARE(*path.lane(), std::size_t(1));
    QCOMPARE(recallLine(path.straight(rig).chain), std::string("gate | boost | drive | limiter"));
    QCOMPARE(path.leadingUp(), std::size_t(2));
    QCOMPARE(path.straight(rig).outputDb, 0.0); // what a lane gives, nothing behind it
    QCOMPARE(recallLine(path.withoutLane(rig).chain),
             std::string("gate | { gain ; boost | eq | reverb } | delay")); // one lane is no split
    // Another rig, in which the inner split is gone: back to the lane that is still there.
    RigDocument other;
    other.chain = parseRecallLine("gate | { gain ; boost | eq ; gain } | delay").value();
    path.fit(other);
    QCOMPARE(path.depth(), std::size_t(1));
    QCOMPARE(recallLine(path.withoutLane(other).chain), std::string("gate | { gain ; gain } | delay"));
    QCOMPARE(path.leave(), std::size_t(1));
    QVERIFY(path.isOutermost());
}

void TestRig::impulseKeepsItsResponseAtAnotherRate()
{
    QTemporaryDir dir;
    std::vector<float> h(400, 0.0f);
    for (std::size_t i = 0; i < h.size(); ++i)
        h[i] = float(std::exp(-double(i) / 40.0) * std::sin(0.2 * double(i) + 0.5) * 0.1);
    test::writeWav(dir, "an impulse.wav", {h}, 48000);
    const std::filesystem::path folder = dir.path().toStdString();
    for (const double hz : {200.0, 1000.0, 5000.0}) {
        double level[2];
        for (int k = 0; k < 2; ++k) {
            const double rate = k == 0 ? 48000.0 : 96000.0;
            const auto y =
                run("impulse file=\"an impulse.wav\"", test::sine(hz, 0.5, rate, 0.6), rate, 4096, folder)[0];
            level[k] = test::amplitudeAt(std::vector<float>(y.begin() + long(rate * 0.1), y.begin() + long(rate * 0.6)),
                                         hz, rate);
        }
        QVERIFY(std::abs(20.0 * std::log10(level[1] / level[0])) < 0.02);
    }
}

// Every starting point plays, names stages and controls that are there, and is within the goals' levels: loud playing
// comes out as a signal, not as silence.
void TestRig::startingPointsAreWhole()
{
    QCOMPARE(startingPoints().size(), std::size_t(8));
    std::vector<float> x = test::sine(196.0, 0.15, 48000.0, 0.6);
    for (const StartingPoint& point : startingPoints()) {
        const RigDocument rig = rigOf(point, "", 104.0);
        const std::string line = recallLine(rig.chain);
        QVERIFY(parseRecallLine(line).value() == rig.chain);
        for (const auto& control : point.controls) {
            const NodeType* type = findNodeType(control.stage);
            QVERIFY2(type && type->find(control.key), control.key);
            QVERIFY2(line.find(control.stage) != std::string::npos, control.stage);
        }
        const auto y = run(line, x);
        double power = 0.0;
        for (std::size_t i = 14400; i < 24000; ++i) power += double(y[0][i]) * double(y[0][i]) / 9600.0;
        QVERIFY2(std::isfinite(power) && power > 1e-4, point.title); // over -40 dBV
        QVERIFY2(power < 100.0, point.title);
    }
}

void TestRig::missingImpulse()
{
    RigDocument rig;
    rig.chain = *parseRecallLine("gain | impulse file=nowhere.wav");
    CompileOptions options;
    QCOMPARE(CompiledRig::compile(rig, options).error().code, ErrorCode::FileMissing);
    options.allowMissing = true;
    const auto allowed = CompiledRig::compile(rig, options);
    QVERIFY(bool(allowed));
    QCOMPARE(allowed->warnings().size(), std::size_t(1));
}

void TestRig::filesStayInsideTheSession()
{
    QTemporaryDir dir;
    QDir(dir.path()).mkdir("session");
    test::writeWav(dir, "outside.wav", {{1.0f}}, 48000);
    RigDocument rig;
    rig.chain = *parseRecallLine("impulse file=../outside.wav");
    CompileOptions options;
    options.context.folder = options.context.boundary = dir.filePath("session").toStdString();
    QCOMPARE(CompiledRig::compile(rig, options).error().code, ErrorCode::BadDocument);
}

void TestRig::driveFollowsVolts()
{
    // Its ceiling is half a volt, whatever drives it; little signal passes with the drive as gain.
    const auto loud = run("drive drive=40 tone=12000", test::sine(500.0, 1.0, 48000.0, 0.3))[0];
    for (std::size_t i = 2000; i < loud.size(); ++i)
        QVERIFY(std::abs(loud[i]) < 0.62f); // 0.5 V, and ripple of the filters
    const auto soft = run("drive drive=20 tone=12000", test::sine(500.0, 1e-4, 48000.0, 0.5))[0];
    QVERIFY(std::abs(20.0 * std::log10(test::amplitudeAt(soft, 500.0, 48000.0, 4800) / 1e-4) - 20.0) < 0.15);
}

QTEST_APPLESS_MAIN(TestRig)
#include "test_rig.moc"
