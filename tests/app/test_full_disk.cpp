// A full disk under the window: nothing is lost, each is told, and it goes on when there is room again.

#include "core/audio/audio_reader.h"
#include "core/audio/take_writer.h"
#include "core/session/recorded_take.h"
#include "core/session/take_import.h"
#include "support/faulty_disk.h"
#include "support/signals.h"
#include "support/window_bench.h"

#include <QPushButton>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

namespace disk = gristle::test::faulty_disk;

class TestFullDisk : public QObject {
    Q_OBJECT
private slots:
    void init();
    void cleanup() { disk::off(); }
    void anEditIsRefusedAloudAndTheRestGoesOn();
    void undoComesBackWhenThereIsRoom();
    void importedFilesAreInTheSessionOrNowhere_data();
    void importedFilesAreInTheSessionOrNowhere();
    void aTakeKeepsItsRecordingUntilItIsNoted();
    void cutsKeepTheirRecordingUntilTheyAreNoted();
    void aBrokenHeaderIsOfferedForSalvage();

private:
    std::filesystem::path record(WindowBench& b, std::int64_t frames);
    std::size_t takes(WindowBench& b) const;
    QTemporaryDir dir_;
    QString folder_;
    int count_ = 0;
};

void TestFullDisk::init()
{
    folder_ = dir_.filePath(QStringLiteral("Session %1.gristle").arg(++count_));
    SessionDocument d;
    d.songs.push_back({"Song", 120.0, "4/4", "E standard", {{"Part", {}}}});
    auto session = SessionFolder::create(folder_.toStdString(), d, "now");
    QVERIFY(bool(session));
    const auto take = importTake(session->path(), {},
                                 test::writeWav(dir_, "first.wav", {test::whiteNoise(0.1, 30000)}, 48000), {}, "now");
    QVERIFY(bool(take));
    Layer layer;
    layer.name = "Left 1";
    layer.takes = {*take};
    d = session->document();
    d.sampleRateHz = 48000;
    d.songs[0].parts[0].layers = {layer};
    QVERIFY(bool(session->save(d)));
}

std::size_t TestFullDisk::takes(WindowBench& b) const
{
    std::size_t n = 0;
    for (const LayerPath& path : allLayers(b.window.session().document()))
        n += findLayer(b.window.session().document(), path)->takes.size();
    return n;
}

/// A recording that has just ended, as the recorder leaves it.
std::filesystem::path TestFullDisk::record(WindowBench& b, std::int64_t frames)
{
    RecordingNote note;
    note.targets = {{"Song", "Part", "Left 1", 0}};
    note.recorded = "2026-11-30T10:00:00";
    note.layout = {48000, 1, SampleFormat::Int24};
    const auto file = beginRecording(b.window.session().folder().path(), note);
    if (!file) qFatal("no recording");
    auto writer = TakeWriter::create(*file, {48000, 1, SampleFormat::Int24, "", note.recorded});
    if (!writer || !writer->write(test::whiteNoise(0.1, std::size_t(frames))) || !writer->close())
        qFatal("not written");
    return *file;
}

void TestFullDisk::anEditIsRefusedAloudAndTheRestGoesOn()
{
    WindowBench b;
    b.window.openPaths({folder_});
    b.settle();
    const SessionDocument before = b.window.session().document();
    disk::below(folder_.toStdString());
    for (int level = 0; level < 30; ++level) { // at any moment of noting it
        disk::leaveRoom(level * 12);
        const bool done =
            b.window.session().edit("Tempo", "song", [&](SessionDocument& d) { d.songs[0].tempoBpm = 90 + level; });
        const SessionDocument now = b.window.session().document();
        QCOMPARE(now.songs[0].tempoBpm == 90 + level, done);
        if (!done) QVERIFY(b.window.notice().contains("the disk is full"));
        disk::leaveRoom(-1);
        const auto onDisk = SessionFolder::open(folder_.toStdString(), Access::Read);
        QVERIFY(onDisk && onDisk->document() == now && onDisk->warnings().empty());
    }
    QVERIFY(b.window.session().edit("Tempo", "song", [](SessionDocument& d) { d.songs[0].tempoBpm = 77; }));
    b.window.session().close();
    const auto closed = SessionFolder::open(folder_.toStdString(), Access::Read);
    QVERIFY(closed && closed->document().songs[0].tempoBpm == 77.0);
}

void TestFullDisk::undoComesBackWhenThereIsRoom()
{
    WindowBench b;
    b.window.openPaths({folder_});
    SessionModel& session = b.window.session();
    for (const double tempo : {100.0, 110.0})
        QVERIFY(session.edit("Tempo", "song", [&](SessionDocument& d) { d.songs[0].tempoBpm = tempo; }));
    b.settle();
    disk::below(folder_.toStdString());
    disk::leaveRoom(0);
    session.undoStack().undo();
    QCOMPARE(session.document().songs[0].tempoBpm, 110.0); // refused
    QTest::qWait(20);
    disk::leaveRoom(-1);
    QCOMPARE(session.undoStack().index(), 2); // and not forgotten
    session.undoStack().undo();
    QCOMPARE(session.document().songs[0].tempoBpm, 100.0);
    session.undoStack().undo();
    QCOMPARE(session.document().songs[0].tempoBpm, 120.0);
    disk::leaveRoom(0);
    session.undoStack().redo();
    QCOMPARE(session.document().songs[0].tempoBpm, 120.0);
    QTest::qWait(20);
    disk::leaveRoom(-1);
    session.undoStack().redo();
    session.undoStack().redo();
    QCOMPARE(session.document().songs[0].tempoBpm, 110.0);
    b.settle();
}

void TestFullDisk::importedFilesAreInTheSessionOrNowhere_data()
{
    QTest::addColumn<int>("room");
    for (const int room : {0, 44, 20000, 120000, 240000, 240300, 240700, 241000, 242000, 300000})
        QTest::addRow("%d bytes", room) << room;
}

void TestFullDisk::importedFilesAreInTheSessionOrNowhere()
{
    QFETCH(int, room);
    WindowBench b;
    b.window.openPaths({folder_});
    b.settle();
    const auto one = test::writeWav(dir_, "Riff left.wav", {test::whiteNoise(0.1, 30000)}, 48000),
               two = test::writeWav(dir_, "Riff right.wav", {test::whiteNoise(0.1, 30000)}, 48000);
    disk::below(folder_.toStdString());
    disk::leaveRoom(room);
    b.window.bringIn({QString::fromStdString(one.string()), QString::fromStdString(two.string())});
    b.settle();
    const bool wasFull = disk::hasFailed();
    disk::leaveRoom(-1);
    QVERIFY(takes(b) == 1 || takes(b) == 3); // none or both
    if (takes(b) == 1) QVERIFY(b.window.notice().contains("the disk is full"));
    if (!wasFull) QCOMPARE(takes(b), std::size_t(3));
    b.settle();
    QVERIFY(b.window.session().folder().check(true).empty());
    QVERIFY(b.window.session().folder().leftOvers().empty()); // and no copies lie about
}

void TestFullDisk::aTakeKeepsItsRecordingUntilItIsNoted()
{
    WindowBench b;
    b.window.openPaths({folder_});
    b.settle();
    const auto recording = record(b, 24000);
    disk::below(folder_.toStdString());
    disk::leaveRoom(600); // for the note of the recording, not for the journal
    b.window.session().keeper().keep(recording);
    b.settle();
    disk::leaveRoom(-1);
    QCOMPARE(takes(b), std::size_t(1));
    QVERIFY(!b.window.notice().isEmpty());
    QVERIFY(!b.window.notice().contains("recorded for")); // what is not so is not said
    QCOMPARE(unfinishedRecordings(folder_.toStdString()).size(), std::size_t(1));
    // There is room again: the next change brings it in.
    QVERIFY(b.window.session().edit("Tempo", "song", [](SessionDocument& d) { d.songs[0].tempoBpm = 99; }));
    b.settle();
    if (takes(b) == 1) { // or opening the session again
        b.window.session().close();
        b.window.openPaths({folder_});
        b.settle();
    }
    QCOMPARE(takes(b), std::size_t(2));
    QVERIFY(unfinishedRecordings(folder_.toStdString()).empty());
    QVERIFY(b.window.session().folder().check(true).empty() && b.window.session().folder().leftOvers().empty());
}

void TestFullDisk::cutsKeepTheirRecordingUntilTheyAreNoted()
{
    for (const int room : {0, 2000, 40000, 73500, 74200, 146000}) {
        init();
        WindowBench b;
        b.window.openPaths({folder_});
        b.settle();
        const auto recording = record(b, 48000);
        disk::below(folder_.toStdString());
        disk::leaveRoom(room);
        b.window.session().keeper().keepStretches(recording, {}, {{0, 24000, 0.0, 0.0, 0.0}}, false);
        b.window.session().keeper().keepStretches(recording, {}, {{24000, 24000, 0.5, 0.0, 0.0}}, true);
        b.settle();
        const bool wasFull = disk::hasFailed();
        disk::off();
        if (wasFull && takes(b) < 3) QVERIFY2(std::filesystem::exists(recording), qPrintable(QString::number(room)));
        QVERIFY(b.window.session().folder().check(true).empty());
        b.window.session().close();
        b.window.openPaths({folder_});
        b.settle();
        double seconds = 0.0; // all that was played is there, whole or in its stretches
        for (const LayerPath& path : allLayers(b.window.session().document()))
            for (const Take& t : findLayer(b.window.session().document(), path)->takes)
                if (t.recorded == "2026-11-30T10:00:00") seconds += double(t.frames) / 48000.0;
        QVERIFY2(seconds >= 1.0, qPrintable(QStringLiteral("%1 s after %2 bytes").arg(seconds).arg(room)));
        QVERIFY(b.window.session().folder().leftOvers().empty());
    }
}

void TestFullDisk::aBrokenHeaderIsOfferedForSalvage()
{
    std::filesystem::path recording;
    {
        WindowBench b;
        b.window.openPaths({folder_});
        recording = record(b, 24000);
    }
    { // a disk that lost the first block
        QFile file(QString::fromStdString(recording.string()));
        QVERIFY(file.open(QIODevice::ReadWrite));
        file.write(QByteArray(600, '\0'));
    }
    WindowBench b;
    b.window.openPaths({folder_});
    b.settle();
    QCOMPARE(takes(b), std::size_t(1));
    QVERIFY(std::filesystem::exists(recording)); // it stays
    QVERIFY2(b.window.notice().contains("0.5 s"), qPrintable(b.window.notice()));
    auto* act = b.find<QPushButton>("noticeAct");
    QVERIFY(act->isVisible());
    act->click();
    b.settle();
    QCOMPARE(takes(b), std::size_t(2));
    const Take& take = *b.window.session().layer()->chosenTake();
    const auto read = readRecording(b.window.session().folder().path() / take.file);
    const auto truth = test::whiteNoise(0.1, 24000);
    QVERIFY(read && read->audio.frames() == 24000);
    for (std::size_t i = 0; i < truth.size(); ++i)
        QVERIFY(std::abs(read->audio.channel(0)[i] - truth[i]) < 1.5f / 8388608.0f); // a step of 24 bits
}

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    TestFullDisk test;
    return QTest::qExec(&test, argc, argv);
}

#include "test_full_disk.moc"
