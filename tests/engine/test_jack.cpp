// Recording from a real JACK server with its dummy driver, started here under a name of its own. A client feeds a
// counter, so that a lost frame shows.

#include "engine/rt/recorder.h"
#include "support/signals.h"

#include <QProcess>
#include <QStandardPaths>
#include <QtTest/QtTest>
#include <jack/jack.h>

using namespace gristle;
using namespace gristle::engine;

namespace {

constexpr int kRate = 96000;
constexpr std::int64_t kTurn = 1 << 22; // exact in a float

class Quiet final : public AudioSource {
public:
    void fill(float* left, float* right, std::size_t frames) noexcept override
    {
        std::fill_n(left, frames, 0.0f);
        std::fill_n(right, frames, 0.0f);
    }
};

/// A client whose one output says which frame of the server's each sample is.
struct Counter {
    jack_client_t* client = nullptr;
    jack_port_t* out = nullptr;

    bool open()
    {
        client = jack_client_open("counter", JackNoStartServer, nullptr);
        if (!client) return false;
        out = jack_port_register(client, "out", JACK_DEFAULT_AUDIO_TYPE, JackPortIsOutput, 0);
        jack_set_process_callback(
            client,
            [](jack_nframes_t frames, void* self) {
                auto& me = *static_cast<Counter*>(self);
                const std::int64_t at = jack_last_frame_time(me.client);
                auto* x = static_cast<float*>(jack_port_get_buffer(me.out, frames));
                for (jack_nframes_t i = 0; i < frames; ++i) x[i] = float((at + i) % kTurn) / float(2 * kTurn);
                return 0;
            },
            this);
        return out && jack_activate(client) == 0;
    }
    ~Counter()
    {
        if (client) jack_client_close(client);
    }
};

std::uint64_t sumOf(std::uint64_t sum, float x) noexcept
{
    return (sum ^ std::bit_cast<std::uint32_t>(x)) * 1099511628211u; // FNV-1a by samples
}

/// Stands between device and recorder, and remembers what was delivered: a sum of every block.
class Witness final : public AudioSink {
public:
    explicit Witness(Recorder& recorder) : recorder_(recorder) {}
    std::vector<std::uint64_t> sums = std::vector<std::uint64_t>(1 << 21);
    std::atomic<std::size_t> blocks{0};

    void take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept override
    {
        if (recorder_.isRecording() && blocks < sums.size()) {
            std::uint64_t sum = 1;
            for (std::size_t i = 0; i < frames; ++i)
                for (std::size_t c = 0; c < channels; ++c) sum = sumOf(sum, inputs[c][i]);
            sums[blocks++] = sum;
        }
        recorder_.take(inputs, channels, frames, lost);
    }

private:
    Recorder& recorder_;
};

/// The frame that the first sample of a block of the counter's says; none where the block is not one of its.
std::optional<std::int64_t> countOf(std::span<const float> block)
{
    const auto count = [](float x) { return std::llround(double(x) * double(2 * kTurn)); };
    const std::int64_t first = count(block[0]);
    for (std::size_t i = 1; i < block.size(); ++i)
        if (count(block[i]) != (first + std::int64_t(i)) % kTurn) return std::nullopt;
    return first;
}

} // namespace

class TestJack : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void theServerIsListed();
    void whatItLacksIsNamed();
    void noDeliveredFrameIsLost();
    void aLostServerKeepsTheTake_data();
    void aLostServerKeepsTheTake();
    void cleanupTestCase();

private:
    bool startServer();
    void stopServer();
    QProcess server_;
    QTemporaryDir dir_;
};

void TestJack::initTestCase()
{
    if (QStandardPaths::findExecutable("jackd").isEmpty())
        QSKIP("jackd is not installed: `./run test` installs jackd2");
    qputenv("JACK_DEFAULT_SERVER",
            QByteArray("gristle-test-") + QByteArray::number(QCoreApplication::applicationPid()));
    qputenv("JACK_NO_START_SERVER", "1");
    qunsetenv("GRISTLE_NO_DEVICE");
    const bool up = startServer();
    QFile said(dir_.filePath("jackd.log"));
    if (!up && said.open(QIODevice::ReadOnly))
        QSKIP(qPrintable("jackd does not answer here: " + said.readAll().right(300)));
}

bool TestJack::startServer()
{
    // Into a file: a pipe that nobody reads while samples are compared would fill up and stop the server.
    server_.setStandardOutputFile(dir_.filePath("jackd.log"));
    server_.setStandardErrorFile(dir_.filePath("jackd.log"), QIODevice::Append);
    server_.start("jackd", {"--no-realtime", "-n", qEnvironmentVariable("JACK_DEFAULT_SERVER"), "-d", "dummy", "-r",
                            QString::number(kRate), "-p", "64", "-C", "8", "-P", "8"});
    if (!server_.waitForStarted(5000)) return false;
    return QTest::qWaitFor(
        [] {
            jack_client_t* probe = jack_client_open("probe", JackNoStartServer, nullptr);
            if (probe) jack_client_close(probe);
            return probe != nullptr;
        },
        8000);
}

void TestJack::theServerIsListed()
{
    const auto devices = listDevices();
    const auto jack = std::ranges::find(devices, std::string("JACK:system"), &DeviceInfo::id);
    QVERIFY(jack != devices.end());
    QCOMPARE(jack->inputs, std::size_t(8));
    QCOMPARE(jack->ratesHz, (std::vector<unsigned>{kRate}));
    QCOMPARE(devices.back().system, std::string("simulated"));
}

void TestJack::whatItLacksIsNamed()
{
    const auto rate = openDevice({"JACK:system", 48000.0, 64, 1});
    QCOMPARE(rate.error().code, core::ErrorCode::OutOfRange);
    QVERIFY(rate.error().remedy.find("96000") != std::string::npos);
    const auto inputs = openDevice({"JACK:system", kRate, 64, 9});
    QVERIFY(inputs.error().message.find("8 inputs") != std::string::npos);
    QCOMPARE(openDevice({"JACK:nobody", kRate, 64, 1}).error().code, core::ErrorCode::FileMissing);
}

void TestJack::noDeliveredFrameIsLost()
{
    auto device = openDevice({"JACK:system", kRate, 64, 8});
    QVERIFY(bool(device));
    Quiet quiet;
    Recorder recorder;
    Witness witness(recorder);
    QVERIFY(bool((*device)->start(quiet, &witness)));
    QCOMPARE((*device)->bufferFrames(), std::size_t(64));
    Counter counter;
    QVERIFY(counter.open());
    const char** ports = jack_get_ports(counter.client, "Gristle:.*", JACK_DEFAULT_AUDIO_TYPE, JackPortIsInput);
    QVERIFY(ports);
    int connected = 0;
    for (int i = 0; ports[i]; ++i)
        connected += jack_connect(counter.client, jack_port_name(counter.out), ports[i]) == 0;
    jack_free(ports);
    QCOMPARE(connected, 8); // each besides the driver's silence
    QTest::qWait(200);
    RecordPlan plan;
    plan.file = dir_.filePath("counted.wav").toStdString();
    plan.format = {kRate, 8, core::SampleFormat::Float32, "counter", ""};
    plan.inputs = {0, 1, 2, 3, 4, 5, 6, 7};
    QVERIFY(bool(recorder.start(plan)));
    QTest::qWait(1000 * std::max(5, qEnvironmentVariableIntValue("GRISTLE_SOAK_S"))); // longer in a soak run
    // A busy machine's server delivers less in that time: what counts is what it delivered.
    QTRY_VERIFY_WITH_TIMEOUT(recorder.frames() > 4 * kRate, 60000);
    const auto report = recorder.finish();
    (*device)->stop();
    QCOMPARE(report.lostFrames, std::int64_t(0));
    const auto r = core::readRecording(plan.file);
    QVERIFY(r && r->audio.frames() == std::size_t(report.frames));

    // 1. What the callback was given is what the file holds, block by block.
    const std::size_t blocks = r->audio.frames() / 64;
    QCOMPARE(r->audio.frames() % 64, std::size_t(0));
    std::size_t first = 0; // the witness may have seen a block that came while the recorder was starting
    std::vector<std::uint64_t> sums(blocks, 1);
    for (std::size_t i = 0; i < r->audio.frames(); ++i)
        for (std::size_t c = 0; c < 8; ++c) sums[i / 64] = sumOf(sums[i / 64], r->audio.channel(c)[i]);
    while (first < 3 && witness.sums[first] != sums[0]) ++first;
    QVERIFY(witness.blocks >= first + blocks);
    QVERIFY(std::ranges::equal(sums, std::span(witness.sums).subspan(first, blocks)));

    // 2. Where the server went on without us, so that its count stays ahead, that is told within 5 ms: a client that is
    // late, ours as well as the counter, reads a clock that has moved on by a few blocks (10 minutes on a busy machine
    // showed up to three).
    constexpr std::int64_t kNearFrames = 5 * kRate / 1000;
    const auto x = r->audio.channel(0);
    std::optional<std::int64_t> offset; // of the server's count to the file's
    std::int64_t farthest = 0;
    int jumps = 0, others = 0, late = 0;
    const auto offsetAt = [&](std::size_t b) -> std::optional<std::int64_t> {
        const auto count = countOf(x.subspan(64 * b, 64));
        return count ? std::optional((*count - std::int64_t(64 * b) % kTurn + kTurn) % kTurn) : std::nullopt;
    };
    for (std::size_t b = 0; b + 1 < blocks; ++b) {
        const auto now = offsetAt(b);
        if (!now || now != offsetAt(b + 1)) { // on a busy machine the server mixes blocks that are late
            others += !now;
            continue;
        }
        const std::int64_t ahead = offset ? (*now - *offset + kTurn) % kTurn : 0;
        if (offset && (ahead == 0 || kTurn - ahead <= kNearFrames)) {
            late += ahead != 0; // the counter's own block came a cycle or two late, and was played then
            continue;
        }
        offset = now;
        if (ahead == 0) continue;
        QVERIFY(ahead < kTurn / 2);
        ++jumps;
        std::int64_t nearest = 1 << 30;
        for (const Gap& g : report.gaps) nearest = std::min(nearest, std::abs(g.frame - std::int64_t(64 * b)));
        farthest = std::max(farthest, nearest);
        QVERIFY2(nearest <= kNearFrames, qPrintable(QString("frame %1 is %2 late, the nearest of %3 gaps is %4 away")
                                                        .arg(64 * b)
                                                        .arg(ahead)
                                                        .arg(report.gaps.size())
                                                        .arg(nearest)));
    }
    QVERIFY(others < int(blocks / 10)); // else nothing was shown
    qInfo("%lld frames, %zu gaps told, %d jumps, at most %lld frames from where it is told, %d blocks mixed, %d of a "
          "counter that was late",
          static_cast<long long>(report.frames), report.gaps.size(), jumps, static_cast<long long>(farthest), others,
          late);
}

void TestJack::aLostServerKeepsTheTake_data()
{
    QTest::addColumn<bool>("killed");
    QTest::newRow("stopped") << false;
    QTest::newRow("killed, without a word to us") << true;
}

void TestJack::aLostServerKeepsTheTake()
{
    QFETCH(bool, killed);
    if (server_.state() == QProcess::NotRunning && !startServer()) QSKIP("jackd does not start again here");
    auto device = openDevice({"JACK:system", kRate, 64, 1});
    QVERIFY(bool(device));
    Quiet quiet;
    Recorder recorder;
    QVERIFY(bool((*device)->start(quiet, &recorder)));
    RecordPlan plan;
    plan.file = dir_.filePath(killed ? "killed.wav" : "stopped.wav").toStdString();
    plan.format = {kRate, 1, core::SampleFormat::Int24, "", ""};
    QVERIFY(bool(recorder.start(plan)));
    QVERIFY(QTest::qWaitFor([&] { return recorder.frames() > kRate / 4; }, 60000)); // however busy the machine is
    if (killed) {
        server_.kill();
        server_.waitForFinished(2000);
    } else
        stopServer();
    QVERIFY(QTest::qWaitFor([&] { return !(*device)->isRunning(); }, 8000));
    const auto report = recorder.finish();
    QVERIFY2(report.frames > kRate / 4, qPrintable(QString::number(report.frames)));
    const auto r = core::readRecording(plan.file);
    QVERIFY(r && r->audio.frames() == std::size_t(report.frames));
}

void TestJack::stopServer()
{
    if (server_.state() == QProcess::NotRunning) return;
    server_.terminate();
    if (!server_.waitForFinished(5000)) server_.kill();
    server_.waitForFinished(2000);
}

void TestJack::cleanupTestCase()
{
    stopServer();
    QDir shared("/dev/shm"); // what the killed one has left
    for (const QString& name : shared.entryList({"jack*" + qEnvironmentVariable("JACK_DEFAULT_SERVER") + "*"}))
        shared.remove(name);
}

QTEST_GUILESS_MAIN(TestJack)
#include "test_jack.moc"
