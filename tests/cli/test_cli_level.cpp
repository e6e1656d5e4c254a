// The command line of the Level bench: devices, record, check, ledger, loading, clean.

#include "core/rig/circuit/guitar_circuit.h"
#include "core/session/session_folder.h"
#include "support/run_cli.h"
#include "support/signals.h"

#include <QJsonArray>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;
using namespace gristle::test;

class TestCliLevel : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    QString path(const char* name) const { return dir_.filePath(name); }

private slots:
    void initTestCase() { qputenv("GRISTLE_NO_DEVICE", "1"); }

    void usageAndErrors_data()
    {
        QTest::addColumn<QStringList>("words");
        QTest::addColumn<int>("code");
        QTest::addRow("record what") << QStringList{"record"} << 2;
        QTest::addRow("record both") << QStringList{"record", path("a.wav"), "--session", path("b")} << 2;
        QTest::addRow("record fast without end")
            << QStringList{"record", path("a.wav"), "--fast", "--device", "simulated:"} << 2;
        QTest::addRow("record into no session")
            << QStringList{"record", "--session", path("none"), "--part",   "P",
                           "--fast", "--seconds", "1",          "--device", "simulated:"}
            << 3;
        QTest::addRow("record from nobody")
            << QStringList{"record", path("a.wav"), "--device", "JACK:nobody", "--seconds", "1"} << 3;
        QTest::addRow("input past the last")
            << QStringList{"record", path("a.wav"), "--device", "simulated:", "--inputs",
                           "9",      "--seconds",   "1",        "--fast"}
            << 3;
        QTest::addRow("check without files") << QStringList{"check"} << 2;
        QTest::addRow("check of nothing")
            << QStringList{"check", "--rest", path("no.wav"), "--play", path("no.wav")} << 3;
        QTest::addRow("ledger of nothing") << QStringList{"ledger", path("no.wav")} << 3;
        QTest::addRow("ledger out of range") << QStringList{"ledger", path("no.wav"), "--input-dbu", "99"} << 2;
        QTest::addRow("loading with a wrong key") << QStringList{"loading", "cabel=6"} << 2;
        QTest::addRow("clean nothing") << QStringList{"clean", path("no.wav"), path("out.wav")} << 3;
        QTest::addRow("ping nobody") << QStringList{"devices", "--ping", "JACK:nobody"} << 3;
        QTest::addRow("recover nowhere") << QStringList{"session", "recover", path("none")} << 3;
    }
    void usageAndErrors()
    {
        QFETCH(QStringList, words);
        QFETCH(int, code);
        const Ran r = run(words + QStringList{"--json"});
        QVERIFY2(r.code == code, r.error.constData());
        QVERIFY(r.out.isEmpty());
        QVERIFY(r.error.startsWith("gristle-cli: ") && r.error.count('\n') == 1);
        QVERIFY(!QFile::exists(path("a.wav")) && !QFile::exists(path("out.wav")));
    }

    void theSimulatedDeviceIsListedAndPinged()
    {
        const auto devices = run({"devices", "--json"}).json()["device"].toArray();
        QCOMPARE(devices.last().toObject()["system"].toString(), QString("simulated"));
        const auto ping = run({"devices", "--ping", "simulated:", "--input", "2", "--buffer", "128", "--json"}).json();
        // The standard room's cable is 96 frames long, behind one block.
        QVERIFY(std::abs(number(ping["round_trip_samples"]) - (128.0 + 96.0)) < 0.05);
        QVERIFY(std::abs(number(ping["round_trip_ms"]) - number(ping["round_trip_samples"]) / 48.0) < 1e-6);
    }

    void recordingGivesAFileAndATake()
    {
        const Ran r = run({"record", path("two inputs.wav"), "--device", "simulated:", "--inputs", "1,2", "--seconds",
                           "3", "--fast", "--rate", "44100", "--gain", "12", "--json"});
        QVERIFY2(r.code == 0, r.error.constData());
        QCOMPARE(r.json()["frames"].toInt(), 3 * 44100);
        QCOMPARE(r.json()["channel"].toArray().size(), 2);
        const auto again = run({"measure", path("two inputs.wav"), "--json"}).json();
        QCOMPARE(again["sample_rate_hz"].toInt(), 44100);
        QCOMPARE(again["channel"].toArray()[0].toObject()["rms_dbfs"],
                 r.json()["channel"].toArray()[0].toObject()["rms_dbfs"]);

        const QString session = path("my session.gristle");
        QCOMPARE(run({"session", "new", session}).code, 0);
        for (int i = 0; i < 2; ++i)
            QCOMPARE(run({"record", "--session", session, "--part", "Riff", "--layer", "Left", "--device",
                          "simulated:", "--seconds", "2", "--fast"})
                         .code,
                     0);
        const auto folder = SessionFolder::open(session.toStdString(), Access::Read);
        const auto& layers = folder->document().songs[0].parts[0].layers;
        QCOMPARE(layers.size(), std::size_t(1));
        QCOMPARE(layers[0].takes.size(), std::size_t(2));
        QVERIFY(layers[0].takes[0].file != layers[0].takes[1].file);
        QCOMPARE(run({"session", "check", session}).code, 0);
        QVERIFY(run({"session", "log", session}).out.contains("Take recorded"));
        QVERIFY(run({"session", "recover", session}).out.contains("nothing"));
    }

    void killedRecordingsComeBack()
    {
        const QString session = path("killed.gristle");
        QCOMPARE(run({"session", "new", session}).code, 0);
        QProcess p;
        p.start(GRISTLE_CLI_PATH,
                {"record", "--session", session, "--part", "Riff", "--device", "simulated:", "--seconds", "60"});
        QVERIFY(p.waitForStarted());
        QTest::qWait(2500);
        p.kill();
        QVERIFY(p.waitForFinished());
        const auto back = run({"session", "recover", session, "--json"}).json()["take"].toArray();
        QCOMPARE(back.size(), 1);
        QVERIFY(back[0].toObject()["frames"].toDouble() > 1.0 * 48000.0); // it needs some time to start
        QCOMPARE(run({"session", "check", session}).code, 0);
    }

    void checkGivesTheNumber()
    {
        auto rest = whiteNoise(1e-4, 5 * 48000, 1);
        auto play = whiteNoise(1e-4, 6 * 48000, 2);
        const auto note = sine(196.0, 0.05, 48000.0, 5.0);
        for (std::size_t i = 0; i < note.size(); ++i) play[i + 24000] += note[i];
        const auto loud = sine(196.0, 0.25, 48000.0, 1.0);
        const QString r = QString::fromStdString(writeWav(dir_, "rest.wav", {rest}, 48000).string());
        const QString p = QString::fromStdString(writeWav(dir_, "play.wav", {play}, 48000).string());
        const QString h = QString::fromStdString(writeWav(dir_, "hardest.wav", {loud}, 48000).string());
        const auto json = run({"check", "--rest", r, "--play", p, "--hardest", h, "--json"}).json();
        // 0.05 is -26 dBFS, 8 dB under the reference; the hardest chord leaves 12.04 dB.
        QVERIFY(std::abs(number(json["gain_change_db"]) - 8.0) < 0.2);
        QVERIFY(std::abs(number(json["margin_db"]) - 12.04) < 0.1);
        QVERIFY(json["hum"].isNull() && json["turn"].isNull());
        QCOMPARE(json["bursts"].toInt(), 0);
    }

    void ledgerAndLoadingTellWhatCoreComputes()
    {
        const QString f =
            QString::fromStdString(writeWav(dir_, "di.wav", {sine(440.0, 0.1, 48000.0, 3.0)}, 48000).string());
        const auto json =
            run({"ledger", f, "--input-dbu", "12", "--output-dbu", "18", "--box-db", "-12", "--json"}).json();
        QVERIFY(std::abs(number(json["reamp"].toObject()["trim_db"]) - 6.0) < 1e-9);
        QVERIFY(!json["assumed"].toBool());
        for (const auto& r : json["rung"].toArray())
            if (r.toObject()["name"] == "input") QVERIFY(std::abs(number(r.toObject()["level_dbu"]) + 8.0) < 0.2);
        const auto loading = run({"loading", "input=68", "input=68 buffer=input", "--json"}).json();
        GuitarCircuit g;
        for (const PickupKind& kind : pickupKinds())
            if (std::string(kind.key) == "narrow") g.pickup = kind.pickup;
        g.input.ohm = 68e3;
        const auto losses = loading["setup"].toArray()[0].toObject()["loss"].toArray();
        for (const auto& l : losses)
            QVERIFY(std::abs(number(l.toObject()["loss_db"]) - insertionLossDb(g, number(l.toObject()["hz"]))) < 1e-6);
        QCOMPARE(loading["difference"].toArray().size(), 1);
    }

    void cleanTakesHumAwayAndSaysWhatItCost()
    {
        auto x = whiteNoise(3e-5, 12 * 48000, 5);
        for (int h = 1; h <= 6; ++h) add(x, sine(50.03 * h, 0.004 / h, 48000.0, 12.0, h));
        for (std::size_t i = 4 * 48000; i < 10 * 48000; ++i)
            x[i] += float(0.1 * std::sin(2.0 * std::numbers::pi * 196.0 * double(i) / 48000.0));
        const QString f = QString::fromStdString(writeWav(dir_, "hum.wav", {x}, 48000).string());
        const Ran r = run({"clean", f, path("cleaned.wav"), "--removed", path("removed.wav"), "--float", "--json"});
        QVERIFY2(r.code == 0, r.error.constData());
        const auto json = r.json();
        QVERIFY(std::abs(number(json["mains_hz"]) - 50.03) < 0.02);
        QVERIFY(json["hum_after_dbfs"].isNull() ||
                number(json["hum_after_dbfs"]) < number(json["hum_before_dbfs"]) - 25.0);
        QVERIFY(std::abs(number(json["loss_db"])) < 0.2);
        QVERIFY(!json["costs_more"].toBool());
        // What was removed and what is left are what was there.
        const auto kept = readRecording(path("cleaned.wav").toStdString()),
                   gone = readRecording(path("removed.wav").toStdString());
        QCOMPARE(kept->audio.frames(), x.size());
        for (std::size_t i = 0; i < x.size(); i += 97)
            QVERIFY(std::abs(kept->audio.channel(0)[i] + gone->audio.channel(0)[i] - x[i]) < 1e-6f);
        const Ran nothing = run(
            {"clean", QString::fromStdString(writeWav(dir_, "none.wav", {whiteNoise(1e-3, 48000 * 2)}, 48000).string()),
             path("x.wav")});
        QCOMPARE(nothing.code, 2);
        QVERIFY(nothing.error.contains("--mains"));
    }
};

QTEST_GUILESS_MAIN(TestCliLevel)
#include "test_cli_level.moc"
