#include "core/rig/circuit/guitar_circuit.h"
#include "engine/rt/recorder.h"
#include "engine/simulated/simulated_device.h"
#include "support/allocation_watch.h"
#include "support/file_size_limit.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <atomic>
#include <csignal>
#include <fstream>
#include <sndfile.h>
#include <sys/wait.h>
#include <thread>
#include <unistd.h>

using namespace gristle;
using namespace gristle::engine;
namespace fs = std::filesystem;

namespace {

class Quiet final : public AudioSource {
public:
    void fill(float* left, float* right, std::size_t frames) noexcept override
    {
        std::fill_n(left, frames, 0.0f);
        std::fill_n(right, frames, 0.0f);
    }
};

/// A frame's number as a sample that 24 bits and floats hold exactly.
float numbered(std::int64_t frame, std::size_t channel)
{
    return float(frame % 4000000 + std::int64_t(channel)) * 0x1p-23f;
}

/// Hands numbered frames to a recorder in blocks.
struct Feeder {
    Recorder& recorder;
    std::size_t channels;
    std::int64_t at = 0;
    std::vector<std::vector<float>> data{channels, std::vector<float>(4096)};

    void give(std::size_t frames, bool lost = false)
    {
        std::vector<const float*> pointers;
        for (std::size_t c = 0; c < channels; ++c) {
            for (std::size_t i = 0; i < frames; ++i) data[c][i] = numbered(at + std::int64_t(i), c);
            pointers.push_back(data[c].data());
        }
        recorder.take(pointers.data(), channels, frames, lost);
        at += std::int64_t(frames);
    }
};

RecordPlan planFor(const QTemporaryDir& dir, const char* name, std::vector<std::size_t> inputs)
{
    RecordPlan plan;
    plan.file = dir.filePath(name).toStdString();
    plan.format = {48000, inputs.size(), core::SampleFormat::Int24, "riff, left", "2026-11-25T05:06:07"};
    plan.inputs = std::move(inputs);
    return plan;
}

std::size_t numberedFrom(const core::Recording& r, std::int64_t first, std::size_t channel, std::size_t input)
{
    for (std::size_t i = 0; i < r.audio.frames(); ++i)
        if (r.audio.channel(channel)[i] != numbered(first + std::int64_t(i), input)) return i;
    return r.audio.frames();
}

} // namespace

class TestRecorder : public QObject {
    Q_OBJECT
private slots:
    void everyFrameIsThere_data();
    void everyFrameIsThere();
    void inputsAreChosen();
    void stopsByItself();
    void gapsAreMarked();
    void aSlowDiskIsToldAndNotHidden();
    void fullDiskKeepsWhatFits();
    void startsOverAFileNever();
    void broadcastChunkSaysWhen();
    void metersWithoutRecording();
    void metersCountEachSampleOnce();
    void takeAllocatesAndLocksNothing();
    void killedWhileRecording();
    void simulatedInterfaceIsHeard();
    void simulatedFaults();
    void gainAndAngleOfTheRoom();
    void guitarAndInputOfTheRoom();
    void aNewRateEndsTheStream();
    void performanceIsSwappedWhileItPlays();
    void spaceIsToldInSeconds();
};

void TestRecorder::everyFrameIsThere_data()
{
    QTest::addColumn<int>("channels");
    QTest::addColumn<int>("block");
    QTest::newRow("one, 64") << 1 << 64;
    QTest::newRow("two, 1") << 2 << 1;
    QTest::newRow("eight, 333") << 8 << 333;
}

void TestRecorder::everyFrameIsThere()
{
    QFETCH(int, channels);
    QFETCH(int, block);
    QTemporaryDir dir;
    Recorder recorder;
    std::vector<std::size_t> inputs;
    for (int c = 0; c < channels; ++c) inputs.push_back(std::size_t(c));
    const auto plan = planFor(dir, "take.wav", inputs);
    Feeder feeder{recorder, std::size_t(channels)};
    feeder.give(std::size_t(block)); // before it records: not in the file
    const std::int64_t first = feeder.at;
    QVERIFY(bool(recorder.start(plan)));
    for (int i = 0; i < 20000 / block; ++i) feeder.give(std::size_t(block));
    const std::int64_t last = feeder.at;
    const auto report = recorder.finish();
    feeder.give(std::size_t(block)); // after it: not in it either
    QCOMPARE(report.frames, last - first);
    QVERIFY(report.gaps.empty() && report.lostFrames == 0 && !report.failure);
    const auto r = core::readRecording(plan.file);
    QVERIFY(r && r->audio.frames() == std::size_t(last - first));
    for (std::size_t c = 0; c < std::size_t(channels); ++c) QCOMPARE(numberedFrom(*r, first, c, c), r->audio.frames());
}

void TestRecorder::inputsAreChosen()
{
    QTemporaryDir dir;
    Recorder recorder;
    const auto plan = planFor(dir, "take.wav", {2, 0, 2}); // one input may feed several layers
    QVERIFY(bool(recorder.start(plan)));
    Feeder feeder{recorder, 3};
    for (int i = 0; i < 100; ++i) feeder.give(100);
    recorder.finish();
    const auto r = core::readRecording(plan.file);
    QVERIFY(r && r->audio.channels() == 3);
    QCOMPARE(numberedFrom(*r, 0, 0, 2), std::size_t(10000));
    QCOMPARE(numberedFrom(*r, 0, 1, 0), std::size_t(10000));
    QCOMPARE(numberedFrom(*r, 0, 2, 2), std::size_t(10000));
}

void TestRecorder::stopsByItself()
{
    QTemporaryDir dir;
    Recorder recorder;
    auto plan = planFor(dir, "take.wav", {0});
    plan.frames = 1234;
    QVERIFY(bool(recorder.start(plan)));
    Feeder feeder{recorder, 1};
    for (int i = 0; i < 30; ++i) feeder.give(64);
    QVERIFY(!recorder.isRecording());
    QCOMPARE(recorder.finish().frames, std::int64_t(1234));
    QVERIFY(bool(recorder.start(planFor(dir, "again.wav", {0})))); // and may begin again
    QCOMPARE(recorder.start(plan).error().code, core::ErrorCode::Usage);
}

void TestRecorder::gapsAreMarked()
{
    QTemporaryDir dir;
    Recorder recorder;
    QVERIFY(bool(recorder.start(planFor(dir, "take.wav", {0}))));
    Feeder feeder{recorder, 1};
    for (int i = 0; i < 50; ++i) feeder.give(64, i == 20 || i == 33);
    const auto report = recorder.finish();
    QCOMPARE(report.gaps, (std::vector<Gap>{{20 * 64, true}, {33 * 64, true}}));
    QCOMPARE(report.frames, std::int64_t(3200)); // the take goes on
}

void TestRecorder::aSlowDiskIsToldAndNotHidden()
{
    QTemporaryDir dir;
    Recorder recorder;
    auto plan = planFor(dir, "take.wav", {0});
    plan.ringSeconds = 0.01; // 481 frames, and the writer looks every 20 ms
    QVERIFY(bool(recorder.start(plan)));
    QTest::qSleep(5); // it has looked, and sleeps
    Feeder feeder{recorder, 1};
    for (int i = 0; i < 20; ++i) feeder.give(100);
    const auto report = recorder.finish();
    QVERIFY(report.lostFrames > 0);
    QCOMPARE(report.frames + report.lostFrames, std::int64_t(2000));
    QVERIFY(!report.gaps.empty() && !report.gaps[0].fromSystem);
    const auto r = core::readRecording(plan.file);
    QCOMPARE(numberedFrom(*r, 0, 0, 0), std::size_t(report.gaps[0].frame)); // up to the gap, all is there
}

void TestRecorder::fullDiskKeepsWhatFits()
{
    QTemporaryDir dir;
    const auto plan = planFor(dir, "take.wav", {0});
    Recorder recorder;
    {
        const test::FileSizeLimit limit(90000);
        QVERIFY(bool(recorder.start(plan)));
        Feeder feeder{recorder, 1};
        for (int i = 0; i < 100; ++i) feeder.give(1000); // 300 kB
        QVERIFY(QTest::qWaitFor([&] { return !recorder.isRecording(); }));
        const auto report = recorder.finish();
        QVERIFY(report.failure && report.failure->message.find("disk is full") != std::string::npos);
        QVERIFY(report.frames > 20000);
    }
    const auto r = core::readRecording(plan.file);
    QVERIFY(r && r->audio.frames() > 20000);
    QCOMPARE(numberedFrom(*r, 0, 0, 0), r->audio.frames());
}

void TestRecorder::startsOverAFileNever()
{
    QTemporaryDir dir;
    const auto plan = planFor(dir, "take.wav", {0});
    std::ofstream(plan.file) << "something dear";
    Recorder recorder;
    QCOMPARE(recorder.start(plan).error().code, core::ErrorCode::WriteFailed);
    QVERIFY(!recorder.isRecording());
    std::string text;
    std::getline(std::ifstream(plan.file), text);
    QCOMPARE(text, std::string("something dear"));
}

void TestRecorder::broadcastChunkSaysWhen()
{
    QTemporaryDir dir;
    Recorder recorder;
    const auto plan = planFor(dir, "take.wav", {0});
    QVERIFY(bool(recorder.start(plan)));
    Feeder feeder{recorder, 1};
    feeder.give(480);
    recorder.finish();
    SF_INFO info{};
    SNDFILE* f = sf_open(plan.file.c_str(), SFM_READ, &info);
    QVERIFY(f);
    const int container = info.format & SF_FORMAT_TYPEMASK; // RF64 only past 4 GiB
    QVERIFY(container == SF_FORMAT_WAV || container == SF_FORMAT_WAVEX);
    SF_BROADCAST_INFO b{};
    QCOMPARE(sf_command(f, SFC_GET_BROADCAST_INFO, &b, sizeof b), SF_TRUE);
    sf_close(f);
    QCOMPARE(QByteArray(b.description), QByteArray("riff, left"));
    QCOMPARE(QByteArray(b.origination_date, 10), QByteArray("2026-11-25"));
    QCOMPARE(QByteArray(b.origination_time, 8), QByteArray("05:06:07"));
    QCOMPARE(std::uint64_t(b.time_reference_high) << 32 | b.time_reference_low,
             std::uint64_t((5 * 60 + 6) * 60 + 7) * 48000); // samples since midnight
}

void TestRecorder::metersWithoutRecording()
{
    Recorder recorder;
    auto x = test::sine(1000.0, 0.5, 48000.0, 0.1);
    x[100] = x[101] = 1.0f;
    const float* input = x.data();
    recorder.take(&input, 1, x.size(), false);
    const auto level = recorder.level(0);
    QCOMPARE(level.peak, 1.0f);
    QCOMPARE(level.clipped, std::int64_t(2));
    QVERIFY(std::abs(level.rectified - 1.0 / std::numbers::pi) < 0.003); // 0.5 x 2 / pi, and two samples more
    QCOMPARE(recorder.level(0).peak, 0.0f);                              // since the last look
    QCOMPARE(recorder.level(99).peak, 0.0f);
}

/// Somebody looks all the time while blocks come: all looks together are all that came, and every peak is seen.
void TestRecorder::metersCountEachSampleOnce()
{
    Recorder recorder;
    constexpr std::size_t kBlock = 32;
    constexpr int kBlocks = 40000;
    std::atomic<bool> isOver{false};
    std::thread audio([&] {
        std::vector<float> x(kBlock, 0.25f);
        const float* inputs[1] = {x.data()};
        for (int i = 0; i < kBlocks; ++i) {
            x[7] = i % 1000 == 999 ? 0.9f : 0.25f;
            recorder.take(inputs, 1, kBlock, false);
        }
        isOver = true;
    });
    std::int64_t frames = 0;
    double sizes = 0.0;
    int peaks = 0;
    const auto look = [&] {
        const InputLevel level = recorder.level(0);
        frames += level.frames;
        sizes += level.rectified * double(level.frames);
        peaks += level.peak > 0.5f;
        return level.frames == 0 || std::abs(level.rectified - 0.25) < 0.25; // of whole blocks
    };
    bool isWhole = true;
    while (!isOver) isWhole = look() && isWhole;
    isWhole = look() && isWhole;
    audio.join();
    isWhole = look() && isWhole;
    QVERIFY(isWhole);
    QCOMPARE(frames, std::int64_t(kBlocks) * std::int64_t(kBlock));
    const double all = 0.25 * double(frames) + (kBlocks / 1000) * 0.65;
    QVERIFY2(std::abs(sizes - all) < 1e-6 * all, qPrintable(QString::number(sizes - all)));
    QVERIFY(peaks >= 1 && peaks <= kBlocks / 1000); // several may fall into one look, none into two
}

void TestRecorder::takeAllocatesAndLocksNothing()
{
    QTemporaryDir dir;
    Recorder recorder;
    QVERIFY(bool(recorder.start(planFor(dir, "take.wav", {0, 1}))));
    std::vector<float> x(512, 0.1f);
    const float* inputs[] = {x.data(), x.data()};
    long allocations = 0, locks = 0;
    for (int i = 0; i < 300; ++i) {
        const test::AllocationWatch watch;
        recorder.take(inputs, 2, std::size_t(1 + i % 512), i % 50 == 0);
        allocations += watch.allocations();
        locks += watch.locks();
    }
    QCOMPARE(allocations, 0L);
    QCOMPARE(locks, 0L);
}

void TestRecorder::killedWhileRecording()
{
#if defined(__SANITIZE_THREAD__)
    QSKIP("the thread sanitizer lets no forked child start threads");
#endif
    // A child records in real time from the simulated clock of blocks; it is killed. At most a second is missing.
    for (int round = 0; round < 4; ++round) {
        QTemporaryDir dir;
        const auto plan = planFor(dir, "take.wav", {0});
        int pipeEnds[2];
        QVERIFY(::pipe(pipeEnds) == 0);
        const pid_t child = ::fork();
        if (child == 0) {
            Recorder recorder;
            if (!recorder.start(plan)) ::_exit(1);
            Feeder feeder{recorder, 1};
            for (;;) {
                feeder.give(480);
                if (::write(pipeEnds[1], &feeder.at, sizeof feeder.at) < 0) ::_exit(2);
                ::usleep(10000);
            }
        }
        ::close(pipeEnds[1]);
        QTest::qSleep(700 + 130 * round);
        ::kill(child, SIGKILL);
        std::int64_t given = 0, n = 0;
        while (::read(pipeEnds[0], &n, sizeof n) == ssize_t(sizeof n)) given = n;
        ::close(pipeEnds[0]);
        int status = 0;
        ::waitpid(child, &status, 0);
        QVERIFY(WIFSIGNALED(status));
        const auto r = core::readRecording(plan.file);
        QVERIFY(r && given > 20000);
        QVERIFY2(std::int64_t(r->audio.frames()) >= given - 48000,
                 qPrintable(QString("%1 of %2").arg(r->audio.frames()).arg(given)));
        QCOMPARE(numberedFrom(*r, 0, 0, 0), r->audio.frames());
    }
}

void TestRecorder::simulatedInterfaceIsHeard()
{
    QTemporaryDir dir;
    SimulatedRoom::Setup setup;
    setup.performanceV = test::sine(440.0, 0.1, 48000.0, 1.0); // volts
    setup.humDbu = -200.0;
    auto room = std::make_shared<SimulatedRoom>(setup);
    room->setGainDb(12.0);
    SimulatedDevice device(48000.0, 128, SimulatedDevice::Clock::Manual, room);
    Quiet quiet;
    Recorder recorder;
    QVERIFY(bool(device.start(quiet, &recorder)));
    const auto plan = planFor(dir, "take.wav", {0, 1});
    QVERIFY(bool(recorder.start(plan)));
    device.advance(96000);
    recorder.finish();
    const auto r = core::readRecording(plan.file);
    QVERIFY(r && r->audio.frames() == 96000);
    // 0.1 V peak; full scale is 0.7746 sqrt(2) 10^(12/20) V at 0 dB, and the preamp gives 12 dB.
    const double wanted = 0.1 / (0.7746 * std::numbers::sqrt2 * std::pow(10.0, 0.6)) * std::pow(10.0, 0.6);
    const auto x = r->audio.channel(0);
    QVERIFY(std::abs(test::amplitudeAt({x.begin(), x.end()}, 440.0, 48000.0) / wanted - 1.0) < 1e-3);
    const auto other = r->audio.channel(1); // nobody is plugged in there
    QVERIFY(*std::ranges::max_element(other) < 1e-3f);
}

void TestRecorder::simulatedFaults()
{
    QTemporaryDir dir;
    SimulatedRoom::Setup setup;
    setup.performanceV = test::sine(440.0, 0.1, 48000.0, 1.0);
    auto room = std::make_shared<SimulatedRoom>(setup);
    SimulatedDevice device(48000.0, 128, SimulatedDevice::Clock::Manual, room);
    Quiet quiet;
    Recorder recorder;
    QVERIFY(bool(device.start(quiet, &recorder)));
    QVERIFY(bool(recorder.start(planFor(dir, "take.wav", {0, 1}))));
    device.advance(12800);
    room->loseOnce();
    device.advance(12800);
    room->setSwapped(true);
    device.advance(12800);
    room->setSwapped(false);
    room->setSilent(true);
    device.advance(12800);
    room->unplugDevice();
    device.advance(12800); // nothing comes any more
    QVERIFY(!device.isRunning());
    const auto report = recorder.finish();
    QCOMPARE(report.frames, std::int64_t(4 * 12800));
    QCOMPARE(report.gaps, (std::vector<Gap>{{12800, true}}));
    const auto r = core::readRecording(dir.filePath("take.wav").toStdString());
    const auto loud = [&](std::size_t channel, std::size_t from) {
        const auto x = r->audio.channel(channel).subspan(from, 12800);
        return *std::ranges::max_element(x) > 0.01f;
    };
    QVERIFY(loud(0, 0) && !loud(1, 0));
    QVERIFY(!loud(0, 25600) && loud(1, 25600));  // swapped
    QVERIFY(!loud(0, 38400) && !loud(1, 38400)); // unplugged
    QCOMPARE(device.start(quiet, &recorder).error().code, core::ErrorCode::WriteFailed);
}

void TestRecorder::gainAndAngleOfTheRoom()
{
    SimulatedRoom::Setup setup;
    setup.mainsHz = 50.0;
    SimulatedRoom room(setup);
    std::vector<float> a(48000), b(48000);
    float* inputs[] = {a.data(), b.data()};
    const auto humAt = [&](double gain, double angle) {
        room.setGainDb(gain);
        room.setAngleDeg(angle);
        room.read(inputs, 48000, nullptr, nullptr);
        return 20.0 * std::log10(test::amplitudeAt(a, 50.0, 48000.0));
    };
    const double quiet = humAt(30.0, 70.0), worst = humAt(30.0, 160.0), louder = humAt(40.4, 160.0);
    QVERIFY(std::abs(worst - quiet - 20.0) < 1.0);  // noise is in the quiet one too
    QVERIFY(std::abs(louder - worst - 10.0) < 0.1); // the knob clicks in whole decibels
}

// The circuit between magnet and input: by the node equations of another file, and by a divider where that is enough.
void TestRecorder::guitarAndInputOfTheRoom()
{
    SimulatedRoom::Setup setup;
    setup.humDbu = setup.inputNoiseDbu = setup.converterNoiseDbfs = -200.0;
    setup.performanceV = test::sine(2500.0, 0.1, 48000.0, 1.0);
    setup.guitar = core::GuitarCircuit{};
    SimulatedRoom room(setup);
    const double fullScaleV = 0.7746 * std::numbers::sqrt2 * std::pow(10.0, 12.0 / 20.0);
    std::vector<float> a(96000), b(96000);
    float* inputs[] = {a.data(), b.data()};
    const auto volts = [&] {
        room.read(inputs, 96000, nullptr, nullptr);
        return fullScaleV * test::amplitudeAt({a.begin() + 48000, a.end()}, 2500.0, 48000.0);
    };
    const auto expected = [&] { return 0.1 * std::abs(core::responseAt(*room.guitar(), 2500.0)); };
    QVERIFY(std::abs(volts() / expected() - 1.0) < 0.01);
    room.setHighImpedance(false);
    QCOMPARE(room.guitar()->input.ohm, 10e3);
    const double line = volts();
    QVERIFY(std::abs(line / expected() - 1.0) < 0.01);
    QVERIFY(line < 0.03); // 10 kilohms below the coil's 39 kilohms at 2.5 kHz
    room.setHighImpedance(true);
    core::GuitarCircuit half = *room.guitar();
    half.controls.volume = 5.0;
    room.setGuitar(half);
    QVERIFY(volts() < 0.02); // an audio taper gives a tenth at half the turn
}

void TestRecorder::aNewRateEndsTheStream()
{
    auto room = std::make_shared<SimulatedRoom>(SimulatedRoom::Setup{});
    SimulatedDevice device(48000.0, 128, SimulatedDevice::Clock::Manual, room);
    Quiet quiet;
    Recorder recorder;
    QVERIFY(bool(device.start(quiet, &recorder)));
    device.advance(1280);
    QVERIFY(device.isRunning());
    room->changeRate(44100);
    QVERIFY(!device.isRunning());
    QVERIFY(device.endedBecause().find("44100 Hz") != std::string::npos);
}

// The audio thread reads while another performance comes, many times: no reading of what is gone (the sanitizers look),
// and what is heard at last is the last one.
void TestRecorder::performanceIsSwappedWhileItPlays()
{
    SimulatedRoom::Setup setup;
    setup.humDbu = setup.inputNoiseDbu = setup.converterNoiseDbfs = -200.0;
    setup.performanceV.assign(1000, 0.01f);
    SimulatedRoom room(setup);
    std::atomic<bool> stop{false};
    std::vector<float> a(64), b(64);
    std::jthread audio([&] {
        float* inputs[] = {a.data(), b.data()};
        while (!stop) room.read(inputs, 64, nullptr, nullptr);
        room.read(inputs, 64, nullptr, nullptr);
    });
    for (int i = 0; i < 300; ++i) room.setPerformance(std::vector<float>(500 + std::size_t(i), 0.02f));
    room.setPerformance(std::vector<float>(700, 0.1f));
    stop = true;
    audio.join();
    const double fullScaleV = 0.7746 * std::numbers::sqrt2 * std::pow(10.0, 12.0 / 20.0);
    QVERIFY(std::abs(double(a[10]) - 0.1 / fullScaleV) < 1e-6);
}

void TestRecorder::spaceIsToldInSeconds()
{
    const core::TakeFormat format{96000, 8, core::SampleFormat::Int24, "", ""};
    QCOMPARE(bytesPerSecond(format), 96000.0 * 8.0 * 3.0);
    const auto seconds = secondsLeft(QDir::tempPath().toStdString(), format);
    QVERIFY(seconds && *seconds > 0.0);
    QVERIFY(!secondsLeft("/no such folder", format));
}

QTEST_GUILESS_MAIN(TestRecorder)
#include "test_recorder.moc"
