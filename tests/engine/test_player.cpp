#include "engine/rt/player.h"
#include "engine/rt/safety_limiter.h"
#include "engine/simulated/simulated_device.h"
#include "support/allocation_watch.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <cstdlib>
#include <ebur128.h>
#include <functional>
#include <linux/seccomp.h>
#include <random>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

using namespace gristle;
using namespace gristle::engine;

namespace {

std::shared_ptr<const core::Recording> mono(const std::vector<float>& x)
{
    return std::make_shared<core::Recording>(test::recording({x}, 48000));
}

std::shared_ptr<Program> program(const std::vector<std::vector<float>>& slots_, std::size_t from, std::size_t to)
{
    auto p = std::make_shared<Program>();
    for (const auto& s : slots_) p->entries.push_back({mono(s), 1.0f});
    p->loopStart = from;
    p->loopEnd = to;
    return p;
}

/// Largest rise of the 4 ms RMS level over 10 ms, in dB, once above -60 dB. For waves of 1 kHz and more.
double steepestRise(const std::vector<float>& x)
{
    std::vector<double> level;
    for (std::size_t at = 0; at + 192 <= x.size(); at += 48) {
        double sum = 0.0;
        for (std::size_t i = at; i < at + 192; ++i) sum += double(x[i]) * double(x[i]);
        level.push_back(10.0 * std::log10(sum / 96.0 + 1e-20));
    }
    double most = 0.0;
    for (std::size_t i = 10; i < level.size(); ++i)
        if (level[i - 10] > -60.0) most = std::max(most, level[i] - level[i - 10]);
    return most;
}

struct Rig {
    Player player{48000.0};
    SimulatedDevice device{48000.0, 256, SimulatedDevice::Clock::Manual};
    Rig() { (void)device.start(player); }
    const std::vector<float>& heard(std::size_t frames)
    {
        device.forget();
        device.advance(frames);
        return device.heardLeft();
    }
};

} // namespace

class TestPlayer : public QObject {
    Q_OBJECT
private slots:
    void silentUntilAsked();
    void startStopAndSwapAreGentle();
    void loopIsGapless();
    void matchingGainIsApplied();
    void aSlotGoesThroughItsRig();
    void monoSumsBothSides();
    void limiterHoldsTheCeiling_data();
    void limiterHoldsTheCeiling();
    void limiterBearsAnything_data();
    void limiterBearsAnything();
    void limiterIsTransparentBelow();
    void limiterKeepsATonesShape_data();
    void limiterKeepsATonesShape();
    void notANumberIsNotHeard();
    void callbackAllocatesNothing();
    void callbackMakesNoSystemCall();
    void programsAreFreedAfterUse();
    void changesFromAnotherThread();
    void metersTellWhatIsHeard();
};

void TestPlayer::silentUntilAsked()
{
    Rig r;
    r.player.setProgram(program({test::sine(500.0, 0.5, 48000.0, 1.0)}, 0, 48000));
    for (const float v : r.heard(4800)) QCOMPARE(v, 0.0f);
}

void TestPlayer::startStopAndSwapAreGentle()
{
    Rig r;
    r.player.setProgram(
        program({test::sine(997.0, 0.5, 48000.0, 2.0), test::sine(1499.0, 0.5, 48000.0, 2.0)}, 0, 96000));
    std::vector<float> all;
    const auto go = [&](std::size_t n) { test::append(all, r.heard(n)); };
    go(2000);
    r.player.setPlaying(true);
    go(24000);
    r.player.setSlot(1);
    go(24000);
    r.player.setMono(true);
    go(9000);
    r.player.setProgram(
        program({test::sine(2003.0, 0.4, 48000.0, 2.0), test::sine(1103.0, 0.5, 48000.0, 2.0)}, 0, 96000));
    go(24000);
    r.player.setPlaying(false);
    go(6000);
    r.player.setPlaying(true);
    go(24000);
    QVERIFY2(steepestRise(all) < 6.0, qPrintable(QString::number(steepestRise(all)))); // goals
    float step = 0.0f;
    for (std::size_t i = 1; i < all.size(); ++i) step = std::max(step, std::abs(all[i] - all[i - 1]));
    QVERIFY(step < 0.5f * 2.0f * 3.1416f * 1499.0f / 48000.0f * 1.5f); // no jump that the waves do not make themselves
    for (std::size_t i = all.size() - 24000 - 3000; i < all.size() - 24000; ++i)
        QVERIFY(std::abs(all[i]) < 1e-3f); // it did stop
}

void TestPlayer::loopIsGapless()
{
    // A loop of whole periods of a wave that goes on before it: nothing is to be heard of the seam.
    Rig r;
    r.player.setProgram(program({test::sine(480.0, 0.5, 48000.0, 2.0)}, 24000, 48000));
    r.player.setPlaying(true);
    r.heard(12000);
    const auto x = r.heard(96000);
    for (std::size_t i = 100; i < x.size(); ++i) QVERIFY(std::abs(x[i] - x[i - 100]) < 1e-3f); // still the same period
}

void TestPlayer::matchingGainIsApplied()
{
    Rig r;
    auto p = program({test::sine(997.0, 0.4, 48000.0, 1.0)}, 0, 48000);
    p->entries[0].gain = 0.25f;
    r.player.setProgram(p);
    r.player.setPlaying(true);
    r.heard(12000);
    const auto x = r.heard(24000);
    QVERIFY(std::abs(*std::ranges::max_element(x) - 0.1f) < 1e-3f);
}

// The DI of a slot goes through its rig as it plays: in volts; a changed rig is heard within 50 ms; a program with the
// same rig and another gain plays on, and the gain glides.
void TestPlayer::aSlotGoesThroughItsRig()
{
    const auto compiled = [](double db) {
        core::RigDocument rig;
        rig.chain = core::parseRecallLine("gain db=" + std::to_string(db)).value();
        core::CompileOptions options;
        options.maxBlock = Player::kMostFrames;
        options.live = true;
        return std::make_shared<core::CompiledRig>(core::CompiledRig::compile(rig, options).value());
    };
    const auto swap = std::make_shared<RigSwap>(compiled(-6.0), 48000.0, Player::kMostFrames);
    const auto with = [&](float gain) {
        auto p = program({test::sine(1000.0, 0.4, 48000.0, 2.0)}, 0, 96000);
        p->entries[0].rig = swap;
        p->entries[0].fullScaleV = 4.0, p->entries[0].outputScale = 0.25;
        p->entries[0].gain = gain;
        return p;
    };
    Rig rig;
    rig.player.setProgram(with(1.0f));
    rig.player.setPlaying(true);
    rig.heard(24000);
    const auto level = [&](std::size_t frames) {
        const auto& x = rig.heard(frames);
        return 20.0 * std::log10(test::amplitudeAt(x, 1000.0, 48000.0) / 0.4);
    };
    QVERIFY(std::abs(level(4800) + 6.0) < 0.05);
    swap->set(compiled(-12.0));
    rig.heard(2400); // 50 ms
    QVERIFY2(std::abs(level(4800) + 12.0) < 0.05, "50 ms after the change");
    rig.player.setProgram(with(0.5f));
    const auto gliding = rig.heard(9600);
    QVERIFY(steepestRise(gliding) < 1.0);
    for (std::size_t i = 480; i + 480 < gliding.size(); i += 48) // no gap, no jump
        QVERIFY(test::amplitudeAt({gliding.begin() + long(i), gliding.begin() + long(i) + 480}, 1000.0, 48000.0) >
                0.04);
    const double last = level(4800);
    QVERIFY2(std::abs(last + 18.02) < 0.05, qPrintable(QString::number(last)));
}

void TestPlayer::monoSumsBothSides()
{
    Rig r;
    auto p = std::make_shared<Program>();
    const auto x = test::sine(500.0, 0.4, 48000.0, 1.0);
    auto y = x;
    for (float& v : y) v = -v;
    p->entries.push_back({std::make_shared<core::Recording>(test::recording({x, y}, 48000)), 1.0f});
    p->loopEnd = 48000;
    r.player.setProgram(p);
    r.player.setPlaying(true);
    r.heard(12000);
    QVERIFY(*std::ranges::max_element(r.heard(9600)) > 0.39f);
    r.player.setMono(true);
    r.heard(9600);
    QVERIFY(*std::ranges::max_element(r.heard(9600)) < 1e-4f); // inverted: nothing is left
}

void TestPlayer::limiterHoldsTheCeiling_data()
{
    QTest::addColumn<double>("hz");
    QTest::addColumn<double>("amplitude");
    for (const double hz : {50.0, 997.0, 11025.0, 12000.0})
        for (const double a : {1.0, 3.0, 30.0}) QTest::addRow("%g Hz, %g", hz, a) << hz << a;
}

void TestPlayer::limiterHoldsTheCeiling()
{
    QFETCH(double, hz);
    QFETCH(double, amplitude);
    SafetyLimiter limiter;
    limiter.prepare(48000.0);
    auto l = test::sine(hz, amplitude, 48000.0, 1.0, 0.7), r = l;
    std::fill(l.begin(), l.begin() + 10000, 0.0f); // comes at once
    limiter.process(l.data(), r.data(), l.size());
    // True peak by a much finer interpolation than the limiter's own: 16 points between samples, 64 taps.
    double peak = 0.0;
    for (std::size_t i = 9000; i<40000; i += hz> 5000 ? 1 : 7)
        for (int k = 0; k < 16; ++k) {
            double y = 0.0;
            for (int t = -32; t < 32; ++t) {
                const double d = double(t) - k / 16.0;
                const double sinc = std::abs(d) < 1e-9 ? 1.0 : std::sin(std::numbers::pi * d) / (std::numbers::pi * d);
                y += double(l[i + std::size_t(t + 32)]) * sinc * (0.5 + 0.5 * std::cos(std::numbers::pi * d / 33.0));
            }
            peak = std::max(peak, std::abs(y));
            if (hz < 5000) break;
        }
    QVERIFY2(20.0 * std::log10(peak) < -0.9,
             qPrintable(QString::number(20.0 * std::log10(peak)))); // -1 dBTP, the ruler's own error aside
}

namespace {

/// Stretches of unlike kinds and levels: noise, tones, what alternates, single samples, signs at random, levels at
/// random; from -40 dBFS up to `topDb`.
std::vector<float> extremes(std::mt19937& random, std::size_t frames, double topDb)
{
    std::uniform_real_distribution<double> any(0.0, 1.0);
    std::vector<float> out;
    while (out.size() < frames) {
        const auto length = std::size_t(1.0 + std::pow(10.0, 3.0 * any(random)));
        const double level = std::pow(10.0, (-40.0 + (topDb + 40.0) * any(random)) / 20.0);
        const int kind = int(7.0 * any(random));
        const double w = std::numbers::pi * any(random), phase = 6.28 * any(random);
        double sign = 1.0;
        for (std::size_t i = 0; i < length && out.size() < frames; ++i) {
            const auto flip = [&] { return any(random) < 0.5 ? 1.0 : -1.0; };
            double x = 0.0;
            switch (kind) {
            case 0: x = 2.0 * any(random) - 1.0; break;
            case 1: x = std::sin(w * double(i) + phase); break;
            case 2: x = i % 2 ? 1.0 : -1.0; break;
            case 3: x = any(random) < 0.02 ? flip() : 0.0; break;
            case 4: x = flip(); break;
            case 5: x = sign = any(random) < 0.1 ? -sign : sign; break;
            default: x = std::pow(10.0, -4.0 * any(random)) * flip(); break;
            }
            out.push_back(float(x * level));
        }
    }
    return out;
}

} // namespace

void TestPlayer::limiterBearsAnything_data()
{
    QTest::addColumn<int>("rateHz");
    for (const int rate : {8000, 11025, 22050, 44100, 48000, 96000, 192000}) QTest::addRow("%d Hz", rate) << rate;
}

/// The true peak of what comes out by another library's meter, and its samples. `./run soak` takes a million blocks.
void TestPlayer::limiterBearsAnything()
{
    QFETCH(int, rateHz);
    constexpr std::size_t kFrames = 4096, kBlock = 64;
    const int asked = qEnvironmentVariableIntValue("GRISTLE_LIMITER_BLOCKS");
    const int runs = std::max(40, asked / 7 / int(kFrames / kBlock));
    double most = 0.0;
    for (int run = 0; run < runs; ++run) {
        std::mt19937 random(std::uint32_t(run) * 7919u + std::uint32_t(rateHz));
        auto left = extremes(random, kFrames, run % 3 == 0 ? 6.0 : run % 3 == 1 ? 40.0 : 600.0); // up to 1e30
        left.resize(kFrames + 256, 0.0f); // what is in the limiter comes out
        auto right = left;
        std::ranges::reverse(right);
        SafetyLimiter limiter;
        limiter.prepare(rateHz);
        for (std::size_t at = 0; at < left.size(); at += kBlock) limiter.process(&left[at], &right[at], kBlock);
        const std::unique_ptr<ebur128_state, void (*)(ebur128_state*)> meter(
            ebur128_init(2, unsigned(rateHz), EBUR128_MODE_TRUE_PEAK), [](ebur128_state* s) { ebur128_destroy(&s); });
        std::vector<float> both;
        for (std::size_t i = 0; i < left.size(); ++i) both.insert(both.end(), {left[i], right[i]});
        QCOMPARE(ebur128_add_frames_float(meter.get(), both.data(), left.size()), int(EBUR128_SUCCESS));
        for (unsigned c = 0; c < 2; ++c) {
            double peak = 0.0;
            ebur128_true_peak(meter.get(), c, &peak);
            most = std::max(most, peak);
        }
    }
    const double db = 20.0 * std::log10(most);
    QVERIFY2(db < -1.0, qPrintable(QString::number(db)));
}

void TestPlayer::limiterIsTransparentBelow()
{
    SafetyLimiter limiter;
    limiter.prepare(48000.0);
    const auto x = test::sine(997.0, 0.8, 48000.0, 0.2);
    auto l = x, r = x;
    limiter.process(l.data(), r.data(), l.size());
    for (std::size_t i = limiter.latency(); i < x.size(); ++i)
        QVERIFY(std::abs(l[i] - x[i - limiter.latency()]) < 1e-6f);
}

/// A tone that is over by 6 dB is turned down and not bent.
void TestPlayer::limiterKeepsATonesShape_data()
{
    QTest::addColumn<double>("hz");
    for (const double hz : {62.0, 110.0, 440.0, 1000.0}) QTest::addRow("%g Hz", hz) << hz;
}

void TestPlayer::limiterKeepsATonesShape()
{
    QFETCH(double, hz);
    SafetyLimiter limiter;
    limiter.prepare(48000.0);
    auto l = test::sine(hz, 1.8, 48000.0, 2.0), r = l;
    limiter.process(l.data(), r.data(), l.size());
    const std::vector<float> settled(l.end() - 48000, l.end());
    double all = 0.0;
    for (const float v : settled) all += double(v) * double(v) / 48000.0;
    const double tone = test::amplitudeAt(settled, hz, 48000.0), rest = all - 0.5 * tone * tone;
    QVERIFY2(rest < 1e-5 * all, qPrintable(QString::number(10.0 * std::log10(rest / all))));
    const double db = 20.0 * std::log10(tone);
    QVERIFY2(db < -1.0 && db > -1.5, qPrintable(QString::number(db))); // and no more than that is given away
}

void TestPlayer::notANumberIsNotHeard()
{
    SafetyLimiter limiter;
    limiter.prepare(48000.0);
    std::vector<float> l(2000, 0.1f), r(2000, 0.1f);
    l[500] = std::numeric_limits<float>::quiet_NaN();
    r[600] = std::numeric_limits<float>::infinity();
    limiter.process(l.data(), r.data(), l.size());
    // Where they are heard nothing is, and what comes long after is as it was.
    for (std::size_t i = 0; i < l.size(); ++i) {
        QVERIFY(std::isfinite(l[i]) && std::abs(l[i]) <= 0.1001f);
        QVERIFY(std::isfinite(r[i]) && std::abs(r[i]) <= 0.1001f);
        if (i > 1500) QVERIFY(std::abs(l[i] - 0.1f) < 1e-3f && std::abs(r[i] - 0.1f) < 1e-3f);
    }
}

void TestPlayer::callbackAllocatesNothing()
{
    Rig r;
    r.player.setProgram(
        program({test::sine(500.0, 2.0, 48000.0, 1.0), test::sine(900.0, 0.5, 48000.0, 1.0)}, 0, 24000));
    auto other = program({test::sine(300.0, 0.5, 48000.0, 1.0)}, 100, 20000);
    r.player.setPlaying(true);
    std::vector<float> left(512), right(512);
    long allocations = 0, locks = 0;
    for (int block = 0; block < 400; ++block) {
        if (block == 100) r.player.setSlot(1);
        if (block == 150) r.player.setMono(true);
        if (block == 200) r.player.setProgram(other);
        if (block == 300) r.player.setPlaying(false);
        if (block == 340) r.player.seek(5000);
        if (block == 350) r.player.setPlaying(true);
        const test::AllocationWatch watch;
        r.player.fill(left.data(), right.data(), std::size_t(1 + (block * 37) % 512));
        allocations += watch.allocations();
        locks += watch.locks();
    }
    QCOMPARE(allocations, 0L);
    QCOMPARE(locks, 0L);
    { // the watch itself can tell
        const test::AllocationWatch watch;
        ::operator delete(::operator new(8)); // a call that no compiler may leave out
        QVERIFY(watch.allocations() > 0);
    }
    {
        const test::AllocationWatch watch;
        ::operator delete (::operator new (64, std::align_val_t{64}), std::align_val_t{64});
        QVERIFY(watch.allocations() > 0);
    }
#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
    void* volatile p = nullptr;
    const std::function<void()> asks[] = {[&] { p = std::malloc(8); }, [&] { p = std::calloc(2, 8); },
                                          [&] { p = std::realloc(p, 64); }, [&] { p = std::aligned_alloc(32, 64); }};
    for (const auto& ask : asks) {
        const test::AllocationWatch watch;
        ask();
        QVERIFY(watch.allocations() == 1);
        if (&ask != &asks[1]) std::free(p);
    }
#endif
}

void TestPlayer::callbackMakesNoSystemCall()
{
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
    QSKIP("the sanitizers' own run time makes system calls");
#endif
    // A child may, from a point on, do nothing but read, write and exit: the kernel ends it at any other system call.
    const auto endOf = [](bool callsSomething) {
        const pid_t child = ::fork();
        if (child == 0) {
            Rig r;
            r.player.setProgram(
                program({test::sine(500.0, 2.0, 48000.0, 1.0), test::sine(900.0, 0.5, 48000.0, 1.0)}, 0, 24000));
            r.player.setPlaying(true);
            std::vector<float> left(512), right(512);
            r.player.fill(left.data(), right.data(), 512);
            r.player.setProgram(program({test::sine(300.0, 0.5, 48000.0, 1.0)}, 100, 20000));
            if (::prctl(PR_SET_SECCOMP, SECCOMP_MODE_STRICT) != 0) ::_exit(77);
            for (int block = 0; block < 600; ++block) {
                if (block == 100) r.player.setSlot(1);
                if (block == 150) r.player.setMono(true);
                if (block == 300) r.player.setPlaying(false);
                if (block == 340) r.player.seek(5000);
                if (block == 350) r.player.setPlaying(true);
                if (block == 400 && callsSomething) (void)::getppid();
                r.player.fill(left.data(), right.data(), std::size_t(1 + (block * 37) % 512));
            }
            ::syscall(SYS_exit, 0);
        }
        int status = 0;
        ::waitpid(child, &status, 0);
        return status;
    };
    const int quiet = endOf(false);
    if (WIFEXITED(quiet) && WEXITSTATUS(quiet) == 77) QSKIP("this kernel has no strict mode");
    QVERIFY(WIFEXITED(quiet) && WEXITSTATUS(quiet) == 0);
    QVERIFY(WIFSIGNALED(endOf(true))); // the trap itself works
}

void TestPlayer::programsAreFreedAfterUse()
{
    Rig r;
    std::weak_ptr<const Program> first;
    {
        auto p = program({test::sine(500.0, 0.5, 48000.0, 1.0)}, 0, 24000);
        first = p;
        r.player.setProgram(std::move(p));
    }
    r.player.setPlaying(true);
    r.heard(10000);
    QVERIFY(!first.expired()); // it is being played
    r.player.setProgram(program({test::sine(300.0, 0.5, 48000.0, 1.0)}, 0, 24000));
    r.heard(256);
    QVERIFY(!first.expired()); // fading out
    r.heard(20000);
    r.player.setProgram(nullptr);
    r.heard(20000);
    r.player.setProgram(nullptr);
    QVERIFY(first.expired());
}

void TestPlayer::changesFromAnotherThread()
{
    // For the thread sanitizer: the audio thread runs while programs, slots and wishes come from this one.
    Player player(48000.0);
    SimulatedDevice device(48000.0, 64, SimulatedDevice::Clock::RealTime);
    QVERIFY(bool(device.start(player)));
    player.setPlaying(true);
    float loudest = 0.0f;
    for (int i = 0; i < 200; ++i) {
        player.setProgram(
            program({test::sine(300.0 + i, 0.3, 48000.0, 0.5), test::sine(200.0, 0.3, 48000.0, 0.5)}, 2400, 24000));
        player.setSlot(std::size_t(i % 2));
        player.setMono(i % 3 == 0);
        MeterFrame frame;
        while (player.readMeter(frame)) {
            loudest = std::max(loudest, frame.peak[0]);
            QVERIFY(frame.peak[0] < 0.45f); // two tones of 0.3 at most, at equal power
        }
        if (i % 20 == 0) QTest::qSleep(5);
    }
    const auto isHeard = [&] {
        MeterFrame frame;
        while (player.readMeter(frame)) loudest = std::max(loudest, frame.peak[0]);
        return loudest > 0.1f;
    };
    QTRY_VERIFY_WITH_TIMEOUT(isHeard(), 60000);
    device.stop();
}

void TestPlayer::metersTellWhatIsHeard()
{
    Rig r;
    r.player.setProgram(program({test::sine(997.0, 0.5, 48000.0, 1.0)}, 0, 48000));
    r.player.setPlaying(true);
    r.heard(24000);
    MeterFrame frame, last;
    while (r.player.readMeter(frame)) {}
    r.heard(24000);
    double squares = 0.0, frames = 0.0;
    while (r.player.readMeter(last)) squares += last.squares[0], frames += last.frames;
    QVERIFY(std::abs(squares / frames - 0.125) < 0.001);
    QVERIFY(std::abs(last.peak[1] - 0.5f) < 0.005f);
}

QTEST_APPLESS_MAIN(TestPlayer)
#include "test_player.moc"
