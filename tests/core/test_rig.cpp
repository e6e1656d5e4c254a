#include "core/rig/circuit/tone_stack.h"
#include "core/rig/compiled_rig.h"
#include "core/rig/lane_path.h"
#include "core/rig/starting_points.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>
#include <nlohmann/json.hpp>

using namespace gristle;
using namespace gristle::core;

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

/// Runs a chain over mono volts and returns the first channel with the latency taken out, and the second where there is
/// one.
std::vector<std::vector<float>> run(const std::string& line, std::vector<float> x, double rate = 48000.0,
                                    std::size_t block = 512, const std::filesystem::path& folder = {})
{
    RigDocument rig;
    auto chain = parseRecallLine(line);
    if (!chain) qFatal("%s", chain.error().line().c_str());
    rig.chain = *chain;
    CompileOptions options;
    options.context.rateHz = rate;
    options.context.folder = folder;
    auto compiled = CompiledRig::compile(rig, options);
    if (!compiled) qFatal("%s", compiled.error().line().c_str());
    const std::size_t late = compiled->latency();
    x.resize(x.size() + late, 0.0f);
    std::vector<std::vector<float>> out{x, std::vector<float>(x.size())};
    std::size_t channels = 1;
    for (std::size_t at = 0, n = 0; at < x.size(); at += n) {
        n = block > 0 ? std::min(block, x.size() - at) : std::min<std::size_t>(1 + at % 997, x.size() - at);
        AudioBlock b{{out[0].data() + at, out[1].data() + at}, 1, n};
        compiled->process(b);
        channels = b.channels;
    }
    out.resize(channels);
    for (auto& side : out) side.erase(side.begin(), side.begin() + long(late));
    return out;
}

const char* const kChains[] = {"gain db=6",
                               "drive drive=30",
                               "amplifier drive=8",
                               "circuit voice=clean drive=8",
                               "circuit voice=tight sag=8",
                               "delay time=100ms feedback=0.5 mix=0.5",
                               "place at=-40",
                               "loading input=68 cable=12",
                               "humcomb mains=50.02",
                               "gate threshold=-40",
                               "compressor threshold=-30 ratio=8",
                               "drive | gate threshold=-40 | compressor",
                               "eq low_cut=80 low_slope=24 db1=6 q1=2 low_db=-4 high_db=5 high_cut=9000 high_slope=18",
                               "{ gain db=-6 ; drive ; delay time=20ms } | place"};

/// A node with values anywhere in their ranges, as a recall line. Nodes that need a file get none and are left out.
std::string anyLine(const NodeType& type, unsigned seed)
{
    std::minstd_rand random(seed * 7919u + 17u);
    const auto part = [&] { return double(random() % 10001) / 10000.0; };
    std::string line = type.type;
    for (const ParameterSpec& p : type.parameters) {
        line += " " + p.key + "=";
        switch (p.kind) {
        case ParameterKind::Choice: line += p.choices[random() % p.choices.size()]; break;
        case ParameterKind::Time: line += std::to_string(1 + random() % 900) + "ms"; break;
        case ParameterKind::File: return {};
        case ParameterKind::Number: {
            const double x = p.scale == Scale::Logarithmic ? p.min * std::pow(p.max / p.min, part())
                                                           : p.min + (p.max - p.min) * part();
            line += valueText(std::clamp(x, p.min, p.max));
        }
        }
    }
    return line;
}

/// Every node of the registry, with its own values and with some of anybody's.
void everyNode()
{
    QTest::addColumn<QString>("line");
    for (const NodeType& type : nodeTypes())
        for (unsigned seed = 0; seed < 3; ++seed) {
            const std::string line = seed == 0 ? type.type : anyLine(type, seed);
            if (!anyLine(type, 1).empty())
                QTest::addRow("%s %u", type.type.c_str(), seed) << QString::fromStdString(line);
        }
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
    void lanesStayApart();
    void lanesAreOpenedAndLeft();
    void anySplitGivesTheSame_data();
    void anySplitGivesTheSame();
    void silenceStaysSilent_data();
    void silenceStaysSilent();
    void anyNodeAnySplit_data() { everyNode(); }
    void anyNodeAnySplit();
    void anyNodeFallsSilent_data() { everyNode(); }
    void anyNodeFallsSilent();
    void anyNodeIsBounded_data() { everyNode(); }
    void anyNodeIsBounded();
    void everyControlDoesSomething_data();
    void everyControlDoesSomething();
    void conditionsAreTrue_data();
    void conditionsAreTrue();
    void anyNodeIsWrittenAndRead_data() { everyNode(); }
    void anyNodeIsWrittenAndRead();
    void bypassDoesNothing_data() { everyNode(); }
    void bypassDoesNothing();
    void latencyIsTrue_data();
    void latencyIsTrue();
    void stableAtEveryRate_data();
    void stableAtEveryRate();
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

void TestRig::anySplitGivesTheSame_data()
{
    QTest::addColumn<QString>("line");
    for (const char* line : kChains) QTest::newRow(line) << line;
}

void TestRig::anySplitGivesTheSame()
{
    QFETCH(QString, line);
    const auto x = test::whiteNoise(0.2, 9000);
    const auto one = run(line.toStdString(), x, 48000.0, 4096), odd = run(line.toStdString(), x, 48000.0, 0),
               small = run(line.toStdString(), x, 48000.0, 1);
    QVERIFY(one == odd && one == small); // world class: bit-exact
}

void TestRig::silenceStaysSilent_data() { anySplitGivesTheSame_data(); }
void TestRig::silenceStaysSilent()
{
    QFETCH(QString, line);
    for (const auto& side : run(line.toStdString(), std::vector<float>(48000, 0.0f)))
        for (const float v : side) QVERIFY(std::abs(v) < 1e-6f); // -120 dBV: rounding of an offset stage
}

void TestRig::anyNodeAnySplit()
{
    QFETCH(QString, line);
    const auto x = test::whiteNoise(0.2, 3000);
    QVERIFY(run(line.toStdString(), x, 48000.0, 4096) == run(line.toStdString(), x, 48000.0, 0));
}

// Silence in, silence out; and after a burst, nothing of it is left when the tail that a node tells is over.
void TestRig::anyNodeFallsSilent()
{
    QFETCH(QString, line);
    constexpr double kRate = 48000.0;
    for (const auto& side : run(line.toStdString(), std::vector<float>(4800, 0.0f)))
        for (const float v : side) QVERIFY(std::abs(v) < 1e-6f);
    RigDocument rig;
    rig.chain = parseRecallLine(line.toStdString()).value();
    CompileOptions options;
    const double tail = CompiledRig::compile(rig, options).value().tailSeconds();
    if (tail > 6.0) return; // the longest echoes are left to the ones of ordinary length
    auto x = test::whiteNoise(0.3, 2400);
    x.resize(x.size() + std::size_t((tail + 0.2) * kRate), 0.0f);
    for (const auto& side : run(line.toStdString(), x)) {
        const auto peakOf = [](std::span<const float> part) {
            float peak = 0.0f;
            for (const float v : part) peak = std::max(peak, std::abs(v));
            return peak;
        };
        const float loud = peakOf(side), left = peakOf(std::span(side).last(std::size_t(0.1 * kRate)));
        QVERIFY2(left <= 3.2e-5f * loud + 1e-6f, // -90 dB
                 qPrintable(QString("%1 of %2 left after %3 s").arg(left).arg(loud).arg(tail)));
    }
}

void TestRig::anyNodeIsBounded()
{
    QFETCH(QString, line);
    for (const double rate : {44100.0, 96000.0, 192000.0}) {
        auto x = test::whiteNoise(2.0, 6000);
        for (std::size_t i = 3000; i < 4000; ++i) x[i] = 0.0f;
        for (std::size_t i = 4000; i < 4500; ++i) x[i] = i % 2 ? 20.0f : -20.0f; // volts, far more than any guitar
        for (const auto& side : run(line.toStdString(), x, rate))
            for (const float v : side) QVERIFY(std::isfinite(v) && std::abs(v) < 2e4f);
    }
}

void TestRig::everyControlDoesSomething_data()
{
    QTest::addColumn<QString>("type");
    QTest::addColumn<QString>("key");
    for (const NodeType& type : nodeTypes())
        for (const ParameterSpec& p : type.parameters)
            // A tuner's reference is seen, not heard.
            if (!anyLine(type, 1).empty() && (type.character != Character::Shows || p.key == "mute"))
                QTest::addRow("%s %s", type.type.c_str(), p.key.c_str())
                    << QString::fromStdString(type.type) << QString::fromStdString(p.key);
}

// From one end to the other, some setting of the other controls lets it be heard.
void TestRig::everyControlDoesSomething()
{
    QFETCH(QString, type);
    QFETCH(QString, key);
    const NodeType& node = *findNodeType(type.toStdString());
    const ParameterSpec& spec = *node.find(key.toStdString());
    auto x = test::sine(330.0, 0.4, 48000.0, 0.25);
    x.resize(48000, 0.0f); // what comes after it counts, too
    const auto hum = test::sine(50.3, 0.01, 48000.0, 1.0);
    for (std::size_t i = 0; i < x.size(); ++i) x[i] += hum[i];
    const auto at = [&](unsigned seed, const std::string& value) {
        RigNode n;
        n.type = node.type;
        n.values = parseRecallLine(seed == 0 ? node.type : anyLine(node, seed)).value()[0].values;
        n.values[spec.key] = parseValue(node, spec, value).value();
        return run(recallLine({n}), x);
    };
    const bool chooses = spec.kind == ParameterKind::Choice, times = spec.kind == ParameterKind::Time;
    const std::string low = chooses ? spec.choices.front()
                            : times ? "20ms"
                                    : valueText(spec.min),
                      high = chooses ? spec.choices.back()
                             : times ? "90ms"
                                     : valueText(spec.max);
    bool heard = false;
    for (unsigned seed = 0; seed < 12 && !heard; ++seed) heard = at(seed, low) != at(seed, high);
    QVERIFY2(heard, qPrintable(type + " " + key));
}

void TestRig::conditionsAreTrue_data()
{
    QTest::addColumn<QString>("type");
    QTest::addColumn<QString>("key");
    QTest::addColumn<QString>("choice");
    for (const NodeType& type : nodeTypes())
        for (const ParameterSpec& p : type.parameters)
            if (!p.onlyIf.of.empty())
                for (const std::string& choice : type.find(p.onlyIf.of)->choices)
                    QTest::addRow("%s %s, %s", type.type.c_str(), p.key.c_str(), choice.c_str())
                        << QString::fromStdString(type.type) << QString::fromStdString(p.key)
                        << QString::fromStdString(choice);
}

// A control that is said to do nothing does nothing to the last bit; one that is said to work is heard.
void TestRig::conditionsAreTrue()
{
    QFETCH(QString, type);
    QFETCH(QString, key);
    QFETCH(QString, choice);
    const NodeType& node = *findNodeType(type.toStdString());
    const ParameterSpec& spec = *node.find(key.toStdString());
    const auto x = test::sine(330.0, 0.4, 48000.0, 0.25);
    const auto at = [&](double value) {
        RigNode n;
        n.type = node.type;
        n.values[spec.onlyIf.of] = choice.toStdString();
        n.values[spec.key] = value;
        return run(recallLine({n}), x);
    };
    ParameterValues values = completeValues(node, {{spec.onlyIf.of, choice.toStdString()}});
    QCOMPARE(at(spec.min) != at(spec.max), spec.worksWith(values));
}

void TestRig::anyNodeIsWrittenAndRead()
{
    QFETCH(QString, line);
    RigDocument rig;
    rig.chain = parseRecallLine(line.toStdString()).value();
    QVERIFY(parseRecallLine(recallLine(rig.chain)).value() == rig.chain);
    std::vector<std::string> warnings;
    QVERIFY(rigFromJson(rigToJson(rig), Unknown::Refuse, warnings).value() == rig);
    QVERIFY(warnings.empty());
}

void TestRig::bypassDoesNothing()
{
    QFETCH(QString, line);
    const auto x = test::whiteNoise(0.2, 500);
    const auto y = run(line.toStdString() + " bypass=on", x);
    QCOMPARE(y.size(), std::size_t(1));
    QVERIFY(y[0] == x);
}

void TestRig::latencyIsTrue_data()
{
    QTest::addColumn<QString>("line");
    for (const char* line :
         {"gain", "drive drive=0 tone=12000", "{ drive drive=0 ; gain db=-60 }", "limiter ceiling=10", "shift by=0",
          "boost gain=0", "hardclip drive=0 tone=12000 level=-6"})
        QTest::newRow(line) << line;
}

void TestRig::latencyIsTrue()
{
    // With the latency taken out, a tone comes out in phase but for the filters' own few degrees.
    QFETCH(QString, line);
    const auto x = test::sine(600.0, 1e-3, 48000.0, 0.5);
    const auto y = run(line.toStdString(), x)[0];
    double in = 0.0, quadrature = 0.0;
    const auto cosine = test::sine(600.0, 1e-3, 48000.0, 0.5, std::numbers::pi / 2.0);
    for (std::size_t i = 8000; i < 23000; ++i)
        in += double(y[i]) * double(x[i]), quadrature += double(y[i]) * double(cosine[i]);
    QVERIFY(std::abs(std::atan2(quadrature, in)) < 0.12); // radians; one sample would be 0.08 more
}

void TestRig::stableAtEveryRate_data()
{
    QTest::addColumn<double>("rate");
    for (const double rate : {8000.0, 44100.0, 96000.0, 192000.0}) QTest::addRow("%g", rate) << rate;
}

void TestRig::stableAtEveryRate()
{
    QFETCH(double, rate);
    auto x = test::whiteNoise(2.0, 20000);
    for (const char* line :
         {"drive drive=50 tone=12000 level=30", "amplifier drive=10 bass=0 middle=0 treble=10 master=10",
          "amplifier drive=10 bass=10 middle=10 treble=0 master=10", "delay time=1ms feedback=0.98 mix=1"})
        for (const auto& side : run(line, x, rate))
            for (const float v : side) QVERIFY(std::isfinite(v) && std::abs(v) < 1e4f);
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
