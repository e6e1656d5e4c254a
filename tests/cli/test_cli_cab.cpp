// The command line of the benches Cab and Double: align, impulse, cab and double.

#include "core/audio/audio_reader.h"
#include "core/signal/biquad.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "support/run_cli.h"
#include "support/signals.h"

#include <QJsonArray>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;
using namespace gristle::test;

class TestCliCab : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    QString path(const QString& name) const { return dir_.filePath(name); }
    void save(const QString& name, const std::vector<float>& x, int rate = 48000) const
    {
        QVERIFY(writeRecording(path(name).toStdString(), recording({x}, rate), SampleFormat::Float32));
    }

private slots:
    void initTestCase()
    {
        PlayingStyle style;
        style.leadInS = 0.3;
        const auto x = perform(rhythmRiff(3), 120.0, standardTuning(), style, 48000.0).volts;
        std::vector<float> late(x.size());
        for (std::size_t i = 50; i < x.size(); ++i) late[i] = -0.5f * x[i - 50];
        save("close.wav", x);
        save("second: mic.wav", late);
        save("silence.wav", std::vector<float>(96000));
    }

    void usageAndErrors_data()
    {
        QTest::addColumn<QStringList>("words");
        QTest::addColumn<int>("code");
        const QString close = path("close.wav");
        QTest::addRow("nobody to align") << QStringList{"align", close} << 2;
        QTest::addRow("missing") << QStringList{"align", close, path("no.wav")} << 3;
        QTest::addRow("silent") << QStringList{"align", close, path("silence.wav")} << 3;
        QTest::addRow("no delay") << QStringList{"align", close, close, "--max-ms", "0"} << 2;
        QTest::addRow("twins") << QStringList{"align", close, close, "--write", path("twins")} << 2;
        QTest::addRow("late is nobody") << QStringList{"align", close, close, "--keep-late", "x.wav"} << 2;
        QTest::addRow("impulse what") << QStringList{"impulse"} << 2;
        QTest::addRow("sweep downwards") << QStringList{"impulse", "sweep", path("s.wav"), "--from",
                                                        "300",     "--to",  "200"}
                                         << 2;
        QTest::addRow("sweep into nowhere")
            << QStringList{"impulse", "sweep", path("none/s.wav"), "--seconds", "1"} << 4;
        QTest::addRow("capture with no sweep")
            << QStringList{"impulse", "capture", "--sweep", close, "--recording", close, path("o.wav")} << 3;
        QTest::addRow("info of silence") << QStringList{"impulse", "info", path("silence.wav")} << 3;
        QTest::addRow("blend of no number") << QStringList{"impulse", "blend", path("o.wav"), close + ":loud"} << 2;
        QTest::addRow("double of one") << QStringList{"double", close} << 2;
        QTest::addRow("double with silence") << QStringList{"double", close, path("silence.wav")} << 3;
        QTest::addRow("double at no tempo") << QStringList{"double", close, close, "--tempo", "fast"} << 2;
        QTest::addRow("cab of no kind") << QStringList{"cab", path("o.wav"), "--cabinet", "nine"} << 2;
        QTest::addRow("cab with no microphone") << QStringList{"cab", path("o.wav"), "--mic", "tin:3"} << 2;
        QTest::addRow("cab with a word") << QStringList{"cab", path("o.wav"), "--mic", "ribbon:near"} << 2;
        QTest::addRow("cab too far") << QStringList{"cab", path("o.wav"), "--mic", "ribbon:900"} << 2;
        QTest::addRow("cab too much") << QStringList{"cab", path("o.wav"), "--mic", "ribbon:9:0:0:0:invert:x"} << 2;
        QTest::addRow("cab into nowhere") << QStringList{"cab", path("none/o.wav"), "--mic", "ribbon:9"} << 4;
        QTest::addRow("blend of nothing") << QStringList{"impulse", "blend", path("o.wav"), path("no.wav")} << 3;
    }
    void usageAndErrors()
    {
        QFETCH(QStringList, words);
        QFETCH(int, code);
        const Ran r = run(words + QStringList{"--json"});
        QVERIFY2(r.code == code, r.error.constData());
        QVERIFY(r.out.isEmpty());
        QVERIFY(r.error.startsWith("gristle-cli: ") && r.error.count('\n') == 1);
        QVERIFY(!QFile::exists(path("o.wav")) && !QFile::exists(path("s.wav")));
    }

    void align()
    {
        const Ran r = run({"align", path("close.wav"), path("second: mic.wav"), "--write", path("moved"), "--json"});
        QVERIFY2(r.code == 0, r.error.constData());
        const QJsonObject o = r.json();
        const QJsonObject pair = o["pair"].toArray().at(0).toObject();
        QVERIFY(std::abs(pair["delay_samples"].toDouble() - 50.0) < 0.02);
        QVERIFY(std::abs(pair["delay_ms"].toDouble() - 50.0 / 48.0) < 0.001);
        QVERIFY(std::abs(pair["distance_m"].toDouble() - 343.0 * 50.0 / 48000.0) < 0.001);
        QCOMPARE(pair["polarity"].toString(), QString("inverted"));
        QVERIFY(pair["confidence"].toDouble() > 0.9);
        QVERIFY(pair["sum_loss_before_db"].toDouble() > pair["sum_loss_after_db"].toDouble() + 1.0);
        QVERIFY(o["findings"].toArray().size() >= 1);
        QVERIFY(QFile::exists(path("moved/close.aligned.wav")));
        QVERIFY(QFile::exists(path("moved/second: mic.aligned.wav")));
        const Ran again =
            run({"align", path("close.wav"), path("second: mic.wav"), "--write", path("moved2"), "--json"});
        QFile one(path("moved/second: mic.aligned.wav")), two(path("moved2/second: mic.aligned.wav"));
        QVERIFY(one.open(QIODevice::ReadOnly) && two.open(QIODevice::ReadOnly));
        QVERIFY(again.code == 0 && one.readAll() == two.readAll()); // byte for byte
    }

    void sweepCaptureInfoBlend()
    {
        const Ran s = run({"impulse", "sweep", path("my sweep.wav"), "--seconds", "3", "--json"});
        QVERIFY2(s.code == 0, s.error.constData());
        QCOMPARE(s.json()["frames"].toInt(), 144000);
        auto x = readRecording(path("my sweep.wav").toStdString()).value();
        std::vector<float> recorded(144000 + 48000);
        std::copy_n(x.audio.channel(0).begin(), 144000, recorded.begin() + 4800);
        Biquad(lowPass(4000.0, 0.8, 48000.0)).process(recorded);
        save("rec.wav", recorded);
        const Ran c = run({"impulse", "capture", "--sweep", path("my sweep.wav"), "--recording", path("rec.wav"),
                           path("out.wav"), "--json"});
        QVERIFY2(c.code == 0, c.error.constData());
        QVERIFY(std::abs(c.json()["arrival_samples"].toDouble() - 4801.0) < 3.0);
        QVERIFY(c.json()["snr_db"].toDouble() > 80.0);
        QVERIFY(c.json()["distortion_percent"].toDouble() < 0.1);
        const Ran i = run({"impulse", "info", path("out.wav"), "--json"});
        const QJsonObject info = i.json();
        QCOMPARE(info["length_samples"].toInt(), 24048);
        QVERIFY(std::abs(info["arrival_samples"].toDouble() - 48.0) < 3.0);
        const auto at = [&](double hz) {
            double db = 0.0, nearest = 1e9;
            for (const auto& p : info["response"].toArray())
                if (std::abs(p.toObject()["hz"].toDouble() - hz) < nearest) {
                    nearest = std::abs(p.toObject()["hz"].toDouble() - hz);
                    db = p.toObject()["db"].toDouble();
                }
            return db;
        };
        QVERIFY(std::abs(at(1000.0)) < 0.3);
        QVERIFY(at(8000.0) < -10.0);
        const Ran b = run(
            {"impulse", "blend", path("sum.wav"), path("out.wav"), path("out.wav") + ":-6.0206:0:invert", "--json"});
        QVERIFY2(b.code == 0, b.error.constData());
        const auto sum = readRecording(path("sum.wav").toStdString()).value(),
                   one = readRecording(path("out.wav").toStdString()).value();
        QVERIFY(std::abs(sum.audio.channel(0)[50] / one.audio.channel(0)[50] - 0.5) < 1e-4);
        // A capture can be a stage of a rig at once.
        const Ran render = run({"render", path("close.wav"), path("cab.wav"), "--chain",
                                "impulse file=\"" + path("out.wav") + "\"", "--json"});
        QVERIFY2(render.code == 0, render.error.constData());
    }

    /// A placement rendered: rows as they were asked for, travel by geometry; several apart or summed.
    void placements()
    {
        const auto json = [&](const QStringList& more) {
            const Ran r = run(QStringList{"cab", path("placed.wav"), "--json", "--seconds", "0.1"} + more);
            return r.code == 0 ? r.json() : QJsonObject();
        };
        const QStringList two{"--mic", "coil-presence:5:2", "--mic", "pressure:100:0:0:-6:invert"};
        const auto apart = json(two + QStringList{"--apart", "--dry", "--spill-m", "1.5"});
        QCOMPARE(apart["channels"].toInt(), 2);
        const auto rows = apart["microphone"].toArray();
        QCOMPARE(rows.size(), 2);
        QCOMPARE(rows[1].toObject()["travel_ms"].toDouble(), 1000.0 / 343.0);
        QVERIFY(rows[1].toObject()["inverted"].toBool());
        QVERIFY(rows[0].toObject()["spl_db"].toDouble() > rows[1].toObject()["spl_db"].toDouble() + 10.0);
        QVERIFY(rows[0].toObject()["spill"].toObject()["spill_db"].toDouble() < -15.0);
        const auto split = readRecording(path("placed.wav").toStdString()).value();
        const auto sum = json(two + QStringList{"--dry"});
        QCOMPARE(sum["channels"].toInt(), 1);
        const auto whole = readRecording(path("placed.wav").toStdString()).value();
        for (std::size_t i = 0; i < whole.audio.frames(); ++i)
            QVERIFY(std::abs(whole.audio.channel(0)[i] - split.audio.channel(0)[i] - split.audio.channel(1)[i]) <
                    1e-5f);
        // Too loud for it.
        const auto loud = json({"--mic", "ribbon:0.5", "--watts", "1000"});
        QCOMPARE(loud["findings"].toArray()[0].toObject()["code"].toString(), QString("cab.too_loud"));
    }

    /// Two performances as the contract has them; a copy is told.
    void twoPerformances()
    {
        PlayingStyle style;
        style.leadInS = 0.3, style.seed = 9, style.timingMeanMs = 5.0;
        save("again.wav", perform(rhythmRiff(3), 120.0, standardTuning(), style, 48000.0).volts);
        const Ran r = run({"double", path("close.wav"), path("again.wav"), "--tempo", "120", "--json"});
        QVERIFY2(r.code == 0, r.error.constData());
        const auto json = r.json();
        QVERIFY(json["matched"].toInt() > 15);
        QCOMPARE(json["note"].toArray().size(), json["matched"].toInt());
        for (const char* key :
             {"unmatched_first", "unmatched_second", "offset_mean_ms", "offset_sd_ms", "offset_median_ms",
              "tuning_mean_cents", "tuning_sd_cents", "level_difference_db", "drift_ms", "drift_doubt_ms",
              "offset_sd_doubt_ms", "offset_median_doubt_ms", "tuning_mean_doubt_cents"})
            QVERIFY2(json[key].isDouble(), key);
        for (const auto& note : json["note"].toArray()) {
            QVERIFY(note.toObject()["offset_doubt_ms"].toDouble() > 0.0);
            QCOMPARE(note.toObject()["cents"].isNull(), note.toObject()["cents_doubt"].isNull());
        }
        QVERIFY(!json["identical"].toBool());
        const Ran copy = run({"double", path("close.wav"), path("second: mic.wav"), "--json"});
        QVERIFY(copy.json()["identical"].toBool());
        QCOMPARE(copy.json()["findings"].toArray()[0].toObject()["code"].toString(), QString("double.copy"));
    }
};

QTEST_APPLESS_MAIN(TestCliCab)
#include "test_cli_cab.moc"
