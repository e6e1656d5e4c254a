// Recording from a real JACK server with its dummy driver, started here under a name of its own. A client feeds a
// counter, so that a lost frame shows.

#include "engine/recorder.h"
#include "support/signals.h"

#include <QProcess>
#include <QStandardPaths>
#include <QtTest/QtTest>
#include <jack/jack.h>

using namespace gristle;
using namespace gristle::engine;

namespace {

constexpr int kRate = 96000;
constexpr std::int64_t kTurn = 1 << 22; // exact in a float, and in 24 bits

class Quiet final : public AudioSource {
public:
    void fill(float* left, float* right, std::size_t frames) noexcept override
    {
        std::fill_n(left, frames, 0.0f);
        std::fill_n(right, frames, 0.0f);
    }
};

/// A client whose one output counts frames.
struct Counter {
    jack_client_t* client = nullptr;
    jack_port_t* out = nullptr;
    std::int64_t at = 1;

    bool open()
    {
        client = jack_client_open("counter", JackNoStartServer, nullptr);
        if (!client) return false;
        out = jack_port_register(client, "out", JACK_DEFAULT_AUDIO_TYPE, JackPortIsOutput, 0);
        jack_set_process_callback(
            client,
            [](jack_nframes_t frames, void* self) {
                auto& me = *static_cast<Counter*>(self);
                auto* x = static_cast<float*>(jack_port_get_buffer(me.out, frames));
                for (jack_nframes_t i = 0; i < frames; ++i, ++me.at) x[i] = float(me.at % kTurn) / float(2 * kTurn);
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

} // namespace

class TestJack : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void theServerIsListed();
    void whatItLacksIsNamed();
    void noDeliveredFrameIsLost();
    void aLostServerKeepsTheTake();
    void cleanupTestCase();

private:
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
    // Into a file: a pipe that nobody reads while samples are compared would fill up and stop the server.
    server_.setStandardOutputFile(dir_.filePath("jackd.log"));
    server_.setStandardErrorFile(dir_.filePath("jackd.log"), QIODevice::Append);
    server_.start("jackd", {"--no-realtime", "-n", qEnvironmentVariable("JACK_DEFAULT_SERVER"), "-d", "dummy", "-r",
                            QString::number(kRate), "-p", "64", "-C", "8", "-P", "8"});
    if (!server_.waitForStarted(5000)) QSKIP("jackd does not start here");
    const bool up = QTest::qWaitFor(
        [] {
            jack_client_t* probe = jack_client_open("probe", JackNoStartServer, nullptr);
            if (probe) jack_client_close(probe);
            return probe != nullptr;
        },
        8000);
    QFile said(dir_.filePath("jackd.log"));
    if (!up && said.open(QIODevice::ReadOnly))
        QSKIP(qPrintable("jackd does not answer here: " + said.readAll().right(300)));
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
    QVERIFY(bool((*device)->start(quiet, &recorder)));
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
    int jumps = 0;
    std::int64_t farthest = 0;
    for (std::size_t c = 0; c < 8; ++c) {
        const auto x = r->audio.channel(c);
        for (std::size_t i = 1; i < x.size(); ++i) {
            const auto before = std::llround(double(x[i - 1]) * double(2 * kTurn)),
                       now = std::llround(double(x[i]) * double(2 * kTurn));
            if (now == (before + 1) % kTurn) continue;
            // A counter that was not run itself in this cycle gives silence or the block before: no matter of ours.
            if (now == 0 || now <= before || before == 0) continue;
            ++jumps;
            // The server went on without us: that is told within two blocks of it.
            std::int64_t nearest = 1 << 30;
            for (const Gap& g : report.gaps) nearest = std::min(nearest, std::abs(g.frame - std::int64_t(i)));
            farthest = std::max(farthest, nearest);
            const bool told = report.gaps.size() == 4096 || nearest <= 2 * 64; // or the table is full
            QVERIFY2(told, qPrintable(QString("channel %1, frame %2: %3 after %4, nearest gap %5 of %6")
                                          .arg(c)
                                          .arg(i)
                                          .arg(now)
                                          .arg(before)
                                          .arg(nearest)
                                          .arg(report.gaps.size())));
        }
    }
    qInfo("%lld frames, %zu gaps told, %d jumps, at most %lld frames from where it is told",
          static_cast<long long>(report.frames), report.gaps.size(), jumps / 8, static_cast<long long>(farthest));
}

void TestJack::aLostServerKeepsTheTake()
{
    auto device = openDevice({"JACK:system", kRate, 64, 1});
    QVERIFY(bool(device));
    Quiet quiet;
    Recorder recorder;
    QVERIFY(bool((*device)->start(quiet, &recorder)));
    RecordPlan plan;
    plan.file = dir_.filePath("lost.wav").toStdString();
    plan.format = {kRate, 1, core::SampleFormat::Int24, "", ""};
    QVERIFY(bool(recorder.start(plan)));
    QTest::qWait(600);
    stopServer();
    QVERIFY(QTest::qWaitFor([&] { return !(*device)->isRunning(); }, 8000));
    const auto report = recorder.finish();
    QVERIFY(report.frames > kRate / 4);
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

void TestJack::cleanupTestCase() { stopServer(); }

QTEST_GUILESS_MAIN(TestJack)
#include "test_jack.moc"
