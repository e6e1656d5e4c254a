#include "core/audio/file_place.h"
#include "core/session/session_folder.h"
#include "core/units/json_text.h"
#include "support/file_size_limit.h"
#include "support/session_example.h"

#include <QtTest/QtTest>
#include <csignal>
#include <fstream>
#include <random>
#include <sys/wait.h>
#include <unistd.h>

using namespace gristle;
using namespace gristle::core;
namespace fs = std::filesystem;

namespace {

/// A folder with the example in it, saved, and nobody's.
fs::path makeSession(const QTemporaryDir& dir)
{
    const fs::path folder = dir.filePath("s.gristle").toStdString();
    const auto made = SessionFolder::create(folder, test::sessionExample(), "");
    return made ? folder : fs::path();
}

SessionDocument opened(const fs::path& folder, Access access = Access::Read)
{
    const auto session = SessionFolder::open(folder, access);
    return session ? session->document() : SessionDocument{};
}

std::string savedText(const fs::path& folder) { return *readText(folder / "session.json"); }

} // namespace

class TestEditJournal : public QObject {
    Q_OBJECT
private slots:
    void whatWasPutIsThereAgain_data();
    void whatWasPutIsThereAgain();
    void savingEmptiesIt();
    void laterEditsStayInIt();
    void halfALineIsLeftOut();
    void oldStepsAreNotDoneTwice();
    void nonsenseIsKeptAside();
    void aDamagedLineIsToldAndKept();
    void readersChangeNothing();
    void fullDiskKeepsTheOld();
    void rigsAreOnDiskBeforeTheyAreNamed();
    void aStepCostsAsMuchAsItsSong();
    void killedAtAnyMoment();
};

void TestEditJournal::whatWasPutIsThereAgain_data()
{
    QTest::addColumn<int>("what");
    const char* names[] = {"gain", "place law", "song added", "song removed", "song moved up", "all songs gone"};
    for (int i = 0; i < 6; ++i) QTest::newRow(names[i]) << i;
}

void TestEditJournal::whatWasPutIsThereAgain()
{
    QFETCH(int, what);
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    SessionDocument d = test::sessionExample();
    d.songs.push_back(d.songs[0]);
    d.songs.back().name = "Second";
    {
        auto session = SessionFolder::open(folder, Access::Write);
        QVERIFY(bool(session->put(d)));
        switch (what) {
        case 0: d.songs[1].parts[0].layers[0].gainDb = -3.25; break;
        case 1: d.law = PanLaw::Minus6; break;
        case 2: d.songs.push_back({"Third", 76.0, "4/4", "E standard", {}}); break;
        case 3: d.songs.pop_back(); break;
        case 4: std::swap(d.songs[0], d.songs[1]); break;
        case 5: d.songs.clear(); break;
        }
        QVERIFY(bool(session->put(d)));
    } // never saved: the program ended here
    QVERIFY(opened(folder) == d);
    QVERIFY(opened(folder, Access::Write) == d); // and is put in its place
    QVERIFY(!fs::exists(folder / "edits.jsonl"));
    QVERIFY(opened(folder) == d);
}

void TestEditJournal::savingEmptiesIt()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    auto session = SessionFolder::open(folder, Access::Write);
    auto d = session->document();
    d.name = "renamed";
    QVERIFY(bool(session->put(d)));
    QVERIFY(fs::exists(folder / "edits.jsonl"));
    const PendingSave pending = session->pendingSave();
    QVERIFY(bool(writeSave(pending)));
    session->settle(pending);
    QVERIFY(!fs::exists(folder / "edits.jsonl"));
    QVERIFY(savedText(folder).find("renamed") != std::string::npos);
}

void TestEditJournal::laterEditsStayInIt()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    auto d = test::sessionExample();
    {
        auto session = SessionFolder::open(folder, Access::Write);
        d.name = "first";
        QVERIFY(bool(session->put(d)));
        const PendingSave pending = session->pendingSave(); // a worker has it
        d.name = "second";
        QVERIFY(bool(session->put(d)));
        QVERIFY(bool(writeSave(pending)));
        session->settle(pending);
    }
    QVERIFY(savedText(folder).find("first") != std::string::npos);
    QVERIFY(opened(folder) == d); // the second is still in the journal
}

void TestEditJournal::halfALineIsLeftOut()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    auto d = test::sessionExample();
    {
        auto session = SessionFolder::open(folder, Access::Write);
        d.name = "whole";
        QVERIFY(bool(session->put(d)));
        auto lost = d;
        lost.name = "half";
        QVERIFY(bool(session->put(lost)));
    }
    fs::resize_file(folder / "edits.jsonl", fs::file_size(folder / "edits.jsonl") - 20);
    QVERIFY(opened(folder) == d);
    // A line added after the half one stands on its own.
    QVERIFY(bool(appendLine(folder / "edits.jsonl", "{}")));
    QVERIFY(readText(folder / "edits.jsonl")->ends_with("\n{}\n"));
}

void TestEditJournal::oldStepsAreNotDoneTwice()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    auto session = SessionFolder::open(folder, Access::Write);
    auto d = session->document();
    d.name = "one";
    QVERIFY(bool(session->put(d)));
    const auto journal = *readText(folder / "edits.jsonl");
    d.name = "two";
    QVERIFY(bool(session->save(d)));
    std::ofstream(folder / "edits.jsonl") << journal; // a crash between saving and emptying the journal
    QCOMPARE(opened(folder).name, std::string("two"));
}

void TestEditJournal::nonsenseIsKeptAside()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    const auto json = savedText(folder);
    QVERIFY(json.find("\"edit\": 1") != std::string::npos);
    // In turn and well formed, but the take leaves the folder.
    std::ofstream(folder / "edits.jsonl")
        << R"({"edit":2,"songs":1,"song":[[0,{"name":"x","part":[{"name":"p","layer":[{"name":"l","take":[{"file":"../x.wav"}]}]}]}]]})"
        << "\n";
    QVERIFY(opened(folder) == test::sessionExample());
    {
        const auto writer = SessionFolder::open(folder, Access::Write);
        QVERIFY(writer && writer->document() == test::sessionExample());
        QCOMPARE(writer->warnings().size(), std::size_t(1)); // told
    }
    QVERIFY(readText(folder / "edits.unread.jsonl")->find("../x.wav") != std::string::npos); // and kept
    QVERIFY(!fs::exists(folder / "edits.jsonl"));
    for (const char* line : {"[]", "{\"edit\":2}", "{\"edit\":2,\"songs\":9,\"song\":[]}", "nothing",
                             "{\"edit\":2,\"songs\":1,\"song\":[[7,{}]]}", "{\"edit\":3,\"songs\":1,\"song\":[]}"}) {
        std::ofstream(folder / "edits.jsonl") << line << "\n";
        QVERIFY2(opened(folder) == test::sessionExample(), line);
    }
}

/// Ten edits, the sixth damaged: five are there, the rest is told and kept aside, and the next damage beside it.
void TestEditJournal::aDamagedLineIsToldAndKept()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    for (const char* aside : {"edits.unread.jsonl", "edits.unread 2.jsonl"}) {
        {
            auto session = SessionFolder::open(folder, Access::Write);
            QVERIFY(bool(session));
            auto d = session->document();
            for (int i = 1; i <= 10; ++i) {
                d.name = "edit " + std::to_string(i);
                QVERIFY(bool(session->put(d)));
            }
        }
        std::string journal = *readText(folder / "edits.jsonl");
        std::size_t at = 0;
        for (int line = 0; line < 5; ++line) at = journal.find('\n', at) + 1;
        for (std::size_t i = at + 3; i < at + 40; ++i) journal[i] = '\0'; // a block that never came to disk
        std::ofstream(folder / "edits.jsonl", std::ios::binary) << journal;
        {
            const auto reader = SessionFolder::open(folder, Access::Read);
            QVERIFY(reader && reader->document().name == "edit 5");
            QCOMPARE(reader->warnings().size(), std::size_t(1));
        }
        auto session = SessionFolder::open(folder, Access::Write);
        QVERIFY(session && session->document().name == "edit 5");
        QVERIFY(session->warnings().size() == 1 && session->warnings()[0].find("5 of the edits") != std::string::npos);
        QVERIFY(*readText(folder / aside) == journal);
        QVERIFY(!fs::exists(folder / "edits.jsonl"));
    }
}

void TestEditJournal::readersChangeNothing()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    auto writer = SessionFolder::open(folder, Access::Write);
    auto d = writer->document();
    d.name = "being edited";
    QVERIFY(bool(writer->put(d)));
    const auto before = savedText(folder), journal = *readText(folder / "edits.jsonl");
    QVERIFY(opened(folder) == d); // the command line sees what the window has
    QVERIFY(savedText(folder) == before && *readText(folder / "edits.jsonl") == journal);
}

void TestEditJournal::fullDiskKeepsTheOld()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    auto session = SessionFolder::open(folder, Access::Write);
    auto d = session->document();
    d.name = "kept";
    QVERIFY(bool(session->put(d)));
    const auto kept = *readText(folder / "edits.jsonl");
    auto large = d;
    for (int i = 0; i < 100; ++i) large.songs.push_back(d.songs[0]);
    {
        const test::FileSizeLimit limit(kept.size() + 100);
        const auto put = session->put(large);
        QVERIFY(!put);
        QVERIFY(put.error().message.find("disk is full") != std::string::npos);
    }
    QVERIFY(session->document() == d);
    QVERIFY(*readText(folder / "edits.jsonl") == kept); // no half line
    QVERIFY(bool(session->put(large)));
}

void TestEditJournal::rigsAreOnDiskBeforeTheyAreNamed()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    auto session = SessionFolder::open(folder, Access::Write);
    RigDocument rig;
    rig.name = "new";
    const auto file = session->saveRig(rig);
    QVERIFY(bool(file));
    PendingSave pending = session->pendingSave();
    QVERIFY(std::ranges::count(pending.unforced, *file) == 1);
    fs::remove(folder / *file); // cannot be forced to disk: then the document must not be written either
    const auto before = savedText(folder);
    pending.document.name = "names the rig";
    QVERIFY(!writeSave(pending));
    QVERIFY(savedText(folder) == before);
    QVERIFY(bool(session->replaceRig(*file, rig)));
    QVERIFY(bool(writeSave(pending)));
    session->settle(pending);
    QVERIFY(session->pendingSave().unforced.empty());
}

void TestEditJournal::aStepCostsAsMuchAsItsSong()
{
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    auto session = SessionFolder::open(folder, Access::Write);
    auto d = session->document();
    for (int i = 0; i < 200; ++i) d.songs.push_back(d.songs[0]);
    QVERIFY(bool(session->save(d)));
    d.songs[100].tempoBpm = 99.0;
    QVERIFY(bool(session->put(d)));
    const std::size_t own = jsonText(songToJson(d.songs[100])).size(); // not that of 200
    QVERIFY(fs::file_size(folder / "edits.jsonl") < own + 200);
}

void TestEditJournal::killedAtAnyMoment()
{
    // A child edits and saves as fast as it can and says the number of each edit that was put; it is killed at random
    // moments. Afterwards at least that edit is there, and the session opens.
    QTemporaryDir dir;
    const fs::path folder = makeSession(dir);
    std::minstd_rand random(7);
    for (int round = 0; round < 20; ++round) {
        int pipeEnds[2];
        QVERIFY(::pipe(pipeEnds) == 0);
        const pid_t child = ::fork();
        if (child == 0) {
            auto session = SessionFolder::open(folder, Access::Write);
            if (!session) _exit(1);
            auto d = session->document();
            for (int n = int(d.songs[0].tempoBpm) == 138 ? 0 : int(d.songs[0].parts[0].layers[0].gainDb);; ++n) {
                d.songs[0].tempoBpm = 100.0;
                d.songs[0].parts[0].layers[0].gainDb = n % 50;
                d.name = std::to_string(n);
                if (!session->put(d) || ::write(pipeEnds[1], &n, sizeof n) != ssize_t(sizeof n)) _exit(2);
                if (n % 3 != 0) continue;
                const PendingSave pending = session->pendingSave();
                if (!writeSave(pending)) _exit(3);
                session->settle(pending);
            }
        }
        ::close(pipeEnds[1]);
        int last = -1, n = 0;
        QVERIFY(::read(pipeEnds[0], &last, sizeof last) == ssize_t(sizeof last)); // it is under way
        QTest::qSleep(1 + int(random() % 40));
        ::kill(child, SIGKILL);
        while (::read(pipeEnds[0], &n, sizeof n) == ssize_t(sizeof n)) last = n;
        ::close(pipeEnds[0]);
        int status = 0;
        ::waitpid(child, &status, 0);
        QVERIFY(WIFSIGNALED(status));
        const auto session = SessionFolder::open(folder, Access::Read);
        QVERIFY(bool(session));
        QVERIFY(std::stoi(session->document().name) >= last);
    }
}

QTEST_APPLESS_MAIN(TestEditJournal)
#include "test_edit_journal.moc"
