#include "core/rig/circuit/circuit_batch.h"
#include "core/rig/circuit/voices.h"
#include "core/rig/compiled_rig.h"
#include "core/rig/nodes/circuit_side.h"
#include "core/rig/stage_scheduler.h"
#include "support/allocation_watch.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <atomic>
#include <fmt/format.h>
#include <thread>

using namespace gristle::core;
using namespace gristle::test;

namespace {

/// Decibels of what differs, against the second.
double offDb(std::span<const float> a, std::span<const float> b)
{
    double off = 0.0, all = 0.0;
    for (std::size_t i = 0; i < a.size(); ++i) {
        off += std::pow(double(a[i]) - double(b[i]), 2);
        all += double(b[i]) * double(b[i]);
    }
    return 10.0 * std::log10(off / all + 1e-30);
}

/// Notes that are struck, ring and rest, twice a second, each at a pitch and a level of its own.
std::vector<float> notes(double peakV, double seconds, unsigned seed)
{
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> hz(80.0, 500.0), level(0.2, 1.0);
    std::vector<float> out(std::size_t(48000.0 * seconds));
    double f = 0.0, size = 0.0;
    for (std::size_t i = 0; i < out.size(); ++i) {
        if (i % 24000 == 0) f = hz(random), size = peakV * level(random);
        const double t = double(i % 24000) / 48000.0;
        for (int h = 1; h < 6; ++h)
            out[i] += float(0.5 * size * std::sin(2.0 * std::numbers::pi * f * h * t) * std::exp(-t * (4.0 + h)) / h);
    }
    return out;
}

/// From 384 to 48 kHz.
std::vector<float> down(std::span<const float> x)
{
    constexpr std::size_t kFactor = 8, kEach = 100;
    Oversampler over(kFactor, Oversampler::Phase::Linear);
    over.prepare(kEach);
    std::vector<float> out(x.size() / kFactor / kEach * kEach);
    for (std::size_t at = 0; at < out.size(); at += kEach) {
        std::vector<float> high(x.begin() + long(kFactor * at), x.begin() + long(kFactor * (at + kEach)));
        over.down(high, std::span(out).subspan(at, kEach));
    }
    return out;
}

CircuitSide side(const std::vector<Netlist>& sections, std::size_t factor, std::size_t maxBlock)
{
    return CircuitSide(sections, 48000.0, factor, Oversampler::Phase::Linear, maxBlock);
}

std::vector<float> inPieces(CircuitSide& amplifier, std::vector<float> x)
{
    for (std::size_t at = 0; at < x.size(); at += 1000)
        amplifier.process(std::span(x).subspan(at, std::min<std::size_t>(1000, x.size() - at)), 1.0, 1.0f);
    return x;
}

/// A stage whose supply comes through so much that it charges by itself far more slowly than with the tube at rest
/// beside it: cut off, it has a longer memory than its motions say.
Netlist slowWhenCutOff()
{
    Netlist n;
    const auto in = n.node(), grid = n.node(), cathode = n.node(), plate = n.node(), source = n.node();
    n.setInput(in);
    n.supply(source, 300.0);
    n.resistor(in, grid, 34e3);
    n.resistor(source, plate, 2.2e6);
    n.capacitor(plate, Netlist::kGround, 1e-6);
    n.resistor(cathode, Netlist::kGround, 1000.0);
    n.setOutput(plate);
    n.tube(plate, grid, cathode, Triode{});
    return n;
}

} // namespace

class TestLongBlocks : public QObject {
    Q_OBJECT

private slots:
    void sixteenAreAsOne_data()
    {
        QTest::addColumn<int>("voice");
        QTest::addColumn<double>("peakV");
        QTest::newRow("clean, soft") << int(Voice::CleanHeadroom) << 0.05;
        QTest::newRow("clean, hard") << int(Voice::CleanHeadroom) << 2.0;
        QTest::newRow("tight, soft") << int(Voice::TightCascade) << 0.02;
        QTest::newRow("tight, hard") << int(Voice::TightCascade) << 2.0;
    }
    /// Each lane has a signal of its own, and can go on alone in the middle of it. Compared is what comes down.
    void sixteenAreAsOne()
    {
        QFETCH(int, voice);
        QFETCH(double, peakV);
        constexpr double kRate = 384000.0;
        CircuitSolver one(amplifierSections(Voice(voice), {}), kRate);
        CircuitBatch sixteen(one);
        std::vector<std::vector<float>> x;
        CircuitBatch::Volts volts;
        for (unsigned lane = 0; lane < CircuitBatch::kLanes; ++lane) x.push_back(notes(peakV, 2.0, lane + 1));
        const auto in = x;
        const std::size_t half = x[0].size() / 2;
        for (std::size_t lane = 0; lane < x.size(); ++lane) volts[lane] = x[lane].data();
        sixteen.process(volts, half, 1.0, 2.0f);
        for (const std::size_t lane : {std::size_t(0), std::size_t(3), std::size_t(7), std::size_t(15)}) {
            one.reset();
            std::vector<float> alone(in[lane].begin(), in[lane].begin() + long(half));
            for (float& v : alone) v = 2.0f * float(one.step(double(v)));
            const double offBy = offDb(down(std::span(x[lane]).first(half)), down(alone));
            QVERIFY2(offBy < -120.0, qPrintable(QString("lane %1: %2 dB").arg(lane).arg(offBy)));
            // From where the lane is.
            CircuitMoment moment = one.moment();
            sixteen.get(lane, moment);
            CircuitSolver further(amplifierSections(Voice(voice), {}), kRate);
            further.goOnFrom(moment);
            double off = 0.0, all = 0.0;
            for (std::size_t i = half; i < half + 4800; ++i) {
                const double a = one.step(double(in[lane][i])), b = further.step(double(in[lane][i]));
                off += (a - b) * (a - b);
                all += a * a;
            }
            QVERIFY2(off < 1e-12 * all, qPrintable(QString("lane %1 further: %2").arg(lane).arg(off / all)));
        }
    }

    /// Samples go through in sixteens or eights; what is left over at the end of a block is no other arithmetic.
    void sixteenDoNotMindHowABlockIsCut()
    {
        const CircuitSolver one(amplifierSections(Voice::TightCascade, {}), 384000.0);
        CircuitBatch whole(one), cut(one);
        std::vector<std::vector<float>> x;
        for (unsigned lane = 0; lane < CircuitBatch::kLanes; ++lane) {
            x.push_back(notes(1.0, 0.1, lane + 1));
            x.back().resize(1000);
        }
        auto pieces = x;
        const auto process = [](CircuitBatch& circuits, std::vector<std::vector<float>>& of, std::size_t at,
                                std::size_t count) {
            CircuitBatch::Volts volts;
            for (std::size_t lane = 0; lane < of.size(); ++lane) volts[lane] = of[lane].data() + at;
            circuits.process(volts, count, 1.0, 2.0f);
        };
        process(whole, x, 0, 1000);
        std::size_t at = 0;
        for (const std::size_t count : {1u, 15u, 16u, 17u, 7u, 31u, 400u, 513u}) {
            process(cut, pieces, at, count);
            at += count;
        }
        QCOMPARE(at, std::size_t(1000));
        QVERIFY(std::ranges::any_of(x[7], [](float v) { return std::abs(v) > 0.01f; }));
        QVERIFY(x == pieces);
    }

    /// What is no number, or far too large, in one lane is read from no place outside the tables, and no other lane's.
    void aLaneThatIsNoNumberIsAlone()
    {
        const CircuitSolver one(amplifierSections(Voice::TightCascade, {}), 384000.0);
        std::vector<std::vector<float>> sound;
        for (unsigned lane = 0; lane < CircuitBatch::kLanes; ++lane) {
            sound.push_back(notes(1.0, 0.1, lane + 1));
            sound.back().resize(1000);
        }
        const auto played = [&one](std::vector<std::vector<float>> x) {
            CircuitBatch circuits(one);
            CircuitBatch::Volts volts;
            for (std::size_t lane = 0; lane < x.size(); ++lane) volts[lane] = x[lane].data();
            circuits.process(volts, x[0].size(), 1.0, 2.0f);
            return x;
        };
        const auto whole = played(sound);
        for (const float bad :
             {std::numeric_limits<float>::quiet_NaN(), std::numeric_limits<float>::infinity(), 3e38f}) {
            auto hurt = sound;
            hurt[5][500] = bad;
            const auto out = played(hurt);
            for (std::size_t lane = 0; lane < out.size(); ++lane)
                if (lane != 5) QVERIFY(out[lane] == whole[lane]);
            QVERIFY(std::equal(out[5].begin(), out[5].begin() + 500, whole[5].begin()));
        }
    }

    /// A long block against the same in pieces, twice in a row, with a remainder that no stretch takes.
    void stretchesAreAsOnePiece_data()
    {
        QTest::addColumn<int>("voice");
        QTest::addColumn<double>("peakV");
        QTest::newRow("clean") << int(Voice::CleanHeadroom) << 0.6;
        QTest::newRow("tight, blocking") << int(Voice::TightCascade) << 3.0;
    }
    void stretchesAreAsOnePiece()
    {
        QFETCH(int, voice);
        QFETCH(double, peakV);
        const auto sections = amplifierSections(Voice(voice), {});
        const auto in = notes(peakV, 21.0, 5);
        const std::size_t first = std::size_t(10.5 * 48000.0) + 11;
        auto pieces = side(sections, 4, 1000), whole = side(sections, 4, in.size());
        const auto expected = inPieces(pieces, in);
        const auto play = [&] {
            auto out = in;
            whole.process(std::span(out).first(first), 1.0, 1.0f);
            whole.process(std::span(out).subspan(first), 1.0, 1.0f);
            return out;
        };
        const auto out = play();
        QVERIFY2(offDb(out, expected) < -120.0, qPrintable(QString::number(offDb(out, expected))));
        QVERIFY(out != expected); // it has been played in stretches
        QCOMPARE(whole.playedAgain(), std::size_t(0));
        whole.reset();
        QVERIFY(play() == out);
    }
    /// Where the circuit remembers for longer than its motions say, that is noticed, and the result is the same.
    void aLongMemoryIsNoticed()
    {
        const std::vector<Netlist> netlist{slowWhenCutOff()};
        auto pieces = side(netlist, 2, 1000);
        std::vector<float> in(std::size_t(40.0 * double(pieces.runUp())));
        for (std::size_t i = 0; i < in.size(); ++i) in[i] = -25.0f + 1.5f * float(std::sin(0.013 * double(i)));
        auto whole = side(netlist, 2, in.size());
        auto out = in;
        whole.process(out, 1.0, 1.0f);
        QVERIFY(whole.playedAgain() > 0);
        const auto expected = inPieces(pieces, in);
        QVERIFY2(offDb(out, expected) < -120.0, qPrintable(QString::number(offDb(out, expected))));
    }

    /// Two cores on a chain give what one gives in small blocks, to the bit, and the same levels of each stage.
    void sharedWorkIsTheSame()
    {
        RigDocument rig;
        rig.chain = parseRecallLine("gate | compressor | softclip | { gain db=-3 | chorus ; boost } gain=-3 | "
                                    "delay time=300ms | reverb | limiter")
                        .value();
        const auto in = notes(0.8, 12.0, 9);
        const auto play = [&](std::size_t each) {
            CompileOptions options;
            options.maxBlock = each;
            auto compiled = CompiledRig::compile(rig, options).value();
            compiled.measureOver(100000, 300000);
            std::vector<std::vector<float>> out{in, std::vector<float>(in.size())};
            for (std::size_t at = 0; at < in.size(); at += each) {
                AudioBlock block{{out[0].data() + at, out[1].data() + at}, 1, std::min(each, in.size() - at)};
                compiled.process(block);
            }
            return std::pair(out, compiled.stages());
        };
        const auto [small, smallStages] = play(4096);
        const auto [large, largeStages] = play(100 * 4096);
        QVERIFY(large == small);
        QCOMPARE(largeStages.size(), smallStages.size());
        for (std::size_t i = 0; i < largeStages.size(); ++i) {
            QCOMPARE(largeStages[i].frames, std::int64_t(300000));
            QCOMPARE(largeStages[i].inSquares, smallStages[i].inSquares);
            QCOMPARE(largeStages[i].outSquares, smallStages[i].outSquares);
            QCOMPARE(largeStages[i].outPeak, smallStages[i].outPeak);
        }
    }

    /// What a long block needs beside its samples may be refused at any request: it is played all the same.
    void playsWhereMemoryRunsOut()
    {
        RigDocument rig;
        rig.chain = parseRecallLine("gate | chorus | circuit part=preamp | { gain db=-3 | reverb ; boost } gain=-3 | "
                                    "delay time=300ms | limiter")
                        .value();
        const auto in = notes(0.8, 6.0, 11);
        long refused = 0;
        const auto play = [&](long granted) {
            CompileOptions options;
            options.maxBlock = in.size();
            auto compiled = CompiledRig::compile(rig, options).value();
            std::vector<std::vector<float>> out{in, std::vector<float>(in.size())};
            AudioBlock block{{out[0].data(), out[1].data()}, 1, in.size()};
            {
                const MemoryRunsOut memory(granted);
                compiled.process(block);
                refused = memory.refused();
            }
            return out[0];
        };
        const auto whole = play(1000000);
        QCOMPARE(refused, 0L);
        for (const long granted : {0L, 3L, 30L, 60L, 100L}) {
            const double off = offDb(play(granted), whole);
            QVERIFY2(off < -90.0, fmt::format("{} granted: {:.1f} dB off", granted, off).c_str());
            if (granted < 60) QVERIFY2(refused > 0, fmt::format("{} granted, none refused", granted).c_str());
        }
    }

    void partsAmidOtherStagesAreTheSame_data()
    {
        QTest::addColumn<int>("frames"); // a part ends anywhere in a slice of 4,096
        for (const int further : {0, 2048, 4096, 6144}) QTest::addRow("%d further", further) << 600000 + further;
    }
    /// An amplifier that is played in parts while the stages about it are under way, in stereo: to the bit what each
    /// stage gives for the whole block by itself, and the same levels.
    void partsAmidOtherStagesAreTheSame()
    {
        QFETCH(int, frames);
        const char* const stages[]{"chorus", "circuit voice=tight", "delay time=300ms"};
        auto in = notes(0.8, 13.0, 4);
        in.resize(std::size_t(frames));
        std::vector<std::vector<float>> together{in, std::vector<float>(in.size())}, apart = together;
        const auto play = [&](const std::string& line, std::size_t channels, std::vector<std::vector<float>>& x) {
            RigDocument rig;
            rig.chain = parseRecallLine(line).value();
            CompileOptions options;
            options.maxBlock = in.size();
            options.channels = channels;
            options.effort = Effort::Draft;
            auto compiled = CompiledRig::compile(rig, options).value();
            AudioBlock block{{x[0].data(), x[1].data()}, channels, in.size()};
            compiled.process(block);
            return compiled.stages();
        };
        const auto levels = play(fmt::format("{} | {} | {}", stages[0], stages[1], stages[2]), 1, together);
        for (std::size_t i = 0; i < 3; ++i) {
            const auto own = play(stages[i], i == 0 ? 1 : 2, apart);
            QCOMPARE(levels[i].outPeak, own[0].outPeak);
            // But for what is late at the end; of the louder channel, of each part anew.
            QVERIFY(levels[i].outSquares >= 0.999 * own[0].outSquares);
            QVERIFY(levels[i].outSquares <= (i == 1 ? 1.1 : 1.001) * own[0].outSquares);
        }
        QVERIFY(together == apart);
        QVERIFY(together[0] != together[1]);
    }

    /// Every stage takes every step once, in order, after the stage before is through with as many frames, whoever
    /// works; steps that may be on their way beside each other are waited for all the same.
    void theSchedulerKeepsOrder()
    {
        std::vector<std::size_t> fine, coarse;
        for (std::size_t i = 1; i <= 200; ++i) fine.push_back(10 * i);
        for (std::size_t i = 1; i <= 8; ++i) coarse.push_back(250 * i);
        const std::vector<StageScheduler::Stage> stages{{fine}, {fine}, {coarse, true}, {coarse}, {fine}};
        StageScheduler scheduler(stages);
        std::array<std::atomic<std::size_t>, 5> reached{}, steps{}; // frames, of those not in a batch in order
        std::array<std::atomic<bool>, 8> isPlayed{};
        std::atomic<int> faults{0};
        const auto work = [&] {
            while (const auto task = scheduler.take()) {
                const auto [stage, step] = *task;
                const std::size_t from = step > 0 ? stages[stage].ends[step - 1] : 0, to = stages[stage].ends[step];
                if (stage == 3) {
                    for (std::size_t i = 0; i <= step; ++i)
                        if (!isPlayed[i]) ++faults;
                } else if (stage > 0 && reached[stage - 1] < to) {
                    ++faults;
                }
                if (stage == 2) {
                    isPlayed[step] = true;
                } else {
                    if (reached[stage] != from) ++faults;
                    reached[stage] = to;
                }
                ++steps[stage];
                scheduler.finish(*task);
            }
        };
        {
            const std::jthread a(work), b(work), c(work);
        }
        QCOMPARE(faults.load(), 0);
        for (std::size_t stage = 0; stage < stages.size(); ++stage)
            QCOMPARE(steps[stage].load(), stages[stage].ends.size());
    }
};

QTEST_APPLESS_MAIN(TestLongBlocks)
#include "test_long_blocks.moc"
