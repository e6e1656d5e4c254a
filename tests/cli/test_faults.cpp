// Faults of the disk under the command line: an error at any call, a disk that is full at any moment. Nothing that was
// there before is gone or shortened, what is done is whole, and what is not is told.

#include "core/audio/audio_reader.h"
#include "core/audio/take_writer.h"
#include "core/session/recorded_take.h"
#include "support/run_cli.h"
#include "support/signals.h"

#include <QCryptographicHash>
#include <QDirIterator>
#include <QtTest/QtTest>
#include <random>

using namespace gristle;
using namespace gristle::core;

namespace {

using Contents = QMap<QString, QByteArray>; ///< hash by name

Contents contentsOf(const QString& folder)
{
    Contents out;
    QDirIterator at(folder, QDir::Files | QDir::Hidden, QDirIterator::Subdirectories);
    while (at.hasNext()) {
        QFile file(at.next());
        if (!file.open(QIODevice::ReadOnly)) continue;
        out[QDir(folder).relativeFilePath(at.filePath())] =
            QCryptographicHash::hash(file.readAll(), QCryptographicHash::Sha1);
    }
    return out;
}

struct Work {
    const char* name;
    QStringList words;   ///< WORK stands for the folder
    QString out;         ///< the file that is written, relative to the folder; it is there before
    bool takesRecording; ///< a recording that was not finished becomes a take
    int takesAfter;      ///< that the session has where it was done
};

const std::vector<Work>& works()
{
    static const std::vector<Work> all = {
        {"add", {"session", "add", "WORK/S.gristle", "WORK/third.wav", "--part", "P"}, {}, false, 3},
        {"record",
         {"record", "--session", "WORK/S.gristle", "--part", "P", "--device", "simulated:", "--fast", "--seconds", "1"},
         {},
         false,
         3},
        {"recover", {"session", "recover", "WORK/S.gristle"}, {}, true, 3},
        {"mix", {"mix", "WORK/mix.wav", "--session", "WORK/S.gristle"}, "mix.wav", false, 2},
        {"render", {"render", "WORK/third.wav", "WORK/mix.wav", "--chain", "gain db=3"}, "mix.wav", false, 2},
        {"record over",
         {"record", "WORK/mix.wav", "--force", "--device", "simulated:", "--fast", "--seconds", "1"},
         "mix.wav",
         false,
         2},
    };
    return all;
}

} // namespace

class TestFaults : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void anErrorAtAnyCall_data();
    void anErrorAtAnyCall();
    void aFullDisk_data();
    void aFullDisk();

private:
    struct Ended {
        int code = -1;
        QByteArray error;
        bool wasHit = false;
        std::int64_t calls = 0;
    };
    void layOut();
    Ended run(const Work& work, const QString& fault, std::int64_t value);
    void examine(const Work& work, const Contents& before, const Ended& ended, const QString& about);
    void eachWork();

    QTemporaryDir dir_;
    QString base_, work_;
};

void TestFaults::initTestCase()
{
    base_ = dir_.filePath("base"), work_ = dir_.filePath("work");
    QDir().mkpath(base_);
    const auto wav = [&](const char* name, std::uint32_t seed) {
        return QString::fromStdString(
            test::writeWav(dir_, name, {test::whiteNoise(0.1, 60000, seed)}, 48000, SampleFormat::Int24).string());
    };
    const QString first = wav("first.wav", 1), second = wav("second.wav", 2), third = wav("third.wav", 3);
    const QString session = base_ + "/S.gristle";
    QCOMPARE(test::run({"session", "new", session}).code, 0);
    QCOMPARE(test::run({"session", "add", session, first, second, "--part", "P"}).code, 0);
    QVERIFY(QFile::copy(third, base_ + "/third.wav") && QFile::copy(first, base_ + "/mix.wav"));
    // A recording whose program was killed.
    RecordingNote note;
    note.targets = {{"Song 1", "P", "killed", 0}};
    note.recorded = "2026-11-30T10:00:00";
    note.layout = {48000, 1, SampleFormat::Int24};
    const auto recording = beginRecording(session.toStdString(), note);
    QVERIFY(bool(recording));
    auto made = TakeWriter::create(*recording, {48000, 1, SampleFormat::Int24, "", note.recorded});
    QVERIFY(bool(made));
    std::optional<TakeWriter> writer(std::move(*made));
    QVERIFY(bool(writer->write(test::whiteNoise(0.1, 48000, 4))) && bool(writer->sync()));
    QVERIFY(bool(writer->write(test::whiteNoise(0.1, 5000, 5)))); // behind what the header counts
    const std::filesystem::path asKilled = base_.toStdString() + "/as killed";
    std::filesystem::copy_file(*recording, asKilled);
    writer.reset(); // which brings the header up to date, as no killed program does
    std::filesystem::rename(asKilled, *recording);
}

void TestFaults::layOut()
{
    QDir(work_).removeRecursively();
    std::filesystem::copy(base_.toStdString(), work_.toStdString(), std::filesystem::copy_options::recursive);
}

TestFaults::Ended TestFaults::run(const Work& work, const QString& fault, std::int64_t value)
{
    QStringList words = work.words;
    words.replaceInStrings("WORK", work_);
    QProcess p;
    auto environment = QProcessEnvironment::systemEnvironment();
    const QString disk = dir_.filePath("faulty_disk.so"); // the loader takes a space in a name for the end of it
    QFile::link(GRISTLE_FAULTY_DISK, disk);               // from the second run on it is there
    environment.insert("LD_PRELOAD", disk);
    environment.insert("GRISTLE_FAULT_FOLDER", work_);
    environment.insert("GRISTLE_FAULT_TELL", dir_.filePath("told"));
    if (!fault.isEmpty()) environment.insert(fault, QString::number(value));
    p.setProcessEnvironment(environment);
    p.start(GRISTLE_CLI_PATH, words);
    p.waitForFinished(120000);
    QFile told(dir_.filePath("told"));
    const auto numbers =
        told.open(QIODevice::ReadOnly) ? told.readAll().trimmed().split(' ') : QList<QByteArray>{"0", "0"};
    return {p.exitStatus() == QProcess::NormalExit ? p.exitCode() : -1, p.readAllStandardError(),
            numbers.value(1) == "1", numbers.value(0).toLongLong()};
}

void TestFaults::examine(const Work& work, const Contents& before, const Ended& ended, const QString& about)
{
    const auto said = [&](const char* what) { return qPrintable(about + ": " + what + ": " + ended.error); };
    QVERIFY2(ended.code == 0 || ended.code == 3 || ended.code == 4, said("ended otherwise"));
    if (ended.code != 0) QVERIFY2(ended.error.trimmed().size() > 20, said("nothing told"));
    const auto session = SessionFolder::open((work_ + "/S.gristle").toStdString(), Access::Read);
    QVERIFY2(bool(session), said("the session does not open"));
    std::size_t takes = 0;
    QSet<QString> named;
    for (const LayerPath& path : allLayers(session->document()))
        for (const Take& take : findLayer(session->document(), path)->takes) {
            ++takes;
            named << "S.gristle/" + QString::fromStdString(take.file);
            const auto whole = readRecording(session->path() / take.file);
            QVERIFY2(whole && std::int64_t(whole->audio.frames()) == take.frames, said("a take is shortened"));
            const bool endedEarly = QString(work.name).startsWith("record") && ended.code == 4; // and told so
            QVERIFY2(endedEarly || take.frames == (take.source.empty() || take.source == "first.wav" ||
                                                           take.source == "second.wav" || take.source == "third.wav"
                                                       ? std::int64_t(take.source.empty() ? 53000 : 60000)
                                                       : 48000),
                     qPrintable(about + QStringLiteral(": %1 of %2 has %3 frames, code %4")
                                            .arg(QString::fromStdString(take.file), QString::fromStdString(take.source))
                                            .arg(take.frames)
                                            .arg(ended.code)));
        }
    QVERIFY2(session->check(true).empty(), said("something is missing or changed"));
    if (ended.code == 0) QVERIFY2(takes == std::size_t(work.takesAfter), said("done, and the take is not there"));
    // What was there is there; what may change is told apart.
    const Contents after = contentsOf(work_);
    for (auto at = before.begin(); at != before.end(); ++at) {
        const QString& name = at.key();
        if (name.contains("/.recording ") && work.takesRecording && takes == 3) continue; // it is a take now
        // A recording may have its name already, which its note says.
        const bool isElsewhere = name.contains("/.recording ") && after.values().contains(at.value());
        QVERIFY2(after.contains(name) || isElsewhere, qPrintable(about + ": gone: " + name + ": " + ended.error));
        if (isElsewhere) continue;
        const bool mayChange = name.endsWith("session.json") || name.endsWith("log.jsonl") || name == work.out ||
                               name.contains("/.recording ");
        if (!mayChange) QVERIFY2(after[name] == at.value(), qPrintable(about + ": changed: " + name));
    }
    if (!work.out.isEmpty() && after[work.out] != before[work.out]) {
        const auto whole = readRecording((work_ + "/" + work.out).toStdString());
        QVERIFY2(whole && whole->audio.frames() >= 48000, said("half a file stands under its name"));
    }
    // What was left over is named.
    QSet<QString> told;
    for (const LeftOver& l : session->leftOvers()) told << "S.gristle/" + QString::fromStdString(l.file);
    for (auto at = after.begin(); at != after.end(); ++at)
        if (!before.contains(at.key()) && at.key().startsWith("S.gristle/") && !named.contains(at.key()) &&
            !at.key().endsWith(".lock") && !at.key().endsWith("log.jsonl"))
            QVERIFY2(told.contains(at.key()), qPrintable(about + ": left over and not named: " + at.key()));
}

void TestFaults::eachWork()
{
    QTest::addColumn<int>("work");
    for (std::size_t i = 0; i < works().size(); ++i) QTest::newRow(works()[i].name) << int(i);
}

void TestFaults::anErrorAtAnyCall_data() { eachWork(); }

void TestFaults::anErrorAtAnyCall()
{
    QFETCH(int, work);
    const Work& w = works()[std::size_t(work)];
    layOut();
    const Contents before = contentsOf(work_);
    const Ended quiet = run(w, {}, 0);
    QCOMPARE(quiet.code, 0);
    QVERIFY(quiet.calls > 3);
    examine(w, before, quiet, "without a fault");
    const int asked = qEnvironmentVariableIntValue("GRISTLE_FAULTS"),
              times = asked > 0 ? asked / int(works().size()) : 12;
    std::mt19937 random(std::uint32_t(work) + 1);
    int hit = 0;
    for (int i = 0; i < times; ++i) {
        // The first and the last calls are where the risk is; between them one reads like the other.
        const std::int64_t call = i % 3 == 0 ? quiet.calls - std::int64_t(random() % 12)
                                             : 1 + std::int64_t(random() % std::uint64_t(quiet.calls));
        layOut();
        const Ended ended = run(w, "GRISTLE_FAULT_AT", std::max<std::int64_t>(1, call));
        hit += ended.wasHit;
        examine(w, before, ended, QStringLiteral("%1, EIO at call %2 of %3").arg(w.name).arg(call).arg(quiet.calls));
        if (QTest::currentTestFailed()) return;
    }
    QVERIFY(hit * 2 > times); // how many calls there are may differ by a few
}

void TestFaults::aFullDisk_data() { eachWork(); }

void TestFaults::aFullDisk()
{
    QFETCH(int, work);
    const Work& w = works()[std::size_t(work)];
    layOut();
    const Contents before = contentsOf(work_);
    const int asked = qEnvironmentVariableIntValue("GRISTLE_FAULTS"), levels = asked > 0 ? 30 : 8;
    for (int i = 0; i < levels; ++i) {
        layOut();
        // From nothing to more than all that is written, close together where the small files are.
        const auto room = std::int64_t(i == 0 ? 0 : 40.0 * std::pow(10.0, 4.4 * double(i) / (levels - 1)));
        const Ended ended = run(w, "GRISTLE_FAULT_ROOM", room);
        if (ended.wasHit && ended.code == 0) // a take that ended early by itself is told by code 4
            QVERIFY2(w.out.isEmpty() && ended.error.isEmpty(), qPrintable(QString(w.name) + ": full and nothing said"));
        if (ended.wasHit && QString(w.name).startsWith("record") && ended.code == 4) {
            const auto session = SessionFolder::open((work_ + "/S.gristle").toStdString(), Access::Read);
            QVERIFY(session && session->check(true).empty()); // what fitted may be a take: shorter, and told
            continue;
        }
        examine(w, before, ended, QStringLiteral("%1, full after %2 bytes").arg(w.name).arg(room));
        if (QTest::currentTestFailed()) return;
    }
}

QTEST_GUILESS_MAIN(TestFaults)
#include "test_faults.moc"
