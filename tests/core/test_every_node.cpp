// What holds for every node of the registry and for chains of them: silence, bounds, splits, rates, bypass, latency.

#include "core/rig/compiled_rig.h"
#include "support/rig_run.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <nlohmann/json.hpp>

using namespace gristle;
using namespace gristle::core;
using gristle::test::run;

namespace {

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

/// Every node of the registry, with its own values and with some of anybody's; GRISTLE_DRAWS asks for more of them.
void everyNode()
{
    QTest::addColumn<QString>("line");
    bool isOk = false;
    const int asked = qEnvironmentVariableIntValue("GRISTLE_DRAWS", &isOk), draws = isOk ? asked : 2;
    for (const NodeType& type : nodeTypes())
        for (unsigned seed = 0; seed <= unsigned(draws); ++seed) {
            const std::string line = seed == 0 ? type.type : anyLine(type, seed);
            if (!anyLine(type, 1).empty())
                QTest::addRow("%s %u", type.type.c_str(), seed) << QString::fromStdString(line);
        }
}

} // namespace

class TestEveryNode : public QObject {
    Q_OBJECT
private slots:
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
};

void TestEveryNode::anySplitGivesTheSame_data()
{
    QTest::addColumn<QString>("line");
    for (const char* line : kChains) QTest::newRow(line) << line;
}

void TestEveryNode::anySplitGivesTheSame()
{
    QFETCH(QString, line);
    const auto x = test::whiteNoise(0.2, 9000);
    const auto one = run(line.toStdString(), x, 48000.0, 4096), odd = run(line.toStdString(), x, 48000.0, 0),
               small = run(line.toStdString(), x, 48000.0, 1);
    QVERIFY(one == odd && one == small); // world class: bit-exact
}

void TestEveryNode::silenceStaysSilent_data() { anySplitGivesTheSame_data(); }
void TestEveryNode::silenceStaysSilent()
{
    QFETCH(QString, line);
    for (const auto& side : run(line.toStdString(), std::vector<float>(48000, 0.0f)))
        for (const float v : side) QVERIFY(std::abs(v) < 1e-6f); // -120 dBV: rounding of an offset stage
}

void TestEveryNode::anyNodeAnySplit()
{
    QFETCH(QString, line);
    const auto x = test::whiteNoise(0.2, 3000);
    QVERIFY(run(line.toStdString(), x, 48000.0, 4096) == run(line.toStdString(), x, 48000.0, 0));
}

// Silence in, silence out; and after a burst, nothing of it is left when the tail that a node tells is over.
void TestEveryNode::anyNodeFallsSilent()
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

void TestEveryNode::anyNodeIsBounded()
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

void TestEveryNode::everyControlDoesSomething_data()
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
void TestEveryNode::everyControlDoesSomething()
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

void TestEveryNode::conditionsAreTrue_data()
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
void TestEveryNode::conditionsAreTrue()
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

void TestEveryNode::anyNodeIsWrittenAndRead()
{
    QFETCH(QString, line);
    RigDocument rig;
    rig.chain = parseRecallLine(line.toStdString()).value();
    QVERIFY(parseRecallLine(recallLine(rig.chain)).value() == rig.chain);
    std::vector<std::string> warnings;
    QVERIFY(rigFromJson(rigToJson(rig), Unknown::Refuse, warnings).value() == rig);
    QVERIFY(warnings.empty());
}

void TestEveryNode::bypassDoesNothing()
{
    QFETCH(QString, line);
    const auto x = test::whiteNoise(0.2, 500);
    const auto y = run(line.toStdString() + " bypass=on", x);
    QCOMPARE(y.size(), std::size_t(1));
    QVERIFY(y[0] == x);
}

void TestEveryNode::latencyIsTrue_data()
{
    QTest::addColumn<QString>("line");
    for (const char* line :
         {"gain", "drive drive=0 tone=12000", "{ drive drive=0 ; gain db=-60 }", "limiter ceiling=10", "shift by=0",
          "boost gain=0", "hardclip drive=0 tone=12000 level=-6"})
        QTest::newRow(line) << line;
}

void TestEveryNode::latencyIsTrue()
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

void TestEveryNode::stableAtEveryRate_data()
{
    QTest::addColumn<double>("rate");
    for (const double rate : {8000.0, 44100.0, 96000.0, 192000.0}) QTest::addRow("%g", rate) << rate;
}

void TestEveryNode::stableAtEveryRate()
{
    QFETCH(double, rate);
    auto x = test::whiteNoise(2.0, 20000);
    for (const char* line :
         {"drive drive=50 tone=12000 level=30", "amplifier drive=10 bass=0 middle=0 treble=10 master=10",
          "amplifier drive=10 bass=10 middle=10 treble=0 master=10", "delay time=1ms feedback=0.98 mix=1"})
        for (const auto& side : run(line, x, rate))
            for (const float v : side) QVERIFY(std::isfinite(v) && std::abs(v) < 1e4f);
}

QTEST_APPLESS_MAIN(TestEveryNode)
#include "test_every_node.moc"
