#include "core/audio/file_place.h"
#include "core/demo_session/demo_session.h"
#include "core/session/recall_sheet.h"
#include "core/session/take_import.h"
#include "support/file_size_limit.h"
#include "support/session_example.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace gristle;
using namespace gristle::core;
namespace fs = std::filesystem;

namespace {

SessionDocument example() { return test::sessionExample(); }

} // namespace

class TestSession : public QObject {
    Q_OBJECT
private slots:
    void documentRoundTrips();
    void whatANewerVersionWroteStays();
    void formatNumbersOfAnySize_data();
    void formatNumbersOfAnySize();
    void badDocuments_data();
    void badDocuments();
    void secondWriterIsRefused();
    void takesAreCopiedAndChecked();
    void savingIntoNothingKeepsTheOld();
    void fullDiskWhileSaving();
    void killedWhileSaving();
    void rigVersionsCountUp();
    void logIsAppendOnly();
    void csvIsQuoted();
    void movedSessionOpens();
    void demoIsTheSameEveryTime();
    void sheetNamesEverything();
    void barsFollowTheMeter();
    void thousandsOfTakesOpenFast();
};

void TestSession::documentRoundTrips()
{
    const auto d = example();
    const auto read = sessionFromJson(sessionToJson(d));
    QVERIFY(bool(read));
    QVERIFY(*read == d);
}

namespace {

/// Gives every object in a document a field that nobody knows; how many there are.
int mark(nlohmann::ordered_json& json, int& count)
{
    if (json.is_object()) {
        for (auto& [key, value] : json.items()) mark(value, count);
        json["of_a_newer_version"] = {{"number", ++count}, {"list", {1, "two", nullptr}}, {"exact", 5}};
    } else if (json.is_array()) {
        for (auto& value : json) mark(value, count);
    }
    return count;
}

} // namespace

/// Through the document, the journal and saving: every field of every object, as it came.
void TestSession::whatANewerVersionWroteStays()
{
    QTemporaryDir dir;
    const fs::path folder = dir.filePath("s.gristle").toStdString();
    QVERIFY(bool(SessionFolder::create(folder, example(), "")));
    auto json = nlohmann::ordered_json::parse(*readText(folder / "session.json"));
    int count = 0;
    QVERIFY(mark(json, count) > 15);
    std::ofstream(folder / "session.json") << json.dump(1);
    {
        auto session = SessionFolder::open(folder, Access::Write);
        QVERIFY(bool(session));
        auto d = session->document();
        d.songs[0].tempoBpm += 1.0; // goes through the journal
        QVERIFY(bool(session->put(d)));
        d.name = "another";
        QVERIFY(bool(session->put(d)));
    }
    {
        auto session = SessionFolder::open(folder, Access::Write); // puts the journal in its place
        QVERIFY(session && session->document().name == "another");
        auto d = session->document();
        d.songs[0].parts[0].layers[0].gainDb = -3.0;
        QVERIFY(bool(session->save(d)));
    }
    auto after = nlohmann::ordered_json::parse(*readText(folder / "session.json"));
    json["name"] = "another";
    json["edit"] = after["edit"];
    json["song"][0]["tempo_bpm"] = json["song"][0]["tempo_bpm"].get<double>() + 1.0;
    json["song"][0]["part"][0]["layer"][0]["gain_db"] = -3.0;
    // The order of keys is no matter of JSON.
    QVERIFY2(
        nlohmann::json::parse(json.dump()) == nlohmann::json::parse(after.dump()),
        nlohmann::json::diff(nlohmann::json::parse(json.dump()), nlohmann::json::parse(after.dump())).dump(1).c_str());

    // The same for a rig, with a node that is not known.
    auto session = SessionFolder::open(folder, Access::Write);
    std::ofstream(folder / "rigs" / "new.v1.json")
        << R"({"gristle_rig":1,"name":"new","version":1,"di_average_dbfs":null,"output_db":2.0,"mood":{"a":[1]},"chain":[)"
        << R"({"node":"gain","db":3.0,"colour":"blue","by":[1,2]},{"node":"not yet made","depth":5,"bypass":false,"x":{"y":1}},)"
        << R"({"lanes":[[],[{"node":"gain","db":1.0,"n":7}]],"sides":2}]})";
    std::vector<std::string> warnings;
    auto rig = session->loadRig("rigs/new.v1.json", Unknown::Bypass, warnings);
    QVERIFY(rig && !warnings.empty());
    rig->outputDb = -1.0;
    const auto saved = session->saveRig(*rig);
    QVERIFY(bool(saved));
    auto before = nlohmann::json::parse(*readText(folder / "rigs/new.v1.json")),
         now = nlohmann::json::parse(*readText(folder / *saved));
    before["output_db"] = -1.0, before["version"] = 2;
    QVERIFY2(before == now, nlohmann::json::diff(before, now).dump(1).c_str());
}

void TestSession::formatNumbersOfAnySize_data()
{
    QTest::addColumn<QByteArray>("number");
    QTest::addColumn<int>("code"); // -1: opens
    QTest::newRow("this one") << QByteArray("1") << -1;
    QTest::newRow("the next") << QByteArray("2") << int(ErrorCode::NewerVersion);
    QTest::newRow("2^32 + 1") << QByteArray("4294967297") << int(ErrorCode::NewerVersion);
    QTest::newRow("2^64 + 1") << QByteArray("18446744073709551617") << int(ErrorCode::NewerVersion);
    QTest::newRow("1e300") << QByteArray("1e300") << int(ErrorCode::NewerVersion);
    QTest::newRow("a word") << QByteArray("\"1\"") << int(ErrorCode::BadDocument);
    QTest::newRow("a tower") << QByteArray(100000, '[') << int(ErrorCode::BadDocument);
}

void TestSession::formatNumbersOfAnySize()
{
    QFETCH(QByteArray, number);
    QFETCH(int, code);
    QTemporaryDir dir;
    const fs::path folder = dir.filePath("s.gristle").toStdString();
    QVERIFY(bool(SessionFolder::create(folder, example(), "")));
    std::string text = *readText(folder / "session.json");
    text.replace(text.find("\"gristle_session\": 1"), 20, "\"gristle_session\": " + number.toStdString());
    std::ofstream(folder / "session.json") << text;
    const auto session = SessionFolder::open(folder, Access::Write);
    QCOMPARE(session ? -1 : int(session.error().code), code);
    if (code >= 0) QVERIFY(*readText(folder / "session.json") == text); // and nothing was changed
    std::ofstream(folder / "rigs" / "n.json") << "{\"gristle_rig\":" << number.toStdString() << ",\"chain\":[]}";
    std::vector<std::string> warnings;
    const auto rig = readRig(folder / "rigs" / "n.json", Unknown::Bypass, warnings);
    QCOMPARE(rig ? -1 : int(rig.error().code), code);
}

void TestSession::badDocuments_data()
{
    QTest::addColumn<QByteArray>("json");
    QTest::addColumn<int>("code");
    QTest::newRow("no session") << QByteArray("{}") << int(ErrorCode::BadDocument);
    QTest::newRow("a list") << QByteArray("[1]") << int(ErrorCode::BadDocument);
    QTest::newRow("newer") << QByteArray(R"({"gristle_session":2})") << int(ErrorCode::NewerVersion);
    QTest::newRow("songs no list") << QByteArray(R"({"gristle_session":1,"song":3})") << int(ErrorCode::BadDocument);
    QTest::newRow("leaves the folder")
        << QByteArray(R"({"gristle_session":1,"song":[{"part":[{"layer":[{"take":[{"file":"../x.wav"}]}]}]}]})")
        << int(ErrorCode::BadDocument);
    QTest::newRow("absolute") << QByteArray(
                                     R"({"gristle_session":1,"song":[{"part":[{"layer":[{"rig":"/etc/x.json"}]}]}]})")
                              << int(ErrorCode::BadDocument);
    QTest::newRow("place out of range") << QByteArray(
                                               R"({"gristle_session":1,"song":[{"part":[{"layer":[{"place":500}]}]}]})")
                                        << int(ErrorCode::OutOfRange);
    QTest::newRow("tempo a word") << QByteArray(R"({"gristle_session":1,"song":[{"tempo_bpm":"fast"}]})")
                                  << int(ErrorCode::BadDocument);
    QTest::newRow("chosen take missing")
        << QByteArray(
               R"({"gristle_session":1,"song":[{"part":[{"layer":[{"chosen":3,"take":[{"file":"audio/a.wav"}]}]}]}]})")
        << int(ErrorCode::OutOfRange);
    const auto layer = [](const char* fields) {
        return QByteArray(R"({"gristle_session":1,"song":[{"name":"s","part":[{"name":"p","layer":[{"name":"l",)") +
               fields + "}]}]}]}";
    };
    QTest::newRow("a piece of no take") << layer(R"("piece":[{"from_s":0,"take":0}])") << int(ErrorCode::OutOfRange);
    QTest::newRow("a piece far out of tune")
        << layer(R"("take":[{"file":"audio/a.wav"}],"piece":[{"take":0,"cents":900}])") << int(ErrorCode::OutOfRange);
    QTest::newRow("a span of one figure")
        << layer(R"("take":[{"file":"audio/a.wav","span_s":[1]}])") << int(ErrorCode::BadDocument);
    QTest::newRow("a capo behind the last fret")
        << layer(R"("take":[{"file":"audio/a.wav","playing":{"capo":99}}])") << int(ErrorCode::BadDocument);
    QTest::newRow("a tempo of nothing")
        << QByteArray(R"({"gristle_session":1,"song":[{"name":"s","tempo":[{"quarter":4,"bpm":0}]}]})")
        << int(ErrorCode::OutOfRange);
    QTest::newRow("bounds of doubles") << QByteArray(R"({"gristle_session":1,"double_style":[{"width_ms":-3}]})")
                                       << int(ErrorCode::OutOfRange);
}

void TestSession::badDocuments()
{
    QFETCH(QByteArray, json);
    QFETCH(int, code);
    const auto read = sessionFromJson(nlohmann::ordered_json::parse(json.toStdString()));
    QVERIFY(!read);
    QCOMPARE(int(read.error().code), code);
    QVERIFY(!read.error().remedy.empty());
}

void TestSession::secondWriterIsRefused()
{
    QTemporaryDir dir;
    const fs::path folder = dir.filePath("one.gristle").toStdString();
    auto first = SessionFolder::create(folder, {}, "2026-01-01T00:00:00");
    QVERIFY(bool(first));
    QCOMPARE(SessionFolder::open(folder, Access::Write).error().code, ErrorCode::Locked);
    QVERIFY(bool(SessionFolder::open(folder, Access::Read)));
    {
        const SessionFolder gone = std::move(*first);
    }
    QVERIFY(bool(SessionFolder::open(folder, Access::Write)));
    QCOMPARE(SessionFolder::create(folder, {}, "").error().code, ErrorCode::WriteFailed); // there is one already
}

void TestSession::takesAreCopiedAndChecked()
{
    QTemporaryDir dir;
    auto session = SessionFolder::create(dir.filePath("s.gristle").toStdString(), {}, "2026-01-01T00:00:00");
    const auto x = test::whiteNoise(0.1, 5000), y = test::whiteNoise(0.1, 5000, 2);
    const auto source = test::writeWav(dir, "my take, left.wav", {x}, 44100, SampleFormat::Int24);
    auto one = importTake(session->path(), {}, source, {}, "now"),
         two = importTake(session->path(), {}, source, {}, "now");
    QVERIFY(one && two);
    QVERIFY(one->file != two->file); // nothing is written over
    QCOMPARE(one->hash, *hashFile(session->path() / one->file));
    QCOMPARE(one->sampleRateHz, 44100);
    QCOMPARE(importTake(session->path(), {}, test::writeWav(dir, "two.wav", {x, y}, 48000), {}, "now").error().code,
             ErrorCode::OutOfRange);
    SessionDocument d;
    d.songs = {{"Song", 120.0, "4/4", "E standard", {{"Part", {{}}}}}};
    d.songs[0].parts[0].layers[0].takes = {*one, *two};
    d.songs[0].parts[0].layers[0].rig = "rigs/gone.v1.json";
    QVERIFY(bool(session->save(d)));
    QCOMPARE(session->check(true).size(), std::size_t(1)); // the rig
    fs::remove(session->path() / one->file);
    std::ofstream(session->path() / two->file, std::ios::app) << "x";
    const auto missing = session->check(true);
    QCOMPARE(missing.size(), std::size_t(3));
    QVERIFY(missing[0].why.find("missing") != std::string::npos && missing[1].why.find("changed") != std::string::npos);
}

void TestSession::savingIntoNothingKeepsTheOld()
{
    QTemporaryDir dir;
    auto session = SessionFolder::create(dir.filePath("s.gristle").toStdString(), example(), "");
    const auto before = *readText(session->path() / "session.json");
    // Its place is taken by a folder: writing fails whoever runs the test.
    const fs::path place = session->path() / "session.json", aside = session->path() / "aside.json";
    fs::rename(place, aside);
    fs::create_directory(place);
    auto changed = example();
    changed.name = "other";
    const auto saved = session->save(changed);
    QVERIFY(!saved);
    QCOMPARE(saved.error().code, ErrorCode::WriteFailed);
    QCOMPARE(session->document().name, std::string("a session")); // memory and disk as they were
    fs::remove(place);
    fs::rename(aside, place);
    QVERIFY(*readText(place) == before);
    for (const auto& entry : fs::directory_iterator(session->path())) // and nothing half-written is left
        QVERIFY(!processOfPlace(entry.path().filename().string()));
    QVERIFY(bool(session->save(changed)));
}

void TestSession::fullDiskWhileSaving()
{
    // A limit on file sizes fails a write in its middle, as a full disk does.
    QTemporaryDir dir;
    auto session = SessionFolder::create(dir.filePath("s.gristle").toStdString(), example(), "");
    const auto before = *readText(session->path() / "session.json");
    auto changed = example();
    for (int i = 0; i < 200; ++i) changed.songs.push_back(changed.songs[0]);
    const test::FileSizeLimit limit(4096);
    const auto saved = session->save(changed);
    QVERIFY(!saved);
    QVERIFY(saved.error().message.find("disk is full") != std::string::npos);
    QVERIFY(*readText(session->path() / "session.json") == before);
    QVERIFY(session->document() == example());
    for (const auto& entry : fs::directory_iterator(session->path()))
        QVERIFY(entry.path().extension() != ".part"); // nothing half-written
}

void TestSession::killedWhileSaving()
{
    // What a crash leaves behind: a half-written file beside the whole one, and half a line in the log.
    QTemporaryDir dir;
    const fs::path folder = dir.filePath("s.gristle").toStdString();
    {
        auto session = SessionFolder::create(folder, example(), "2026-01-01T00:00:00");
        QVERIFY(bool(session->log({"t", "note", "whole", "", "", ""})));
    }
    std::ofstream(folder / ".session.json.999.part") << "{\"gristle_ses";
    std::ofstream(folder / "log.jsonl", std::ios::app) << "{\"time\":\"2026";
    auto session = SessionFolder::open(folder, Access::Write);
    QVERIFY(bool(session));
    QVERIFY(session->document() == example());
    QCOMPARE(session->readLog().size(), std::size_t(2));
}

void TestSession::rigVersionsCountUp()
{
    QTemporaryDir dir;
    auto session = SessionFolder::create(dir.filePath("s.gristle").toStdString(), {}, "");
    RigDocument rig;
    rig.name = "crunch/odd:name";
    rig.chain = *parseRecallLine("gain db=1");
    for (int v = 1; v <= 12; ++v) {
        const auto file = session->saveRig(rig);
        QVERIFY(bool(file));
        QCOMPARE(rig.version, v);
        std::vector<std::string> warnings;
        QVERIFY(*session->loadRig(*file, Unknown::Refuse, warnings) == rig);
    }
    std::vector<std::string> own;
    for (const auto& f : session->rigFiles())
        if (f.find("crunch-odd") != std::string::npos) own.push_back(f);
    QVERIFY(own.front().find(".v12.") != std::string::npos); // newest first, by number
    std::vector<std::string> warnings;
    QCOMPARE(session->loadRig("../x.json", Unknown::Refuse, warnings).error().code, ErrorCode::BadDocument);
}

void TestSession::logIsAppendOnly()
{
    QTemporaryDir dir;
    auto session = SessionFolder::create(dir.filePath("s.gristle").toStdString(), {}, "2026-01-01T00:00:00");
    const LogEntry entry{"2026-01-02T00:00:00", "note", "says \"hello\"\nin two lines", "Song", "Part", "Layer"};
    QVERIFY(bool(session->log(entry)));
    QVERIFY(session->readLog().back() == entry);
    QCOMPARE(session->readLog().size(), std::size_t(2));
}

void TestSession::csvIsQuoted()
{
    const auto csv = logCsv({{"t", "note", "a, \"b\"\nc", "S", "P", "L"}});
    QVERIFY(csv == "time,what,song,part,layer,text\r\nt,note,S,P,L,\"a, \"\"b\"\"\nc\"\r\n");
}

void TestSession::movedSessionOpens()
{
    QTemporaryDir dir;
    const fs::path before = dir.filePath("here.gristle").toStdString(),
                   after = dir.filePath("moved to another place.gristle").toStdString();
    {
        auto session = SessionFolder::create(before, example(), "");
        QVERIFY(bool(session));
    }
    fs::rename(before, after);
    const auto session = SessionFolder::open(after, Access::Write);
    QVERIFY(session && session->document() == example());
}

void TestSession::demoIsTheSameEveryTime()
{
    QTemporaryDir dir;
    const fs::path a = dir.filePath("a.gristle").toStdString(), b = dir.filePath("b.gristle").toStdString();
    QVERIFY(makeDemoSession(a) && makeDemoSession(b));
    std::size_t files = 0;
    for (const auto& entry : fs::recursive_directory_iterator(a)) {
        if (!entry.is_regular_file()) continue;
        const fs::path other = b / fs::relative(entry.path(), a);
        QVERIFY(*hashFile(entry.path()) == *hashFile(other));
        ++files;
    }
    QVERIFY(files >= 12);
    const auto session = SessionFolder::open(a, Access::Read);
    QCOMPARE(session->document().songs.size(), std::size_t(3));
    QVERIFY(session->check(true).empty());
}

void TestSession::sheetNamesEverything()
{
    QTemporaryDir dir;
    const fs::path folder = dir.filePath("a.gristle").toStdString();
    QVERIFY(bool(makeDemoSession(folder)));
    const auto session = SessionFolder::open(folder, Access::Read);
    const auto html = recallSheetHtml(*session, {{LayerPath{0, 0, 0}, "averages 1 < 2"}});
    for (const char* text : {"Night Ferry", "Car Deck", "104 BPM", "Rhythm A", "Left 1", "100 left", "crunch, plain",
                             "amplifier", "averages 1 &lt; 2", "Breakwater", "drop D", "6/8"})
        QVERIFY2(html.find(text) != std::string::npos, text);
    const auto moved = SessionFolder::create(dir.filePath("b.gristle").toStdString(), example(), "");
    QVERIFY(recallSheetHtml(*moved, {}).find("1.5 dB, 0.61 ms earlier, inverted") != std::string::npos);
}

void TestSession::barsFollowTheMeter()
{
    Song song;
    song.meter = "6/8";
    QCOMPARE(song.quartersPerBar(), 3.0); // tempo counts quarters
    song.meter = "7/8";
    QCOMPARE(song.quartersPerBar(), 3.5);
    song.meter = "nonsense";
    QCOMPARE(song.quartersPerBar(), 4.0);
}

void TestSession::thousandsOfTakesOpenFast()
{
    SessionDocument d;
    for (int s = 0; s < 100; ++s) {
        Song song;
        song.name = "Song " + std::to_string(s);
        for (int p = 0; p < 5; ++p) {
            Part part;
            for (int l = 0; l < 10; ++l) {
                Layer layer;
                Take take;
                take.file = "audio/" + std::to_string(s) + "-" + std::to_string(p) + "-" + std::to_string(l) + ".wav";
                layer.takes.push_back(take);
                part.layers.push_back(layer);
            }
            song.parts.push_back(part);
        }
        d.songs.push_back(song);
    }
    QCOMPARE(allLayers(d).size(), std::size_t(5000));
    QTemporaryDir dir;
    {
        auto session = SessionFolder::create(dir.filePath("s.gristle").toStdString(), d, "");
        QVERIFY(bool(session));
    }
    const auto again = SessionFolder::open(dir.filePath("s.gristle").toStdString(), Access::Read);
    QVERIFY(again && again->document() == d); // the time it takes is in bench/
}

QTEST_APPLESS_MAIN(TestSession)
#include "test_session.moc"
