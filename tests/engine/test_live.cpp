#include "core/signal/live_convolver.h"
#include "core/units/calibrate.h"
#include "engine/devices/foot_switch.h"
#include "engine/rt/live_chain.h"
#include "engine/runs/loop_ping.h"
#include "engine/simulated/simulated_device.h"
#include "engine/simulated/standard_room.h"
#include "support/allocation_watch.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <atomic>
#include <map>
#include <thread>

using namespace gristle;
using namespace gristle::core;
using namespace gristle::engine;
using namespace gristle::test;

namespace {

constexpr double kRate = 48000.0;

/// Convolution in double precision, by definition.
std::vector<double> truth(const std::vector<float>& x, const std::vector<float>& h)
{
    std::vector<double> y(x.size(), 0.0);
    for (std::size_t i = 0; i < x.size(); ++i)
        for (std::size_t k = 0; k <= std::min(i, h.size() - 1); ++k) y[i] += double(h[k]) * double(x[i - k]);
    return y;
}

struct Chain {
    Recorder recorder;
    Player player{kRate};
    LiveChain chain{recorder, kRate};
    Chain() { player.setOverlay(&chain); }
    std::vector<float> left, right;
    /// Runs blocks in which `in` comes in on input 1.
    void run(const std::vector<float>& in, std::size_t block = 256)
    {
        std::vector<float> l(block), r(block);
        for (std::size_t at = 0; at + block <= in.size(); at += block) {
            const float* inputs[] = {in.data() + at};
            chain.take(inputs, 1, block, false);
            player.fill(l.data(), r.data(), block);
            left.insert(left.end(), l.begin(), l.end());
            right.insert(right.end(), r.begin(), r.end());
        }
    }
    void forget() { left.clear(), right.clear(); }
};

/// The steepest rise of the level in windows of 2 ms, dB over 10 ms, once over -60 dBFS.
double steepestRise(const std::vector<float>& x)
{
    const auto window = std::size_t(0.002 * kRate);
    std::vector<double> level;
    for (std::size_t at = 0; at + window <= x.size(); at += window) {
        double most = 0.0;
        for (std::size_t i = at; i < at + window; ++i) most = std::max(most, double(std::abs(x[i])));
        level.push_back(amplitudeToDb(std::max(most, 1e-9)));
    }
    double steepest = 0.0;
    for (std::size_t i = 0; i + 5 < level.size(); ++i)
        if (level[i] > -60.0) steepest = std::max(steepest, level[i + 5] - level[i]);
    return steepest;
}

} // namespace

class TestLive : public QObject {
    Q_OBJECT
private slots:
    void liveConvolutionIsConvolution_data()
    {
        QTest::addColumn<int>("taps");
        for (const int taps : {1, 63, 64, 65, 128, 1000, 2048, 2049, 4096, 4097, 24000})
            QTest::addRow("%d taps", taps) << taps;
    }
    void liveConvolutionIsConvolution()
    {
        QFETCH(int, taps);
        auto h = whiteNoise(0.1, std::size_t(taps), 5);
        const auto x = whiteNoise(0.3, std::size_t(taps) + 6000, 6);
        const auto y = truth(x, h);
        double power = 0.0;
        for (const double v : y) power += v * v;
        std::vector<float> whole;
        for (const std::size_t block : {64u, 1u, 37u, 256u, 1000u}) {
            LiveConvolver convolver(h);
            auto out = x;
            for (std::size_t at = 0; at < out.size(); at += block)
                convolver.process({out.data() + at, std::min(block, out.size() - at)});
            double error = 0.0;
            for (std::size_t i = 0; i < y.size(); ++i) error += (out[i] - y[i]) * (out[i] - y[i]);
            QVERIFY2(powerToDb(error / power) < -130.0,
                     qPrintable(QString("%1: %2").arg(block).arg(powerToDb(error / power))));
            if (whole.empty()) whole = out;
            QVERIFY(out == whole);
            convolver.reset();
            auto again = x;
            convolver.process(again);
            QVERIFY(again == whole);
        }
    }

    void aTakenOverConvolutionGoesOn_data()
    {
        QTest::addColumn<int>("taps");
        QTest::addColumn<int>("after");
        for (const int taps : {1000, 4096, 24000})
            for (const int after : {30000, 30720, 30784, 31001, 31680, 31743}) // in every state of the long parts
                QTest::addRow("%d taps, after %d", taps, after) << taps << after;
    }
    void aTakenOverConvolutionGoesOn()
    {
        QFETCH(int, taps);
        QFETCH(int, after);
        const auto h = whiteNoise(0.1, std::size_t(taps), 5);
        const auto x = whiteNoise(0.3, 40000, 6);
        LiveConvolver before(h), next(h);
        auto expected = x;
        before.process(std::span(expected).first(std::size_t(after)));
        next.takeOver(before);
        before.process(std::span(expected).subspan(std::size_t(after)));
        auto out = x;
        next.process(std::span(out).subspan(std::size_t(after)));
        for (std::size_t i = std::size_t(after); i < x.size(); ++i) QVERIFY(std::abs(out[i] - expected[i]) < 1e-5f);
        QVERIFY(std::abs(out.back()) > 0.0f);
    }

    void oneHearsOneselfDryAtTheGainAsked()
    {
        Chain c;
        const auto in = sine(200.0, 0.2, kRate, 1.0);
        c.run(in);
        for (const float x : c.left) QCOMPARE(x, 0.0f); // nobody listens yet
        c.forget();
        c.chain.setProgram({LiveVoice{}});
        c.chain.setGain(0.5f);
        c.chain.setListening(true);
        c.run(in);
        QVERIFY(steepestRise(c.left) < 6.2);
        c.forget();
        c.run(in);
        const std::vector<float> settled(c.left.begin() + 4800, c.left.begin() + 4800 + 24000);
        QVERIFY(std::abs(amplitudeAt(settled, 200.0, kRate) - 0.1) < 1e-4);
        c.chain.setListening(false);
        c.run(in);
        QCOMPARE(c.left.back(), 0.0f);
    }

    void theOutputNeverPassesItsCeiling()
    {
        Chain c;
        c.chain.setProgram({LiveVoice{}});
        c.chain.setGain(4.0f);
        c.chain.setListening(true);
        c.run(sine(997.0, 0.9, kRate, 2.0));
        for (const float x : c.left) QVERIFY(std::abs(x) <= dbToAmplitude(-1.0) + 1e-4);
    }

    void betweenInputAndEarIsUnderAMillisecond_data()
    {
        QTest::addColumn<double>("rate");
        for (const double rate : {44100.0, 48000.0, 96000.0}) QTest::addRow("%g", rate) << rate;
    }
    /// What rig and limiter add to the device's buffers, with two stages at a raised rate; and that a click comes when
    /// they say.
    void betweenInputAndEarIsUnderAMillisecond()
    {
        QFETCH(double, rate);
        Recorder recorder;
        Player player(rate);
        LiveChain chain(recorder, rate);
        player.setOverlay(&chain);
        chain.setListening(true);
        const auto clickAt = [&](const char* line) {
            RigDocument rig;
            rig.chain = parseRecallLine(line).value();
            CompileOptions options;
            options.context.rateHz = rate;
            options.maxBlock = LiveChain::kMostFrames;
            options.live = true;
            LiveVoice voice;
            voice.rig =
                std::make_shared<RigSwap>(std::make_shared<CompiledRig>(CompiledRig::compile(rig, options).value()),
                                          rate, LiveChain::kMostFrames);
            chain.setProgram({voice});
            constexpr std::size_t kBlock = 64, kClick = 48000;
            std::vector<float> in(2 * kClick), heard;
            in[kClick] = 0.01f;
            for (std::size_t at = 0; at < in.size(); at += kBlock) {
                float left[kBlock], right[kBlock];
                const float* inputs[] = {in.data() + at};
                chain.take(inputs, 1, kBlock, false);
                player.fill(left, right, kBlock);
                heard.insert(heard.end(), left, left + kBlock);
            }
            const auto loudest = std::ranges::max_element(heard, {}, [](float v) { return std::abs(v); });
            return double(loudest - heard.begin()) - double(kClick);
        };
        QCOMPARE(clickAt("gain db=-3"), double(player.latency()));
        const double arrived = clickAt("gate depth=0 | compressor | softclip | circuit voice=tight | delay "
                                       "time=300ms | reverb");
        const double own = double(chain.latency() + player.latency());
        QVERIFY2(own < 0.001 * rate, qPrintable(QString::number(1000.0 * own / rate)));
        QVERIFY2(std::abs(arrived - own) < 0.0003 * rate, qPrintable(QString("%1, %2").arg(arrived).arg(own)));
    }

    // A voice through a rig: volts in, volts out, placed; another program comes without a click.
    void aRigIsHeardInVoltsAndSwappedSafely()
    {
        const auto voice = [](double db, float left, float right) {
            RigDocument rig;
            RigNode node;
            node.type = "gain";
            node.values["db"] = db;
            rig.chain.push_back(node);
            CompileOptions options;
            options.context.rateHz = kRate;
            options.maxBlock = LiveChain::kMostFrames;
            options.live = true;
            auto compiled = CompiledRig::compile(rig, options);
            if (!compiled) qFatal("%s", compiled.error().message.c_str());
            LiveVoice v;
            v.rig = std::make_shared<RigSwap>(std::make_shared<CompiledRig>(std::move(*compiled)), 48000.0,
                                              LiveChain::kMostFrames);
            v.fullScaleV = 4.0, v.outputScale = 0.25, v.left = left, v.right = right;
            return v;
        };
        Chain c;
        const auto in = sine(300.0, 0.1, kRate, 1.0);
        c.chain.setListening(true);
        LiveProgram two;
        two.push_back(voice(6.0, 1.0f, 0.0f));
        two.push_back(voice(-6.0, 0.0f, 1.0f));
        c.chain.setProgram(std::move(two));
        c.run(in);
        c.forget();
        c.run(in);
        QVERIFY(std::abs(amplitudeAt(c.left, 300.0, kRate) / 0.1 - dbToAmplitude(6.0)) < 0.01);
        QVERIFY(std::abs(amplitudeAt(c.right, 300.0, kRate) / 0.1 - dbToAmplitude(-6.0)) < 0.01);
        for (int i = 0; i < 20; ++i) { // many swaps: the old ones are let go when the audio thread has
            LiveProgram next;
            next.push_back(voice(i, 1.0f, 1.0f));
            c.chain.setProgram(std::move(next));
            c.forget();
            c.run(in);
            QVERIFY2(steepestRise(c.left) < 6.2, qPrintable(QString::number(steepestRise(c.left))));
        }
    }

    // A rig is changed while it plays: the change is there within 50 ms, without a click, and what an echo or a tail
    // remembers goes on.
    void aRigChangesWhileItPlays()
    {
        constexpr std::size_t kBlock = 64;
        const auto rig = [](const char* line) {
            RigDocument document;
            document.chain = parseRecallLine(line).value();
            CompileOptions options;
            options.context.rateHz = kRate;
            options.maxBlock = kBlock;
            options.live = true;
            return std::make_shared<CompiledRig>(CompiledRig::compile(document, options).value());
        };
        const auto play = [&](RigSwap& swap, const std::vector<float>& in,
                              const std::map<std::size_t, const char*>& changes) {
            std::vector<float> out = in, right(kBlock);
            for (std::size_t at = 0; at + kBlock <= out.size(); at += kBlock) {
                for (const auto& [when, line] : changes)
                    if (when >= at && when < at + kBlock) swap.set(rig(line));
                AudioBlock block{{out.data() + at, right.data()}, 1, kBlock};
                const AllocationWatch watch;
                swap.process(block);
                if (watch.allocations() + watch.locks() != 0) qFatal("the audio thread allocates");
            }
            return out;
        };
        const auto tone = sine(300.0, 0.1, kRate, 1.0);
        {
            RigSwap swap(rig("gain db=0"), kRate, kBlock);
            const auto y = play(swap, tone, {{24000, "gain db=-6"}});
            QVERIFY(std::abs(amplitudeAt({y.begin() + 24000 + 2400, y.end()}, 300.0, kRate) / 0.1 -
                             dbToAmplitude(-6.0)) < 0.01);
            for (std::size_t i = 1; i < 47000; ++i) // never steeper than the louder tone
                QVERIFY(std::abs(y[i] - y[i - 1]) < 1.05 * 0.1 * 2.0 * std::numbers::pi * 300.0 / kRate);
        }
        { // An echo that was on its way arrives, through the changed chain; so does a tail of an impulse's kind.
            std::vector<float> burst(48000, 0.0f);
            std::copy_n(tone.begin(), 4800, burst.begin());
            RigSwap swap(rig("gain db=0 | delay time=400ms feedback=0 mix=1"), kRate, kBlock);
            const auto y = play(swap, burst,
                                {{9600, "gain db=-20 | drive drive=0 bypass=on | delay time=400ms feedback=0 mix=1"}});
            QVERIFY(std::abs(amplitudeAt({y.begin() + 19200 + 480, y.begin() + 24000 - 480}, 300.0, kRate) / 0.1 -
                             1.0) < 0.01);
        }
        { // A control of the solved amplifier: charges stay, and the sound ends where a fresh one's does.
            const auto in = sine(200.0, 0.05, kRate, 1.6);
            RigSwap moved(rig("circuit voice=clean drive=3"), kRate, kBlock),
                fresh(rig("circuit voice=clean drive=6"), kRate, kBlock);
            const auto y = play(moved, in, {{24000, "circuit voice=clean drive=6"}}), z = play(fresh, in, {});
            double loudest = 0.0;
            for (std::size_t i = 24000; i < 30000; ++i) loudest = std::max(loudest, double(std::abs(y[i])));
            double end = 0.0, miss = 0.0;
            for (std::size_t i = 67200; i < 76000; ++i)
                end = std::max(end, double(std::abs(z[i]))), miss = std::max(miss, double(std::abs(y[i] - z[i])));
            QVERIFY2(loudest < 1.3 * end, qPrintable(QString("%1, %2").arg(loudest).arg(end))); // no thump
            QVERIFY2(miss < 0.01 * end, qPrintable(QString("%1 of %2").arg(miss).arg(end)));
        }
    }

    // All that the control thread may do while the audio thread runs: for TSan, and that the sound stays bounded.
    void theControlThreadMayDoAsItLikes()
    {
        Chain c;
        std::atomic<bool> over{false};
        std::atomic<float> loudest{0.0f};
        std::jthread audio([&] {
            std::vector<float> in(64, 0.1f), l(64), r(64);
            const float* inputs[] = {in.data()};
            while (!over.load()) {
                c.chain.take(inputs, 1, 64, false);
                c.player.fill(l.data(), r.data(), 64);
                for (const float x : l) loudest.store(std::max(loudest.load(), std::abs(x)));
            }
        });
        c.chain.setListening(true);
        std::vector<float> tapped(4096);
        const auto gainRig = [](double db) {
            RigDocument rig;
            rig.chain = parseRecallLine("gain db=" + std::to_string(db)).value();
            CompileOptions options;
            options.maxBlock = LiveChain::kMostFrames;
            options.live = true;
            return std::make_shared<CompiledRig>(CompiledRig::compile(rig, options).value());
        };
        std::shared_ptr<RigSwap> swap;
        std::size_t heard = 0;
        for (int i = 0; i < 300; ++i) {
            LiveVoice voice;
            if (i % 3 == 0) {
                if (!swap || i % 30 == 0) swap = std::make_shared<RigSwap>(gainRig(0.0), kRate, LiveChain::kMostFrames);
                voice.rig = swap;
            }
            if (swap) swap->set(gainRig(-double(i % 20)));
            voice.left = float(i % 2);
            LiveProgram program;
            program.push_back(std::move(voice));
            c.chain.setProgram(std::move(program));
            c.chain.setGain(i % 3 == 0 ? 0.0f : 1.0f);
            if (i % 5 == 0) {
                TransportPlan plan;
                plan.startFrame = -500;
                plan.clicks = {{0, true}, {1000, false}};
                c.chain.transport().start(std::move(plan));
            } else if (i % 5 == 3) {
                c.chain.transport().stop();
            }
            c.chain.setTone(220.0, i % 7 == 0 ? 0.1f : 0.0f);
            if (i % 11 == 0) c.chain.setListening(i % 2 == 0);
            heard += c.chain.readTap(tapped);
            (void)c.recorder.level(0);
            std::this_thread::sleep_for(std::chrono::milliseconds(2));
        }
        over = true;
        audio.join();
        QVERIFY(heard > 0);
        QVERIFY(loudest.load() < 0.5f);
    }

    void nothingIsAllocatedWhileItRuns()
    {
        Chain c;
        c.chain.setProgram({LiveVoice{}});
        c.chain.setListening(true);
        TransportPlan plan;
        plan.loopTo = 24000;
        plan.clicks = {{0, true}, {12000, false}};
        c.chain.transport().start(std::move(plan));
        c.chain.setTone(220.0, 0.1f);
        std::vector<float> in(256, 0.1f), l(256), r(256);
        const float* inputs[] = {in.data()};
        const AllocationWatch watch;
        for (int i = 0; i < 400; ++i) {
            c.chain.take(inputs, 1, 256, false);
            c.player.fill(l.data(), r.data(), 256);
        }
        QCOMPARE(watch.allocations(), 0L);
        QCOMPARE(watch.locks(), 0L);
    }

    void theTapGivesTheSamplesInOrder()
    {
        Chain c;
        std::vector<float> in(2560);
        for (std::size_t i = 0; i < in.size(); ++i) in[i] = float(i) / 4096.0f;
        c.chain.setTap(0);
        c.run(in);
        std::vector<float> got(in.size());
        QCOMPARE(c.chain.readTap(got), in.size());
        QVERIFY(got == in);
    }

    void thePingFindsAFractionOfASample_data()
    {
        QTest::addColumn<double>("delay");
        QTest::addColumn<double>("snrDb");
        for (const double delay : {96.0, 353.37, 1200.5, 7001.91})
            for (const double snr : {60.0, 20.0}) QTest::addRow("%.2f at %.0f dB", delay, snr) << delay << snr;
    }
    void thePingFindsAFractionOfASample()
    {
        QFETCH(double, delay);
        QFETCH(double, snrDb);
        // Delayed by its spectrum, inverted as a cable may, in white noise.
        const auto ping = latencyPing(kRate, 0.1);
        const std::size_t n = 32768;
        RealFft fft(n);
        std::ranges::fill(fft.time(), 0.0f);
        std::ranges::copy(ping, fft.time().begin());
        fft.forward();
        for (std::size_t k = 0; k <= n / 2; ++k)
            fft.spectrum()[k] *=
                std::complex<float>(std::polar(-0.5, -2.0 * std::numbers::pi * double(k) * delay / double(n)));
        fft.inverse();
        std::vector<float> heard(24000);
        for (std::size_t i = 0; i < heard.size(); ++i) heard[i] = fft.time()[i] / float(n);
        double power = 0.0;
        for (const float x : ping) power += 0.25 * double(x) * double(x) / double(ping.size());
        double worst = 0.0;
        for (unsigned seed = 1; seed <= 10; ++seed) {
            auto noisy = heard;
            add(noisy, whiteNoise(std::sqrt(power / dbToPower(snrDb)), noisy.size(), seed));
            const auto found = findPing(noisy, ping);
            QVERIFY(found);
            worst = std::max(worst, std::abs(found->delaySamples - delay));
            QVERIFY(snrDb > 40.0 || std::abs(found->snrDb - snrDb) < 1.0);
        }
        QVERIFY2(worst < 0.05, qPrintable(QString::number(worst)));
    }

    void noPingIsNoAnswer()
    {
        QVERIFY(!findPing(whiteNoise(0.1, 24000, 3), latencyPing(kRate, 0.1)));
        QVERIFY(!findPing({}, latencyPing(kRate, 0.1)));
    }

    void theRoundTripOfTheSimulatedCable()
    {
        SimulatedRoom::Setup setup;
        setup.rateHz = kRate;
        setup.loopbackFrames = 200;
        setup.loopbackFraction = 0.3;
        SimulatedDevice device(kRate, 128, SimulatedDevice::Clock::Manual, std::make_shared<SimulatedRoom>(setup));
        const auto found = pingLoop(device, {.input = 1});
        QVERIFY(bool(found));
        QVERIFY2(std::abs(found->delaySamples - (128.0 + 200.3)) < 0.05,
                 qPrintable(QString::number(found->delaySamples)));
        const auto none = pingLoop(device, {.input = 0}); // no cable there
        QVERIFY(!none && none.error().remedy.find("cable") != std::string::npos);
        QVERIFY(!pingLoop(device, {.input = 7}));
    }

    void aFootSwitchCountsPressesOnce()
    {
        FootSwitch foot;
        const auto send = [&](std::initializer_list<unsigned char> bytes) { foot.take(bytes.begin(), bytes.size()); };
        send({0x90, 60, 100}); // a note begins and ends
        send({0x80, 60, 0});
        send({0x90, 60, 0});
        QCOMPARE(foot.presses(), 1);
        send({0xB0, 64, 127}); // a pedal goes down, is repeated, and comes up
        send({0xB0, 64, 127});
        send({0xB0, 64, 0});
        send({0xB0, 64, 70});
        send({0xB1, 64, 127}); // on another channel
        QCOMPARE(foot.presses(), 3);
        send({0xF8});
        QCOMPARE(foot.presses(), 0);
    }

    void aVoltmeterCalibrates()
    {
        // 0.7746 V is 0 dBu; standing at -20 dBFS, full scale is +20 dBu.
        const auto answer = calibrateByVoltmeter(0.7746, -20.0);
        QVERIFY(bool(answer) && std::abs(answer->calibration.dbuAtFullScale - 20.0) < 1e-6);
        QVERIFY(!answer->calibration.assumed);
        QVERIFY(!calibrateByVoltmeter(0.0, -20.0));
        QVERIFY(!calibrateByVoltmeter(230.0, -20.0));
        QVERIFY(!calibrateByVoltmeter(0.5, -90.0));
    }
};

QTEST_APPLESS_MAIN(TestLive)
#include "test_live.moc"
