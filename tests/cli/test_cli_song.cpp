// The command line makes a song: songs, parts and layers added, renamed, moved, copied, removed; what signals lose.

#include "core/audio/audio_writer.h"
#include "support/run_cli.h"
#include "support/signals.h"

#include <QFileInfo>
#include <QJsonArray>
#include <QtTest/QtTest>
#include <cmath>

using namespace gristle;
using gristle::test::number;
using gristle::test::run;

class TestCliSong : public QObject {
    Q_OBJECT
private slots:
    void aSongIsMade();
    void whatCannotBeIsTold();
    void sumsAreTold();
    void rolesBusesAndStems();

private:
    QString path(const QString& name) const { return dir_.filePath(name); }
    /// "Song(Riff[Left,Right])"
    static QString shape(const QString& session)
    {
        QString out;
        for (const auto& s : run({"session", "info", session, "--json"}).json()["song"].toArray()) {
            out += s.toObject()["name"].toString() + "(";
            for (const auto& p : s.toObject()["part"].toArray()) {
                QStringList layers;
                for (const auto& l : p.toObject()["layer"].toArray()) layers << l.toObject()["name"].toString();
                out += p.toObject()["name"].toString() + "[" + layers.join(",") + "]";
            }
            out += ")";
        }
        return out;
    }
    QTemporaryDir dir_;
};

void TestCliSong::aSongIsMade()
{
    const QString s = path("made of nothing.gristle");
    const auto good = [&](const QStringList& words) {
        const auto ran = run(QStringList{"session"} + words + QStringList{"--json"});
        if (ran.code != 0) qWarning() << words << ran.error;
        return ran.code == 0;
    };
    QVERIFY(good({"new", s, "--tempo", "96"}));
    QVERIFY(good({"song", "rename", s, "Song 1", "--to", "Cold Harbour"}));
    QVERIFY(good({"part", "add", s, "Verse"}));
    QVERIFY(good({"part", "add", s, "Chorus"}));
    QVERIFY(good({"layer", "add", s, "Left 1", "--part", "Chorus", "--place", "-100"}));
    QVERIFY(good({"layer", "add", s, "Right 1", "--part", "Chorus"}));
    QVERIFY(good({"song", "add", s, "Another", "--tempo", "120"}));
    QCOMPARE(shape(s), QString("Cold Harbour(Verse[]Chorus[Left 1,Right 1])Another()"));
    const auto info = run({"session", "info", s, "--json"}).json()["song"].toArray();
    const auto layers = info[0].toObject()["part"].toArray()[1].toObject()["layer"].toArray();
    QCOMPARE(number(layers[1].toObject()["place"]), 100.0); // the other side
    QCOMPARE(number(info[1].toObject()["tempo_bpm"]), 120.0);

    QVERIFY(good({"part", "move", s, "Chorus", "--to", "1"}));
    QVERIFY(good({"part", "copy", s, "Chorus"}));
    QVERIFY(good({"layer", "remove", s, "Left 1", "--part", "Chorus 2"}));
    QVERIFY(good({"song", "move", s, "Another", "--to", "1"}));
    QCOMPARE(shape(s), QString("Another()Cold Harbour(Chorus[Left 1,Right 1]Chorus 2[Right 1]Verse[])"));
    QVERIFY(good({"part", "remove", s, "Chorus 2", "--song", "Cold Harbour"}));
    QVERIFY(good({"song", "remove", s, "Another"}));
    QCOMPARE(shape(s), QString("Cold Harbour(Chorus[Left 1,Right 1]Verse[])"));
    QVERIFY(run({"session", "log", s}).out.contains("Song renamed: Cold Harbour, before: Song 1"));
    QCOMPARE(run({"session", "check", s}).code, 0);
}

void TestCliSong::whatCannotBeIsTold()
{
    const QString s = path("wrong.gristle");
    QCOMPARE(run({"session", "new", s}).code, 0);
    QCOMPARE(run({"session", "part", "add", s, "Riff"}).code, 0);
    const QString before = shape(s);
    const QList<QStringList> bad{{"part", "add", s, "Riff"},
                                 {"part", "add", s, "  "},
                                 {"part", "rename", s, "Solo", "--to", "x"},
                                 {"part", "remove", s, "Riff", "--song", "No"},
                                 {"layer", "remove", s, "Left", "--part", "Riff"},
                                 {"layer", "add", s, "Left", "--part", "Solo"},
                                 {"song", "move", s, "Song 1", "--to", "0"},
                                 {"layer", "add", s, "Left", "--part", "Riff", "--place", "101"}};
    for (const auto& words : bad) {
        const auto ran = run(QStringList{"session"} + words);
        QVERIFY2(ran.code == 2, qPrintable(words.join(' ')));
        QVERIFY2(ran.error.startsWith("gristle-cli: ") && ran.error.count('\n') == 1, ran.error.constData());
    }
    QCOMPARE(shape(s), before);
}

void TestCliSong::sumsAreTold()
{
    const auto write = [&](const char* name, double sign, int later) {
        std::vector<float> x(48000 * 4, 0.0f);
        std::uint32_t state = 7;
        for (std::size_t i = 0; i < x.size(); ++i) {
            state = state * 1664525u + 1013904223u;
            const std::size_t at = i + std::size_t(later);
            if (at < x.size()) x[at] = float(sign * 0.2 * (double(state >> 8) / double(1 << 23) - 1.0));
        }
        core::AudioBuffer audio(1, x.size());
        std::ranges::copy(x, audio.channel(0).begin());
        auto writer = core::AudioWriter::create(path(name).toStdString(),
                                                {48000, 1, core::SampleFormat::Float32, std::int64_t(x.size())});
        QVERIFY(writer && writer->write(audio) && writer->commit());
    };
    write("a.wav", 1.0, 0), write("b.wav", 1.0, 24), write("c.wav", -1.0, 0);
    const auto late = run({"sum", path("a.wav"), path("b.wav"), "--json"}).json();
    const auto pair = late["pair"].toArray()[0].toObject();
    QVERIFY(std::abs(number(pair["delay_ms"]) - 0.5) < 0.001);
    QCOMPARE(pair["polarity"].toString(), QString("normal"));
    QVERIFY(std::abs(number(late["best_offset_ms"]) + 0.5) < 0.001);
    QVERIFY(std::abs(number(late["best_loss_db"]) + 3.0103) < 0.05);
    QVERIFY(std::abs(number(late["loss_db"])) < 0.2); // white noise half a millisecond apart is unrelated
    QCOMPARE(late["findings"].toArray()[0].toObject()["code"].toString(), QString("sum.late"));
    const auto gone = run({"sum", path("a.wav"), path("c.wav"), "--json"}).json();
    QVERIFY(number(gone["loss_db"]) > 60.0);
    QCOMPARE(gone["findings"].toArray()[0].toObject()["code"].toString(), QString("sum.inverted"));
    QCOMPARE(run({"sum", path("a.wav")}).code, 2);
    QCOMPARE(run({"sum", path("a.wav"), path("none.wav")}).code, 3);
    // The centre's law takes its decibels from the level that is told.
    const auto at = [&](const char* law) {
        return number(run({"sum", path("a.wav"), path("b.wav"), "--law", law, "--json"}).json()["sum_dbfs"]);
    };
    QVERIFY(std::abs(at("3") - at("6") - 3.0103) < 0.01);
}

void TestCliSong::rolesBusesAndStems()
{
    const QString s = path("mit Umlaut \u00e4.gristle");
    const auto good = [&](const QStringList& words) {
        const auto ran = run(QStringList{"session"} + words + QStringList{"--json"});
        if (ran.code != 0) qWarning() << words << ran.error;
        return ran.code == 0;
    };
    const auto refused = [&](const QStringList& words, const char* why, int code = 2) {
        const auto ran = run(QStringList{"session"} + words);
        if (ran.code != code || !ran.error.contains(why)) qWarning() << words << ran.code << ran.error;
        return ran.code == code && ran.error.contains(why);
    };
    const auto wav = [&](const char* name, const std::vector<std::vector<float>>& channels, int rate) {
        return QString::fromStdString(test::writeWav(dir_, name, channels, rate).string());
    };
    const QString left = wav("left.wav", {test::whiteNoise(0.05, 48000, 1)}, 48000),
                  right = wav("right.wav", {test::whiteNoise(0.05, 48000, 2)}, 48000),
                  drums = wav("drums.wav", {test::whiteNoise(0.05, 44100, 3), test::whiteNoise(0.05, 44100, 4)}, 44100);
    QVERIFY(good({"new", s}));
    QVERIFY(good({"add", s, left, "--part", "Riff", "--place", "-100"}));
    QVERIFY(good({"add", s, right, "--part", "Riff", "--place", "100"}));
    QVERIFY(refused({"add", s, drums, "--part", "Band"}, "channels differ", 3)); // it lies in the file
    QVERIFY(refused({"add", s, drums, "--part", "Band", "--stereo"}, "one signal"));
    QVERIFY(refused({"add", s, drums, "--part", "Band", "--role", "backing", "--source", "bagpipe"}, "bagpipe"));
    QVERIFY(refused({"add", s, drums, "--part", "Band", "--at", "soon"}, "seconds"));
    QVERIFY(refused({"add", s, left, "--part", "Band", "--at", "BWF"}, "no time stamp"));
    QVERIFY(good({"add", s, drums, "--part", "Band", "--role", "backing", "--source", "drums", "--at", "0.5"}));
    QVERIFY(refused({"layer", "set", s, "drums", "--part", "Band", "--role", "di"}, "stereo"));
    QVERIFY(good({"layer", "set", s, "drums", "--part", "Band", "--gain", "-3"}));
    QVERIFY(good({"bus", "gather", s, "--by", "side"}));
    QVERIFY(good({"bus", "add", s, "guitars"}));
    QVERIFY(good({"bus", "set", s, "left", "--into", "guitars", "--send", "right:-12"}));
    QVERIFY(refused({"bus", "set", s, "guitars", "--into", "left"}, "left > guitars > left"));
    QVERIFY(refused({"bus", "set", s, "guitars", "--rig", "../elsewhere.json"}, "folder"));
    QVERIFY(good({"section", "add", s, "verse", "--bar", "1"}));
    const auto song = run({"session", "info", s, "--json"}).json()["song"].toArray()[0].toObject();
    QCOMPARE(song["bus"].toArray().size(), 3);
    QCOMPARE(song["section"].toArray()[0].toObject()["to_s"].toDouble(), 1.5);
    const auto layer = song["part"].toArray()[1].toObject()["layer"].toArray()[0].toObject();
    QCOMPARE(layer["role"].toString(), QString("backing"));
    QCOMPARE(layer["source"].toString(), QString("drums"));
    QCOMPARE(layer["take"].toArray()[0].toObject()["channels"].toInt(), 2);
    QCOMPARE(layer["take"].toArray()[0].toObject()["at_s"].toDouble(), 0.5);
    const auto misplaced = [&](const QString& folder, const char* why) {
        const auto ran = run({"mix", path("none.wav"), "--session", s, "--stems", folder});
        return ran.code == 2 && ran.error.contains(why) && !QFileInfo::exists(path("none.wav"));
    };
    QVERIFY(misplaced(left, "it is a file"));
    QVERIFY(misplaced(s + "/audio", "session"));
    const auto judged = run({"take", "judge", s, "--part", "Band", "--layer", "drums"});
    QCOMPARE(judged.code, 2);
    QVERIFY2(judged.error.contains("not judged"), judged.error.constData());
    const auto mixed = run({"mix", path("mix.wav"), "--session", s, "--stems", path("stems"), "--by", "bus", "--json"});
    QCOMPARE(mixed.code, 0);
    QStringList stems;
    for (const auto& stem : mixed.json()["stem"].toArray())
        stems << QFileInfo(stem.toObject()["file"].toString()).fileName();
    QCOMPARE(stems, QStringList({"Song 1, right.wav", "Song 1, guitars.wav", "Song 1, without a bus.wav"}));
    QVERIFY(mixed.json()["residual_dbfs"].toDouble() < -120.0);
    QCOMPARE(mixed.json()["join"].toArray().size(), 4);
}

QTEST_GUILESS_MAIN(TestCliSong)
#include "test_cli_song.moc"
