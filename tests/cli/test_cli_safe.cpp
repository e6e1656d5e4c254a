// What the command line must not do: write over what is there, believe a header, fall over a name.

#include "core/audio/file_place.h"
#include "core/session/session_folder.h"
#include "core/session/take_import.h"
#include "core/units/text.h"
#include "support/run_cli.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <fstream>
#include <sndfile.h>
#include <sys/stat.h>

using namespace gristle;
using namespace gristle::core;
namespace fs = std::filesystem;

class TestCliSafe : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void nothingIsWrittenOver_data();
    void nothingIsWrittenOver();
    void recordingsAreNotRecordedOver();
    void namesAreKeptWhateverTheyAre_data();
    void namesAreKeptWhateverTheyAre();
    void pathsThatThrowAreTold_data();
    void pathsThatThrowAreTold();
    void shortFilesAreTakenKnowingly_data();
    void shortFilesAreTakenKnowingly();
    void flacLengthsAreNotBelieved_data();
    void flacLengthsAreNotBelieved();
    void lanesAreBounded();
    void nothingThatIsNoNumberIsWritten();
    void noOptionTakesWhatIsNoNumber();
    void leftOversAreNamedAndRemovedByList();

private:
    QString path(const QString& name) const { return dir_.filePath(name); }
    QString session(const QString& name);
    static QByteArray bytes(const QString& file)
    {
        QFile f(file);
        return f.open(QIODevice::ReadOnly) ? f.readAll() : QByteArray();
    }
    QTemporaryDir dir_;
};

void TestCliSafe::initTestCase()
{
    test::writeWav(dir_, "di.wav", {test::whiteNoise(0.1, 48000, 1)}, 48000, SampleFormat::Int24);
    test::writeWav(dir_, "other.wav", {test::whiteNoise(0.1, 48000, 2)}, 48000, SampleFormat::Int24);
}

QString TestCliSafe::session(const QString& name)
{
    const QString folder = path(name);
    if (test::run({"session", "new", folder}).code != 0 ||
        test::run({"session", "add", folder, path("di.wav"), "--part", "P"}).code != 0)
        qFatal("no session");
    return folder;
}

void TestCliSafe::nothingIsWrittenOver_data()
{
    QTest::addColumn<QStringList>("words");
    QTest::addColumn<QString>("out");
    const QString s = session("own.gristle"), take = s + "/audio/di.wav", di = path("di.wav");
    QVERIFY(QFile::link(di, path("link.wav")));
    fs::create_hard_link(di.toStdString(), path("same file.wav").toStdString());
    QCOMPARE(mkfifo(qPrintable(path("pipe.wav")), 0600), 0);
    const QStringList gain{"--chain", "gain db=1"};
    QTest::newRow("the DI itself") << (QStringList{"render", di, di} + gain) << di;
    QTest::newRow("by another name") << (QStringList{"render", di, path("same file.wav")} + gain) << di;
    QTest::newRow("by a roundabout path") << (QStringList{"render", di, path("own.gristle/../di.wav")} + gain) << di;
    QTest::newRow("a session's take") << QStringList{"mix", take, di, path("other.wav")} << take;
    QTest::newRow("the session's own mix onto its take") << QStringList{"mix", take, "--session", s} << take;
    QTest::newRow("the document") << (QStringList{"render", di, s + "/session.json"} + gain) << s + "/session.json";
    QTest::newRow("a link") << (QStringList{"render", di, path("link.wav")} + gain) << path("link.wav");
    QTest::newRow("a pipe") << (QStringList{"render", di, path("pipe.wav")} + gain) << QString();
    QTest::newRow("a device") << (QStringList{"render", di, "/dev/null"} + gain) << QString();
    QTest::newRow("a folder") << (QStringList{"render", di, dir_.path()} + gain) << QString();
    QTest::newRow("an impulse that is read")
        << QStringList{"render", di, path("other.wav"), "--chain", "impulse file=other.wav"} << path("other.wav");
    QTest::newRow("the sum of what it is made of") << QStringList{"impulse", "blend", di, di, path("other.wav")} << di;
    QTest::newRow("a cleaned DI") << QStringList{"clean", di, di, "--mains", "50"} << di;
}

void TestCliSafe::nothingIsWrittenOver()
{
    QFETCH(QStringList, words);
    QFETCH(QString, out);
    const QByteArray before = out.isEmpty() ? QByteArray() : bytes(out);
    const auto ran = test::run(words, dir_.path());
    QVERIFY2(ran.code == 2, ran.error);
    QVERIFY(ran.error.startsWith("gristle-cli: ") && ran.error.count('\n') == 1);
    if (!out.isEmpty()) QCOMPARE(bytes(out), before);
    QVERIFY(QFileInfo(path("link.wav")).isSymLink());
    struct stat about {};
    QVERIFY(::stat(qPrintable(path("pipe.wav")), &about) == 0 && S_ISFIFO(about.st_mode));
    QVERIFY(::stat("/dev/null", &about) == 0 && S_ISCHR(about.st_mode));
}

void TestCliSafe::recordingsAreNotRecordedOver()
{
    const QString out = path("take.wav");
    const QStringList record{"record", out, "--device", "simulated:", "--fast", "--seconds", "0.5"};
    QCOMPARE(test::run(record).code, 0);
    const QByteArray before = bytes(out);
    const auto again = test::run(record);
    QCOMPARE(again.code, 2);
    QVERIFY2(again.error.contains("--force"), again.error);
    QCOMPARE(bytes(out), before);
    QCOMPARE(test::run(record + QStringList{"--force", "--gain", "6"}).code, 0);
    QVERIFY(bytes(out) != before);
    QCOMPARE(QDir(dir_.path()).entryList({"take*"}), QStringList{"take.wav"}); // nothing half-made beside it
}

void TestCliSafe::namesAreKeptWhateverTheyAre_data()
{
    QTest::addColumn<QByteArray>("name");
    QTest::newRow("thirty Japanese letters") << QString(30, QChar(0x30AE)).toUtf8();
    QTest::newRow("four bytes each") << QStringLiteral("\U0001F3B8").repeated(40).toUtf8();
    QTest::newRow("one byte over") << QByteArray(79, 'x') + QString(QChar(0x00E9)).toUtf8();
    QTest::newRow("no UTF-8") << QByteArray("riff \xff\xfe\xc3");
    QTest::newRow("three hundred letters") << QByteArray(300, 'n');
    QTest::newRow("quotes and tabs") << QByteArray("\"a\\b\"\tc");
}

void TestCliSafe::namesAreKeptWhateverTheyAre()
{
    QFETCH(QByteArray, name);
    const QString folder = path(QStringLiteral("named %1.gristle").arg(qHash(name)));
    // As bytes, since QProcess speaks UTF-8.
    const auto shell = [&](const QByteArray& command) {
        QFile script(path("script.sh"));
        if (!script.open(QIODevice::WriteOnly | QIODevice::Truncate)) qFatal("no script");
        script.write("name=$(cat '" + path("name").toUtf8() + "'; printf x)\nname=${name%x}\n" + command);
        script.close();
        QProcess p;
        p.start("sh", {script.fileName(), GRISTLE_CLI_PATH});
        p.waitForFinished(60000);
        return test::Ran{p.exitStatus() == QProcess::NormalExit ? p.exitCode() : -1, p.readAllStandardOutput(),
                         p.readAllStandardError()};
    };
    QFile(path("name")).remove();
    std::ofstream(path("name").toStdString(), std::ios::binary) << name.toStdString();
    const QByteArray cli = "\"$1\"", at = " '" + folder.toUtf8() + "' ";
    auto ran = shell(cli + " session new" + at + "--name \"$name\"\n");
    QVERIFY2(ran.code == 0, ran.error);
    ran = shell(cli + " session add" + at + "'" + path("di.wav").toUtf8() + "' --part \"$name\" --guitar \"$name\"\n");
    QVERIFY2(ran.code == 0, ran.error);
    if (name.size() < 200) { // as the name of a file, too
        ran = shell("cp '" + path("di.wav").toUtf8() + "' '" + dir_.path().toUtf8() + "/'\"$name\".wav\n" + cli +
                    " session add" + at + "'" + dir_.path().toUtf8() + "/'\"$name\".wav --part \"$name\"\n");
        QVERIFY2(ran.code == 0 || name.contains('/'), ran.error);
    }
    ran = shell(cli + " session record" + at + " 2>/dev/null; " + cli + " record --session" + at +
                "--part \"$name\" --device simulated: --fast --seconds 0.3\n");
    QVERIFY2(ran.code == 0, ran.error);
    const auto info = test::run({"--json", "session", "info", folder});
    QVERIFY2(info.code == 0, info.error);
    const QString shown = QString::fromStdString(validText(name.toStdString()));
    QCOMPARE(info.json()["name"].toString(), shown);
    const auto parts = info.json()["song"].toArray()[0].toObject()["part"].toArray();
    QCOMPARE(parts.size(), 1); // the same name is the same part
    QCOMPARE(parts[0].toObject()["name"].toString(), shown);
    QCOMPARE(test::run({"session", "check", folder}).code, 0);
    const auto opened = SessionFolder::open(folder.toStdString(), Access::Write);
    QVERIFY(opened && opened->warnings().empty());
    for (const LayerPath& p : allLayers(opened->document()))
        for (const Take& take : findLayer(opened->document(), p)->takes)
            QCOMPARE(validText(take.file), take.file); // files have names that can be written down
}

void TestCliSafe::pathsThatThrowAreTold_data()
{
    QTest::addColumn<QStringList>("words");
    QTest::addColumn<int>("code");
    const QString s = session("throws.gristle"), longName(300, QChar('n')), loop = path("loop");
    QVERIFY(QFile::link(loop, loop)); // leads to itself
    QTest::newRow("an impulse with a long name")
        << QStringList{"render", path("di.wav"), path("o.wav"), "--chain", "impulse file=" + longName + ".wav"} << 3;
    QTest::newRow("an impulse in a loop")
        << QStringList{"render", path("di.wav"), path("o.wav"), "--chain", "impulse file=loop/x.wav"} << 3;
    QTest::newRow("a rig with a long name")
        << QStringList{"render", path("di.wav"), path("o.wav"), "--rig", longName} << 3;
    QTest::newRow("measuring a loop") << QStringList{"measure", loop} << 3;
    QTest::newRow("measuring a long name") << QStringList{"measure", longName} << 3;
    QTest::newRow("a session in a loop") << QStringList{"session", "info", loop} << 3;
    QTest::newRow("a session with a long name") << QStringList{"session", "new", path(longName)} << 4;
    QTest::newRow("an output with a long name")
        << QStringList{"render", path("di.wav"), path(longName), "--chain", "gain db=1"} << 4;
    QTest::newRow("an output in a loop") << QStringList{"render", path("di.wav"), loop + "/o.wav", "--chain",
                                                        "gain db=1"}
                                         << 4;
    QTest::newRow("adding from a loop") << QStringList{"session", "add", s, loop, "--part", "P"} << 3;
    QTest::newRow("writing aligned into a loop")
        << QStringList{"align", path("di.wav"), path("other.wav"), "--write", loop} << 4;
    QTest::newRow("a folder of a folder that is a file")
        << QStringList{"render", path("di.wav"), path("di.wav/x.wav"), "--chain", "gain db=1"} << 4;
}

void TestCliSafe::pathsThatThrowAreTold()
{
    QFETCH(QStringList, words);
    QFETCH(int, code);
    const auto ran = test::run(words, dir_.path());
    QVERIFY2(ran.code == code, QByteArray::number(ran.code) + ran.error);
    QVERIFY2(ran.error.startsWith("gristle-cli: ") && ran.error.count('\n') == 1 && !ran.error.contains("of its own"),
             ran.error);
}

void TestCliSafe::shortFilesAreTakenKnowingly_data()
{
    QTest::addColumn<int>("format");
    QTest::newRow("WAV") << (SF_FORMAT_WAV | SF_FORMAT_PCM_24);
    QTest::newRow("AIFF") << (SF_FORMAT_AIFF | SF_FORMAT_PCM_24);
    QTest::newRow("RF64") << (SF_FORMAT_RF64 | SF_FORMAT_PCM_16);
    QTest::newRow("WAVE64") << (SF_FORMAT_W64 | SF_FORMAT_FLOAT);
    QTest::newRow("FLAC") << (SF_FORMAT_FLAC | SF_FORMAT_PCM_24);
}

void TestCliSafe::shortFilesAreTakenKnowingly()
{
    QFETCH(int, format);
    const QString file = path(QStringLiteral("short %1").arg(format));
    SF_INFO info{};
    info.samplerate = 48000, info.channels = 1, info.format = format;
    SNDFILE* f = sf_open(qPrintable(file), SFM_WRITE, &info);
    const auto x = test::whiteNoise(0.1, 48000, 9);
    QVERIFY(f && sf_writef_float(f, x.data(), 48000) == 48000);
    sf_close(f);
    QVERIFY(QFile(file).resize(QFileInfo(file).size() / 2));
    const QString folder = session(QStringLiteral("short %1.gristle").arg(format));
    const auto refused = test::run({"session", "add", folder, file, "--part", "P"});
    QCOMPARE(refused.code, 3);
    QVERIFY2(refused.error.contains("--short") && refused.error.contains("of the 1.00 s"), refused.error);
    const auto taken = test::run({"--json", "session", "add", folder, file, "--part", "P", "--short"});
    QVERIFY2(taken.code == 0, taken.error);
    const auto frames = taken.json()["take"].toArray()[0].toObject()["frames"].toInt();
    QVERIFY2(frames > 15000 && frames < 33000, qPrintable(QString::number(frames)));
    QCOMPARE(test::run({"session", "check", folder}).code, 0);
    if ((format & SF_FORMAT_TYPEMASK) == SF_FORMAT_FLAC) return; // which is refused as damaged where it is only read
    for (const QStringList& words : {QStringList{"measure", file},
                                     {"render", file, path("o.wav"), "--chain", "gain db=1"},
                                     {"mix", path("o.wav"), file}}) {
        const auto ran = test::run(QStringList{"--json"} + words);
        QVERIFY2(ran.code == 0, ran.error);
        QVERIFY2(ran.out.contains("file.truncated"), ran.out);
    }
}

void TestCliSafe::flacLengthsAreNotBelieved_data()
{
    QTest::addColumn<quint64>("told");
    QTest::newRow("not told") << quint64(0);
    QTest::newRow("the most that the field holds") << ((quint64(1) << 36) - 1);
    QTest::newRow("a day") << quint64(48000) * 86400;
    QTest::newRow("less than there is") << quint64(1000);
}

void TestCliSafe::flacLengthsAreNotBelieved()
{
    QFETCH(quint64, told);
    const QString file = path("told.flac");
    SF_INFO info{};
    info.samplerate = 48000, info.channels = 1, info.format = SF_FORMAT_FLAC | SF_FORMAT_PCM_16;
    SNDFILE* f = sf_open(qPrintable(file), SFM_WRITE, &info);
    const auto x = test::whiteNoise(0.1, 48000, 9);
    QVERIFY(f && sf_writef_float(f, x.data(), 48000) == 48000);
    sf_close(f);
    { // the total of STREAMINFO: 36 bits from the low half of byte 21 on (RFC 9639)
        QFile raw(file);
        QVERIFY(raw.open(QIODevice::ReadWrite) && raw.seek(21));
        char five[5];
        QCOMPARE(raw.read(five, 5), qint64(5));
        five[0] = char((five[0] & 0xF0) | char(told >> 32));
        for (int i = 0; i < 4; ++i) five[1 + i] = char(told >> (24 - 8 * i));
        QVERIFY(raw.seek(21) && raw.write(five, 5) == 5);
    }
    // Within half a gigabyte, whatever the header says.
    QProcess p;
    p.start("sh", {"-c", "ulimit -v 600000; exec \"$0\" \"$@\"", GRISTLE_CLI_PATH, "--json", "render", file,
                   path("o.wav"), "--chain", "gain db=0", "--tail", "0"});
    QVERIFY(p.waitForFinished(60000));
    QVERIFY2(p.exitStatus() == QProcess::NormalExit, "fell over");
    const QByteArray error = p.readAllStandardError();
    if (told == 0) {
        QVERIFY2(p.exitCode() == 0, error);
        QCOMPARE(test::number(QJsonDocument::fromJson(p.readAllStandardOutput())["frames"]), 48000.0);
    } else if (told == 1000) {
        QVERIFY2(p.exitCode() == 0 || p.exitCode() == 3, error);
    } else {
        QVERIFY2(p.exitCode() == 3 && error.contains("breaks off"), error);
    }
}

void TestCliSafe::lanesAreBounded()
{
    const auto lanes = [](int n) {
        QStringList each;
        for (int i = 0; i < n; ++i) each << "gain db=-1";
        return "{ " + each.join(" ; ") + " }";
    };
    const auto render = [&](const QString& chain) {
        return test::run({"render", path("di.wav"), path("lanes.wav"), "--chain", chain, "--tail", "0"});
    };
    QCOMPARE(render(lanes(64)).code, 0);
    const auto many = render(lanes(5000)); // a word of the command line holds no more
    QCOMPARE(many.code, 2);
    QVERIFY2(many.error.contains("5000") && many.error.contains("256"), many.error.right(300));
    QString deep = "gain db=1";
    for (int i = 0; i < 2000; ++i) deep = "{ " + deep + " }";
    QCOMPARE(render(deep).code, 2);
}

void TestCliSafe::nothingThatIsNoNumberIsWritten()
{
    // Gains that overflow: what they make is no number.
    const auto ran = test::run({"--json", "render", path("di.wav"), path("huge.wav"), "--float", "--chain",
                                QStringList(14, "gain db=60").join(" | ")});
    QVERIFY2(ran.code == 0, ran.error);
    QVERIFY(ran.out.contains("file.not_finite"));
    QVERIFY(test::run({"measure", path("huge.wav")}).code == 0); // which refuses what is no number
}

/// Each option of each command that its own help calls a number.
void TestCliSafe::noOptionTakesWhatIsNoNumber()
{
    static const QRegularExpression command("^  ([a-z]+) +[A-Z]"), number("(--[a-z-]+) FLOAT");
    const auto helpOf = [](const QStringList& of) {
        return QString::fromUtf8(test::run(of + QStringList{"--help"}).out).split('\n');
    };
    int tried = 0;
    std::vector<QStringList> commands{{}};
    for (std::size_t i = 0; i < commands.size(); ++i) {
        const QStringList of = commands[i];
        bool isList = false;
        for (const QString& line : helpOf(of)) {
            isList |= line.startsWith("Subcommands:");
            if (const auto found = command.match(line); isList && found.hasMatch())
                commands.push_back(of + QStringList{found.captured(1)});
            const auto option = number.match(line);
            if (!option.hasMatch()) continue;
            for (const char* value : {"nan", "-nan", "inf", "-inf"}) {
                const auto ran = test::run(of + QStringList{option.captured(1) + "=" + value});
                QVERIFY2(ran.code == 2 && (ran.error.contains("no number") || ran.error.contains("in range")),
                         qPrintable(of.join(' ') + " " + line + ": " + ran.error));
                ++tried;
            }
        }
    }
    QVERIFY(tried > 100);
    for (const char* mic : {"ribbon:nan", "ribbon:5:inf", "ribbon:5:0:nan", "ribbon:5:0:0:nan"})
        QCOMPARE(test::run({"cab", path("cab.wav"), "--mic", mic}).code, 2);
    for (const char* chain : {"gain db=nan", "delay time=nan", "delay time=infms", "{ gain ; gain } gain=inf"})
        QCOMPARE(test::run({"render", path("di.wav"), path("none.wav"), "--chain", chain}).code, 2);
    QVERIFY(!QFile::exists(path("cab.wav")) && !QFile::exists(path("none.wav")));
}

void TestCliSafe::leftOversAreNamedAndRemovedByList()
{
    const QString folder = session("left.gristle");
    const auto put = [&](const QString& name, const QByteArray& content) {
        QFile f(folder + "/" + name);
        if (!f.open(QIODevice::WriteOnly) || f.write(content) != content.size()) qFatal("not written");
    };
    const QByteArray take = bytes(folder + "/audio/di.wav");
    put("audio/di 2.wav", take);                // a copy of what a layer has
    put("audio/nobody's.wav", take + "more");   // somebody's, perhaps
    put("audio/.half.wav.999999999.part", "x"); // no process has this number
    put("rigs/.rig.json.999999999-7.part", "x");
    put("audio/.recording odd.wav", "x");
    put("edits.unread.jsonl", "{}");
    const auto listed = [&] {
        QMap<QString, bool> out;
        for (const auto& l : test::run({"--json", "session", "check", folder}).json()["left_over"].toArray())
            out[l.toObject()["file"].toString()] = l.toObject()["safe"].toBool();
        return out;
    };
    const QMap<QString, bool> all{{"audio/.half.wav.999999999.part", true},
                                  {"rigs/.rig.json.999999999-7.part", true},
                                  {"audio/.recording odd.wav", false},
                                  {"audio/di 2.wav", true},
                                  {"audio/nobody's.wav", false},
                                  {"edits.unread.jsonl", false}};
    QCOMPARE(listed(), all);
    QCOMPARE(test::run({"session", "clean", folder, "--list"}).code, 0);
    QVERIFY(QFile::exists(folder + "/audio/di 2.wav")); // only said
    QCOMPARE(test::run({"session", "clean", folder}).code, 0);
    const QMap<QString, bool> rest{
        {"audio/.recording odd.wav", false}, {"audio/nobody's.wav", false}, {"edits.unread.jsonl", false}};
    QCOMPARE(listed(), rest); // the parts went when it was opened for writing
    QCOMPARE(test::run({"session", "clean", folder, "audio/di.wav"}).code, 2); // a layer has it
    QCOMPARE(test::run({"session", "clean", folder, "../own.gristle/session.json"}).code, 2);
    QVERIFY(QFile::exists(folder + "/audio/di.wav"));
    QCOMPARE(test::run({"session", "clean", folder, "audio/nobody's.wav"}).code, 0);
    QVERIFY(!QFile::exists(folder + "/audio/nobody's.wav"));
    QCOMPARE(test::run({"session", "check", folder}).code, 0);
}

QTEST_GUILESS_MAIN(TestCliSafe)
#include "test_cli_safe.moc"
