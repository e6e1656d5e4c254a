// Takes cut out of one recording while it runs and after it, and what a crash leaves of it.

#include "core/advice/double_findings.h"
#include "core/audio/audio_reader.h"
#include "core/audio/take_writer.h"
#include "core/session/recorded_take.h"
#include "core/timing/phrases.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;
namespace fs = std::filesystem;

namespace {

/// A recording of two inputs that is under way, its samples the numbers of their frames.
struct Running {
    fs::path folder, file;
    std::optional<TakeWriter> writer;
    std::int64_t frames = 0;

    Running(const fs::path& where, const RecordingNote& note) : folder(where)
    {
        fs::create_directories(folder);
        file = *beginRecording(folder, note);
        auto made = TakeWriter::create(file, {48000, 2, SampleFormat::Int24, "", note.recorded});
        if (made) writer = std::move(*made);
    }
    void write(std::int64_t count)
    {
        std::vector<float> block;
        for (std::int64_t i = 0; i < count; ++i, ++frames) {
            block.push_back(float(double(frames) * 0x1p-20));
            block.push_back(float(-double(frames) * 0x1p-20));
        }
        (void)writer->write(block);
        (void)writer->sync();
    }
};

RecordingNote note()
{
    RecordingNote out;
    out.targets = {{"Song", "Rhythm", "Left", 1}, {"Song", "Rhythm", "Room", 2}};
    out.recorded = "2026-11-27T10:00:00";
    out.source = "an interface, inputs 1, 2";
    out.input = {18.0, false};
    out.playing.cloth = "at the nut";
    return out;
}

std::vector<float> samples(const fs::path& file, std::size_t channel)
{
    const auto read = readRecording(file);
    if (!read) return {};
    const auto x = std::as_const(read->audio).channel(channel);
    return {x.begin(), x.end()};
}

/// A performance with a note each half second, the second of two; phrases end with a rest.
TakeMeasure measureOf(const std::vector<double>& notes, const std::vector<std::pair<double, double>>& rests)
{
    TakeMeasure out;
    out.endS = 16.0, out.spanToS = 16.0;
    for (const double t : notes) {
        PlayedNote n;
        n.timeS = t;
        out.notes.push_back(n);
    }
    out.levelDb.assign(1600, -10.0f);
    for (const auto& [from, to] : rests)
        for (int h = int(from * 100.0); h < int(to * 100.0); ++h) out.levelDb[std::size_t(h)] = -60.0f;
    return out;
}

} // namespace

class TestRecordedTake : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    fs::path folder(const char* name) { return fs::path(dir_.path().toStdString()) / name; }

private slots:
    void aStretchIsCopiedWhileTheRestIsRecorded()
    {
        Running running(folder("loop"), note());
        running.write(48000);
        TakeCut cut{12000, 24000, -0.25, 0.0, 0.25};
        const auto takes = cutTakes(running.folder, running.file, cut, {11999, 12000, 40000});
        QVERIFY2(bool(takes), takes ? "" : takes.error().line().c_str());
        QCOMPARE(takes->size(), std::size_t(2)); // two layers of one file
        const Take& left = (*takes)[0].take;
        QCOMPARE(left.frames, std::int64_t(24000));
        QCOMPARE(left.gaps, std::vector<std::int64_t>{0});
        QVERIFY(left.atS == -0.25 && left.isPunch() && left.spanToS == 0.25);
        QVERIFY(left.channel == 1 && (*takes)[1].take.channel == 2 && left.file == (*takes)[1].take.file);
        QVERIFY(left.input == note().input && left.playing.cloth == "at the nut");
        // Bit for bit, and the recording goes on.
        const auto x = samples(running.folder / left.file, 0);
        for (std::size_t i = 0; i < x.size(); ++i) QCOMPARE(x[i], float(double(12000 + i) * 0x1p-20));
        QCOMPARE(cutTakes(running.folder, running.file, {40000, 24000}).error().code,
                 ErrorCode::Empty); // not there yet
        running.write(48000);
        const auto second = cutTakes(running.folder, running.file, {40000, 24000});
        QVERIFY(second && second->front().take.file != left.file);
        dropRecording(running.file);
        QVERIFY(!fs::exists(running.file) && unfinishedRecordings(running.folder).empty());
        QVERIFY(fs::exists(running.folder / left.file));
    }

    /// Again is pressed at once: the first is not saved yet when the second begins.
    void twoRecordingsOfOneSecondKeepTheirNotes()
    {
        Running first(folder("again"), note());
        first.write(4800);
        first.writer.reset();
        const auto made = finishRecording(first.folder, first.file);
        QVERIFY(made && made->size() == 2);
        Running second(first.folder, note());
        QVERIFY(second.file != first.file);
        second.write(2400);
        second.writer.reset();
        forgetNote(first.file);
        const auto again = finishRecording(first.folder, second.file);
        QVERIFY2(again, again ? "" : again.error().message.c_str());
        QCOMPARE(again->front().take.frames, 2400);
        QVERIFY(again->front().take.file != made->front().take.file);
    }

    void aCrashLeavesAWholeTakeAtItsPlace()
    {
        RecordingNote told = note();
        fs::path file;
        {
            Running running(folder("crash"), told);
            told.atS = -2.3125; // known once the transport runs
            QVERIFY(bool(renote(running.file, told)));
            running.write(30000);
            file = running.file;
        }
        const auto left = unfinishedRecordings(folder("crash"));
        QCOMPARE(left.size(), std::size_t(1));
        const auto takes = finishRecording(folder("crash"), left[0]);
        QVERIFY(takes && takes->size() == 2);
        QCOMPARE((*takes)[0].take.atS, -2.3125);
        QCOMPARE((*takes)[0].take.frames, std::int64_t(30000));
        QVERIFY(!(*takes)[0].take.isPunch());
        QCOMPARE((*takes)[1].take.playing, told.playing);
    }

    void aPunchCountsOnlyWhereNothingElseDoes()
    {
        SessionDocument d;
        RecordedTake whole{{"Song", "Rhythm", "Left", 0}, {}}, punch = whole;
        whole.take.file = "audio/whole.wav", punch.take.file = "audio/punch.wav";
        punch.take.spanFromS = 2.0, punch.take.spanToS = 4.0;
        addTakes(d, {punch});
        Layer* layer = findLayer(d, {});
        QCOMPARE(layer->chosen, std::size_t(0));
        QCOMPARE(heardPieces(*layer).size(), std::size_t(1)); // its bars alone
        QVERIFY(heardPieces(*layer)[0].fromS > 1.9 && heardPieces(*layer)[0].fromS < 2.0);
        addTakes(d, {whole});
        layer = findLayer(d, {});
        QCOMPARE(layer->chosen, std::size_t(1));
        QVERIFY(heardPieces(*layer).empty());
        layer->pieces = {{0.0, 1}, {2.0, 0}, {4.0, 1}};
        punch.take.file = "audio/again.wav";
        addTakes(d, {punch});
        QCOMPARE(findLayer(d, {})->pieces.size(), std::size_t(3)); // joined as they were
        QCOMPARE(findLayer(d, {})->chosen, std::size_t(1));
        whole.take.file = "audio/anew.wav";
        addTakes(d, {whole});
        QVERIFY(findLayer(d, {})->pieces.empty() && findLayer(d, {})->chosen == 3);
        addTakes(d, {whole});
        QCOMPARE(findLayer(d, {})->takes.size(), std::size_t(4)); // once
    }

    void phrasesLieBetweenRests()
    {
        const BarGrid grid(120.0, "4/4");
        std::vector<double> notes;
        for (int i = 0; i < 32; ++i)
            if (i % 8 < 6) notes.push_back(0.5 * i);
        const auto measure = measureOf(notes, {{2.9, 4.0}, {6.9, 8.0}, {10.9, 12.0}});
        DoubleTake take;
        for (const double t : notes) {
            NotePair pair;
            pair.timeS = t, pair.offsetMs = t >= 4.0 && t < 8.0 ? 15.0 : 1.0;
            if (t >= 8.0 && t < 12.0) pair.cents = 6.0;
            take.notes.push_back(pair);
        }
        const auto phrases = phrasesOf(take, measure, grid);
        QCOMPARE(phrases.size(), std::size_t(4));
        QVERIFY(phrases[1].offsetMs == 15.0 && phrases[0].offsetMs == 1.0 && phrases[2].cents == 6.0);
        QVERIFY(std::abs(phrases[1].fromS - 3.45) < 0.02 && std::abs(phrases[1].toS - 7.45) < 0.02);
        QVERIFY(phrases[1].firstBar == 3 && phrases[1].lastBar == 4 && phrases[1].notes == 6);
        QVERIFY(!phrases[0].cents);
    }

    void barsAreMovedBetweenAttacks()
    {
        const BarGrid grid(120.0, "4/4"); // bars of 2 s
        std::vector<double> notes;
        for (int i = 0; i < 32; ++i) notes.push_back(0.5 * i + 0.004);
        const auto measure = measureOf(notes, {});
        // Earlier by 14 ms: the cut lies before the moved attack, so that it is whole, at both ends.
        const auto early = movableBars(measure, grid, 3, 4, -14.0);
        QVERIFY(early && early->first < 4.004 - 0.014 && early->first > 4.004 - 0.03);
        QVERIFY(early->second < 8.004 - 0.014 && early->second > 8.004 - 0.03);
        const auto late = movableBars(measure, grid, 3, 4, 14.0);
        QVERIFY(late && late->first < 4.004 && late->first > 3.99);
        QVERIFY(movableBars(measure, grid, 8, 8, 14.0));                         // nothing follows
        QVERIFY(!movableBars(measureOf({0.0, 0.5, 7.0}, {}), grid, 3, 3, 14.0)); // no note begins there
    }

    void barsThatStrayAreThoseOfTheSong()
    {
        DoubleTake take;
        for (int i = 0; i < 64; ++i) {
            NotePair pair;
            pair.timeS = 0.25 * i - 0.01; // a little before each place: it belongs to the bar behind it
            pair.offsetMs = (i / 8 == 5 ? 18.0 : 0.0) + (i % 2 ? 1.0 : -1.0);
            take.notes.push_back(pair);
        }
        const auto strays = strayBars(take, {BarGrid(120.0, "4/4"), -0.06});
        QCOMPARE(strays.size(), std::size_t(1));
        QVERIFY(strays[0].bar == 6 && strays[0].notes == 8 && std::abs(strays[0].offsetMs - 18.0) < 0.5);
        // With another tempo from bar 3 on, the same seconds are other bars.
        const auto faster = strayBars(take, {BarGrid(120.0, "4/4", {{8.0, 240.0}}), -0.06});
        QCOMPARE(faster.size(), std::size_t(2));
        QCOMPARE(faster[0].bar, 9);
        DoubleLimits tight{1.0, 4.0, 6.0};
        take.offsetSdMs = 5.0;
        QCOMPARE(heardAs(take, tight), DoubleHeard::Loose);
        QCOMPARE(heardAs(take), DoubleHeard::Width);
    }
};

QTEST_APPLESS_MAIN(TestRecordedTake)
#include "test_recorded_take.moc"
