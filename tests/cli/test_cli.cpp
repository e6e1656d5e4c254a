#include "core/session/session_folder.h"
#include "support/run_cli.h"
#include "support/signals.h"

#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QProcess>
#include <QtTest/QtTest>
#include <csignal>

using namespace gristle;
using namespace gristle::core;
using test::number;
using test::Ran;
using test::run;

class TestCli : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void usageAndErrors_data();
    void usageAndErrors();
    void helpOnEachLevel();
    void measureTellsTheTruth();
    void measureOfSilenceIsNull();
    void whereNobodyPlaysNothingIsAdvised();
    void stereoTellsTheTruth();
    void renderLinesUp();
    void renderStages();
    void nodesDeclareThemselves();
    void mixOfTwoFiles();
    void sessionFromStartToEnd();
    void demoIsMeasured();
    void truncatedFileIsAFinding();
    void outputIsTheSameTwice();
    void interruptedLeavesNothing();
    void killedAnywhereTheSessionOpens();

private:
    QString path(const char* name) const { return dir_.filePath(name); }
    QTemporaryDir dir_;
};

void TestCli::initTestCase()
{
    auto x = test::sine(997.0, 0.125893, 48000.0, 4.0); // -18 dBFS AES17
    test::writeWav(dir_, "tone.wav", {x}, 48000);
    test::writeWav(dir_, "a b;c.wav", {test::whiteNoise(0.05, 48000 * 2, 1)}, 48000, SampleFormat::Int24);
    test::writeWav(dir_, "other.wav", {test::whiteNoise(0.02, 48000 * 2, 2)}, 48000, SampleFormat::Int24);
    test::writeWav(dir_, "two.wav", {test::whiteNoise(0.05, 48000, 1), test::whiteNoise(0.05, 48000, 2)}, 48000);
    test::writeWav(dir_, "silence.wav", {std::vector<float>(48000, 0.0f)}, 48000);
    QFile bad(path("bad.wav"));
    QVERIFY(bad.open(QIODevice::WriteOnly) && bad.write("no audio") == 8);
    QFile(path("empty.wav")).open(QIODevice::WriteOnly);
}

void TestCli::usageAndErrors_data()
{
    QTest::addColumn<QStringList>("arguments");
    QTest::addColumn<int>("code");
    const QString tone = path("tone.wav"), out = path("never.wav");
    QTest::newRow("nothing") << QStringList{} << 2;
    QTest::newRow("unknown command") << QStringList{"dance"} << 2;
    QTest::newRow("unknown option") << QStringList{"measure", tone, "--loud"} << 2;
    QTest::newRow("option out of range") << QStringList{"measure", tone, "--mains", "70"} << 2;
    QTest::newRow("unknown node") << QStringList{"render", tone, out, "--chain", "warp x=1"} << 2;
    QTest::newRow("unknown key") << QStringList{"render", tone, out, "--chain", "gain x=1"} << 2;
    QTest::newRow("value out of range") << QStringList{"render", tone, out, "--chain", "gain db=900"} << 2;
    QTest::newRow("no rig") << QStringList{"render", tone, out} << 2;
    QTest::newRow("place out of range") << QStringList{"mix", out, tone + ":200"} << 2;
    QTest::newRow("missing file") << QStringList{"measure", path("nowhere.wav")} << 3;
    QTest::newRow("not audio") << QStringList{"measure", path("bad.wav")} << 3;
    QTest::newRow("empty") << QStringList{"measure", path("empty.wav")} << 3;
    QTest::newRow("a folder") << QStringList{"measure", dir_.path()} << 3;
    QTest::newRow("mono where stereo is wanted") << QStringList{"stereo", tone} << 3;
    QTest::newRow("which channel") << QStringList{"render", path("two.wav"), out, "--chain", "gain"} << 3;
    QTest::newRow("missing impulse") << QStringList{"render", tone, out, "--chain", "impulse file=no.wav"} << 3;
    QTest::newRow("missing rig file") << QStringList{"render", tone, out, "--rig", path("no.json")} << 3;
    QTest::newRow("no session") << QStringList{"session", "info", dir_.path()} << 3;
    QTest::newRow("folder missing") << QStringList{"render", tone, path("no folder/out.wav"), "--chain", "gain"} << 4;
    QTest::newRow("mix folder missing") << QStringList{"mix", path("no folder/out.wav"), tone} << 4;
}

void TestCli::usageAndErrors()
{
    QFETCH(QStringList, arguments);
    QFETCH(int, code);
    const auto ran = run(QStringList{"--json"} + arguments);
    QVERIFY2(ran.code == code, ran.error);
    QVERIFY(ran.out.isEmpty()); // nothing where the command failed
    QVERIFY(ran.error.startsWith("gristle-cli: ") && ran.error.endsWith('\n') && ran.error.count('\n') == 1);
    QVERIFY(ran.error.contains(": ") && ran.error.contains("; ")); // WHAT: why; what to do
    QVERIFY(!QFile::exists(path("never.wav")));
}

void TestCli::helpOnEachLevel()
{
    for (const QStringList& a :
         {QStringList{"--help"}, {"measure", "--help"}, {"session", "--help"}, {"session", "add", "--help"}}) {
        const auto ran = run(a);
        QCOMPARE(ran.code, 0);
        QVERIFY(ran.out.contains("--help"));
    }
    QVERIFY(run({"--version"}).out.startsWith("gristle-cli 0."));
}

void TestCli::measureTellsTheTruth()
{
    const auto ran = run({"measure", path("tone.wav"), "--json"});
    QCOMPARE(ran.code, 0);
    const auto j = ran.json();
    QCOMPARE(j["sample_rate_hz"].toInt(), 48000);
    QCOMPARE(j["frames"].toInt(), 192000);
    const auto c = j["channel"].toArray()[0].toObject();
    QVERIFY(std::abs(number(c["rms_dbfs"]) + 18.0) < 0.001);
    QVERIFY(std::abs(number(c["peak_dbfs"]) + 18.0) < 0.01);
    QVERIFY(std::abs(number(c["true_peak_dbtp"]) + 18.0) < 0.05);
    QVERIFY(std::abs(number(c["crest_db"]) - 3.01) < 0.01);
    QVERIFY(std::abs(number(c["vu"].toObject()["typical"])) < 0.02); // a steady sine at the reference is 0 VU
    QVERIFY(c["noise"].toObject()["floor_dbfs"].isNull());
    QVERIFY(std::abs(number(j["loudness"].toObject()["integrated_lufs"]) + 21.01) < 0.02);
    QVERIFY(std::abs(number(j["advice"].toObject()["gain_change_db"])) < 0.02);
    const auto moved = run({"measure", path("tone.wav"), "--json", "--reference", "-20", "--target", "peak"}).json();
    QVERIFY(std::abs(number(moved["channel"].toArray()[0].toObject()["vu"].toObject()["typical"]) - 2.0) < 0.02);
    QVERIFY(std::abs(number(moved["advice"].toObject()["gain_change_db"]) - 9.0) < 0.05);
}

/// An input's noise, mains hum, and a plug that is put in: no average and no gain, by either school.
void TestCli::whereNobodyPlaysNothingIsAdvised()
{
    auto noise = test::whiteNoise(3e-4, 48000 * 3, 5), hum = noise, click = noise;
    for (const int h : {1, 3}) test::add(hum, test::sine(50.02 * h, 0.01 / h, 48000.0, 3.0));
    for (std::size_t i = 0; i < 200; ++i) click[60000 + i] = 0.4f;
    for (const auto& x : {noise, hum, click})
        for (const QString school : {"average", "peak"}) {
            test::writeWav(dir_, "nobody.wav", {x}, 48000, SampleFormat::Int24);
            const auto j = run({"measure", path("nobody.wav"), "--target", school, "--json"}).json();
            const auto c = j["channel"].toArray()[0].toObject();
            QVERIFY(c["vu"].toObject()["typical"].isNull() && c["noise"].toObject()["snr_db"].isNull());
            QVERIFY(!c["noise"].toObject()["floor_dbfs"].isNull());
            QVERIFY(j["advice"].toObject()["gain_change_db"].isNull());
            QStringList codes;
            for (const auto& f : j["findings"].toArray()) codes << f.toObject()["code"].toString();
            QVERIFY2(codes.contains("level.nobody_plays") && !codes.contains("level.low"),
                     qPrintable(codes.join(", ")));
        }
}

void TestCli::measureOfSilenceIsNull()
{
    const auto j = run({"measure", path("silence.wav"), "--json"}).json();
    const auto c = j["channel"].toArray()[0].toObject();
    for (const char* key : {"peak_dbfs", "true_peak_dbtp", "rms_dbfs", "crest_db"})
        QVERIFY2(c.contains(key) && c[key].isNull(), key);
    QVERIFY(c["vu"].toObject()["max"].isNull() && c["vu"].toObject()["typical"].isNull());
    QVERIFY(j["loudness"].toObject()["integrated_lufs"].isNull() && j["advice"].toObject()["gain_change_db"].isNull());
    QCOMPARE(j["findings"].toArray()[0].toObject()["code"].toString(), QString("level.silent"));
}

void TestCli::stereoTellsTheTruth()
{
    const auto j = run({"stereo", path("two.wav"), "--json"}).json();
    QVERIFY(std::abs(number(j["correlation"])) < 0.03 && std::abs(number(j["width"]) - 0.5) < 0.02);
    QVERIFY(j["band"].toArray().size() >= 28);
}

void TestCli::renderLinesUp()
{
    const auto ran = run({"render", path("a b;c.wav"), path("out.wav"), "--chain",
                          "gain db=-6 | delay time=1/4 tempo=120 feedback=0 mix=0.5", "--float", "--json"});
    QVERIFY2(ran.code == 0, ran.error);
    const auto in = readRecording(path("a b;c.wav").toStdString()), out = readRecording(path("out.wav").toStdString());
    QCOMPARE(std::int64_t(ran.json()["frames"].toInt()), std::int64_t(out->audio.frames()));
    QCOMPARE(out->audio.frames(), in->audio.frames() + 24000); // the tail: one echo
    const double g = std::pow(10.0, -0.3) * 0.5;
    for (std::size_t i = 24000; i < 90000; i += 11) {
        const double expected = g * (double(in->audio.channel(0)[i]) + double(in->audio.channel(0)[i - 24000]));
        QVERIFY(std::abs(double(out->audio.channel(0)[i]) - expected) < 1e-6);
    }
}

void TestCli::renderStages()
{
    const auto j = run({"render", path("tone.wav"), path("stages.wav"), "--chain", "gain db=6 | gain db=-2",
                        "--full-scale-dbu", "4", "--json"})
                       .json();
    const auto stages = j["stages"].toArray();
    QCOMPARE(stages.size(), 2);
    const auto first = stages[0].toObject();
    QVERIFY(std::abs(number(first["in_rms_dbfs"]) + 18.0) < 0.01 &&
            std::abs(number(first["out_rms_dbfs"]) + 12.0) < 0.01);
    // -18 dBFS under a full scale of +4 dBu is -14 dBu.
    QVERIFY(std::abs(number(first["in_rms_v"]) - 0.7746 * std::pow(10.0, -14.0 / 20.0)) < 1e-4);
    QVERIFY(std::abs(number(stages[1].toObject()["out_peak_dbfs"]) + 14.0) < 0.01);
}

void TestCli::nodesDeclareThemselves()
{
    QFile manual(GRISTLE_SOURCE_DIR "/docs/nodes.md"); // made by `gristle-cli nodes --page`
    QVERIFY(manual.open(QIODevice::ReadOnly));
    QCOMPARE(run({"nodes", "--page"}).out, manual.readAll());
    const auto nodes = run({"nodes", "--json"}).json()["node"].toArray();
    QVERIFY(nodes.size() >= 6);
    for (const auto& n : nodes)
        for (const auto& p : n.toObject()["parameter"].toArray())
            for (const char* key : {"key", "label", "unit", "kind", "min", "max", "default", "choices", "about"})
                QVERIFY(p.toObject().contains(key));
}

void TestCli::mixOfTwoFiles()
{
    const auto ran = run({"mix", path("mix.wav"), "\"" + path("a b;c.wav") + "\":-100", path("other.wav") + ":100:3",
                          "--match", "--json"});
    QVERIFY2(ran.code == 0, ran.error);
    const auto j = ran.json();
    const auto layers = j["layer"].toArray();
    QVERIFY(std::abs(number(layers[0].toObject()["integrated_lufs"]) -
                     number(layers[1].toObject()["integrated_lufs"])) < 0.05);
    QCOMPARE(layers[1].toObject()["place"].toDouble(), 100.0);
    QVERIFY(std::abs(number(j["stereo"].toObject()["balance_db"])) < 0.05);
    const auto again = run({"stereo", path("mix.wav"), "--json"}).json();
    QVERIFY(std::abs(number(again["mono_loss_db"]) - number(j["stereo"].toObject()["mono_loss_db"])) < 0.001);
}

void TestCli::sessionFromStartToEnd()
{
    const QString s = path("my session.gristle");
    QCOMPARE(run({"session", "new", s, "--tempo", "104"}).code, 0);
    QCOMPARE(run({"session", "new", s}).code, 4);
    QCOMPARE(
        run({"session", "add", s, path("a b;c.wav"), "--part", "Rhythm", "--place", "-100", "--guitar", "one"}).code,
        0);
    QCOMPARE(run({"session", "add", s, path("other.wav"), "--part", "Rhythm", "--place", "100"}).code, 0);
    QCOMPARE(run({"session", "add", s, path("tone.wav"), path("bad.wav"), "--part", "Rhythm"}).code, 3);
    const auto info = run({"session", "info", s, "--json"}).json();
    QCOMPARE(info["name"].toString(), QString("my session"));
    QCOMPARE(info["sample_rate_hz"].toInt(), 48000);
    const auto song = info["song"].toArray()[0].toObject();
    QCOMPARE(song["tempo_bpm"].toDouble(), 104.0);
    const auto layers = song["part"].toArray()[0].toObject()["layer"].toArray();
    QCOMPARE(layers.size(), 2); // the one with the bad file left nothing
    QCOMPARE(layers[0].toObject()["place"].toDouble(), -100.0);
    QCOMPARE(layers[0].toObject()["take"].toArray()[0].toObject()["frames"].toInt(), 96000);
    QCOMPARE(run({"session", "check", s}).code, 0);
    QCOMPARE(run({"mix", path("session mix.wav"), "--session", s, "--part", "Rhythm"}).code, 0);
    const auto mixed = readRecording(path("session mix.wav").toStdString());
    QVERIFY(mixed && mixed->audio.channels() == 2);
    const QString take = s + "/" + layers[1].toObject()["take"].toArray()[0].toObject()["file"].toString();
    QVERIFY(QFile::remove(take));
    const auto check = run({"session", "check", s, "--json"});
    QCOMPARE(check.code, 3);
    QVERIFY(run({"session", "log", s, "--csv"}).out.startsWith("time,what,song,part,layer,text\r\n"));
    QCOMPARE(run({"session", "log", s, "--json"}).json()["entry"].toArray().size(), 3);
}

void TestCli::demoIsMeasured()
{
    const QString d = path("demo.gristle");
    QCOMPARE(run({"demo", d, "--json"}).json()["name"].toString(), QString("Night Ferry"));
    // The planted faults are found: a low take, hum, clipping, a side inverted.
    const auto codes = [&](const QString& take) {
        QStringList out;
        for (const auto& f : run({"measure", d + "/audio/" + take, "--json"}).json()["findings"].toArray())
            out << f.toObject()["code"].toString();
        return out;
    };
    QVERIFY(codes("Car Deck, Rhythm A, Left 1.wav").contains("level.low"));
    QVERIFY(codes("Car Deck, Rhythm A, Right 1.wav").contains("level.hum"));
    QVERIFY(codes("Breakwater, Clean, Right.wav").contains("level.clipped"));
    QVERIFY(!codes("Breakwater, Clean, Left.wav").contains("level.clipped"));
    const auto mix = run({"mix", path("demo mix.wav"), "--session", d, "--song", "Last Crossing", "--json"}).json();
    QStringList found;
    for (const auto& f : mix["findings"].toArray()) found << f.toObject()["code"].toString();
    QVERIFY(found.contains("stereo.inverted"));
    const auto low = run({"measure", d + "/audio/Car Deck, Rhythm A, Left 1.wav", "--json"}).json();
    QVERIFY(std::abs(number(low["advice"].toObject()["gain_change_db"]) - 5.5) < 0.3);
}

void TestCli::truncatedFileIsAFinding()
{
    const auto file = test::writeWav(dir_, "cut.wav", {test::whiteNoise(0.1, 96000)}, 48000, SampleFormat::Int16);
    std::filesystem::resize_file(file, std::filesystem::file_size(file) / 2);
    const auto ran = run({"measure", path("cut.wav"), "--json"});
    QCOMPARE(ran.code, 0);
    QCOMPARE(ran.json()["findings"].toArray()[0].toObject()["code"].toString(), QString("file.truncated"));
}

void TestCli::outputIsTheSameTwice()
{
    const QStringList a{"measure", path("a b;c.wav"), "--json"};
    QVERIFY(run(a).out == run(a).out);
}

void TestCli::interruptedLeavesNothing()
{
    test::writeWav(dir_, "long.wav", {test::whiteNoise(0.1, 48000 * 400)}, 48000);
    QProcess p;
    p.start(GRISTLE_CLI_PATH,
            {"render", path("long.wav"), path("interrupted.wav"), "--chain", "drive | amplifier | drive", "--json"});
    QVERIFY(p.waitForStarted());
    QTest::qWait(300);
    ::kill(pid_t(p.processId()), SIGINT);
    QVERIFY(p.waitForFinished(20000));
    QCOMPARE(p.exitCode(), 130);
    QVERIFY(p.readAllStandardOutput().isEmpty());
    QVERIFY(QDir(dir_.path()).entryList({"*interrupted*"}, QDir::Files | QDir::Hidden).isEmpty());
}

void TestCli::killedAnywhereTheSessionOpens()
{
    const QString s = path("killed.gristle");
    QCOMPARE(run({"session", "new", s}).code, 0);
    test::writeWav(dir_, "to bring in.wav", {test::whiteNoise(0.1, 48000 * 30)}, 48000, SampleFormat::Int24);
    for (int i = 0; i < 15; ++i) {
        QProcess p;
        p.start(GRISTLE_CLI_PATH, {"session", "add", s, path("to bring in.wav"), "--part", "Part"});
        QVERIFY(p.waitForStarted());
        QTest::qSleep(unsigned(i * 9)); // before, in the middle of, and after copying and saving
        p.kill();
        p.waitForFinished();
        const auto check = run({"session", "check", s});
        QVERIFY2(check.code == 0, check.out + check.error); // it opens, and every take that it names is there whole
    }
    QCOMPARE(run({"session", "add", s, path("to bring in.wav"), "--part", "Part"}).code, 0); // no lock stays behind
}

QTEST_GUILESS_MAIN(TestCli)
#include "test_cli.moc"
