#include "core/audio/take_writer.h"
#include "core/mix/figures/signal_ledger.h"
#include "core/session/gain_book.h"
#include "core/session/recorded_take.h"
#include "core/session/session_folder.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <fstream>

using namespace gristle;
using namespace gristle::core;
using namespace gristle::test;

namespace {

const PathRung& rung(const SignalLedger& l, const char* name)
{
    const auto at = std::ranges::find(l.rungs, name, &PathRung::name);
    if (at == l.rungs.end()) qFatal("no rung %s", name);
    return *at;
}

} // namespace

/// The ledger by arithmetic, the gain book, and recordings that become takes.
class TestLedger : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    std::filesystem::path path(const char* name) const
    {
        return std::filesystem::path(dir_.path().toStdString()) / name;
    }

    FileMeasurement measuredSine(double amplitude)
    {
        auto x = whiteNoise(1e-4, 48000, 1);
        append(x, sine(440.0, amplitude, 48000.0, 3.0));
        return *measureFile(writeWav(dir_, "sine.wav", {x}, 48000), {});
    }

private slots:
    void everyRungFollowsFromTheCalibrations()
    {
        const auto m = measuredSine(0.1); // -20 dBFS
        LedgerWish wish;
        wish.input = {12.0, false};
        wish.reamp = {{18.0, false}, -12.0};
        const auto l = signalLedger(m, wish, -18.0);
        QVERIFY(!l.assumed);
        QVERIFY(std::abs(*rung(l, "input").levelDbu - (12.0 - 20.0)) < 0.2);
        QVERIFY(std::abs(*rung(l, "input").headroomDb() - 20.0) < 0.1);
        // Unity: what the output gives less the box is what came in.
        QVERIFY(std::abs(l.unityTrimDb - (12.0 - 18.0 + 12.0)) < 1e-9);
        QVERIFY(std::abs(*rung(l, "output").levelDbu - (*rung(l, "input").levelDbu + 12.0)) < 1e-9);
        QVERIFY(std::abs(*rung(l, "amplifier").levelDbu - *rung(l, "input").levelDbu) < 1e-9);
        QVERIFY(std::abs(*l.outputHeadroomDb - (18.0 - (12.0 - 20.0) - 12.0)) < 0.1);
        // 1e-4 RMS of white noise is -80 dBFS, 77 by AES17 with its 3 dB.
        QVERIFY(std::abs(*rung(l, "input").noiseDbu - (12.0 - 76.99)) < 0.5);
        QCOMPARE(std::ranges::count_if(l.rungs, &PathRung::limitsHeadroom), 1);
        QVERIFY(rung(l, "output").limitsHeadroom);
        QVERIFY(rung(l, "input").limitsNoise);
    }

    void theReturnIsComparedWithTheDi()
    {
        const auto di = measuredSine(0.1);
        const auto back =
            *measureFile(writeWav(dir_, "back.wav", {sine(440.0, 0.1 * dbToAmplitude(-2.5), 48000.0, 3.0)}, 48000), {});
        const auto l = signalLedger(di, {}, -18.0, &back);
        QVERIFY2(l.returnErrorDb && std::abs(*l.returnErrorDb + 2.5) < 0.1,
                 qPrintable(QString::number(l.returnErrorDb.value_or(99))));
        QVERIFY(l.assumed);
    }

    void aBufferIsARungAndAVolumeControlCosts()
    {
        const auto m = measuredSine(0.1);
        LedgerWish wish;
        wish.circuit.controls.volume = 5.0; // a tenth of the resistance: near -20 dB
        const auto low = signalLedger(m, wish, -18.0);
        const double lost = *rung(low, "pickup").levelDbu - *rung(low, "input").levelDbu;
        QVERIFY2(lost > 18.0 && lost < 23.0, qPrintable(QString::number(lost)));
        wish.circuit.buffer = Buffer{};
        const auto buffered = signalLedger(m, wish, -18.0);
        QCOMPARE(buffered.rungs.size(), low.rungs.size() + 1);
        for (const PathRung& r : buffered.rungs)
            QCOMPARE(r.estimate, r.name == "pickup" || r.name == "guitar" || r.name == "buffer");
    }

    void thermalNoiseIsNyquists()
    {
        // A circuit that is a resistor: no coil, no capacitance, controls and input far away.
        GuitarCircuit g;
        g.pickup = {10000.0, 1e-9, 1e-18, 1e12};
        g.controls.volumeOhm = g.controls.toneOhm = 1e12;
        g.controls.toneF = 1e-18;
        g.cable.metres = 0.0;
        g.input = {1e12, 0.0};
        const double truth = std::sqrt(4.0 * 1.380649e-23 * 293.15 * 10000.0 * (20000.0 - 20.0));
        QVERIFY2(std::abs(thermalNoiseV(g) / truth - 1.0) < 0.01,
                 qPrintable(QString::number(thermalNoiseV(g) / truth)));
        // Half the voltage across two equal resistors, each with its own noise: as one of half the size.
        g.input.ohm = 10000.0;
        QVERIFY(std::abs(thermalNoiseV(g) / truth - std::sqrt(0.5)) < 0.01);
    }

    void theGainBookRemembersAndSaysWhatMoved()
    {
        const auto file = path("somewhere/new/gain book.jsonl");
        GainEntry e;
        e.when = "2026-11-01T10:00:00";
        e.guitar = "First guitar", e.pickup = "bridge", e.interface = "an interface", e.gain = "34";
        e.averageDbfs = -18.2;
        e.with.strings = "new";
        {
            GainBook book(file);
            QVERIFY(book.entries().empty());
            QVERIFY(bool(book.add(e)));
            GainEntry other = e;
            other.pickup = "neck", other.gain = "28";
            QVERIFY(bool(book.add(other)));
        }
        std::ofstream(file, std::ios::app) << "{\"guitar\": \"half a li";
        GainBook book(file);
        QCOMPARE(book.entries().size(), std::size_t(2));
        QVERIFY(book.last("first GUITAR", "bridge", "an interface", 1));
        QVERIFY(*book.last("first GUITAR", "bridge", "an interface", 1) == e);
        QVERIFY(!book.last("first guitar", "bridge", "an interface", 2));
        QCOMPARE(gainSentence(e), std::string("gain at 34, last time -18.2 dBFS (2026-11-01)"));
        GainEntry now = e;
        now.averageDbfs = -20.0;
        QVERIFY(!GainBook::moved(e, now)); // 1.8 dB
        now.averageDbfs = -21.0;
        QVERIFY(std::abs(*GainBook::moved(e, now) + 2.8) < 1e-9);
        now.gain = "36";
        QVERIFY(!GainBook::moved(e, now));
        // After the half line the next entry stands on one of its own.
        QVERIFY(bool(book.add(now)));
        QCOMPARE(GainBook(file).entries().size(), std::size_t(3));
    }

    // A recording of two channels that serves three layers; a crash at any point leaves something that can be finished.
    void recordingsBecomeTakes()
    {
        const auto folder = path("takes.gristle");
        SessionDocument d;
        d.songs.push_back({"Song", 120.0, "4/4", "E standard", {{"Part", {}}}});
        auto session = SessionFolder::create(folder, d, "now");
        QVERIFY(bool(session));
        RecordingNote note;
        note.targets = {{"Song", "Part", "DI", 1}, {"Song", "Part", "Second rig", 1}, {"Song", "Part", "Room", 2}};
        note.recorded = "2026-11-26T09:00:00";
        note.source = "an interface, inputs 1 and 2";
        note.input = {14.0, false};
        const auto recording = beginRecording(folder, note);
        QVERIFY(bool(recording));
        {
            auto writer = TakeWriter::create(*recording, {44100, 2, SampleFormat::Int24, "", ""});
            std::vector<float> x(2 * 44100, 0.1f);
            QVERIFY(bool(writer->write(x)));
            QVERIFY(bool(writer->close()));
        }
        QCOMPARE(unfinishedRecordings(folder).size(), std::size_t(1));
        const auto first = finishRecording(folder, *recording, {100, 2000});
        QVERIFY(bool(first));
        QCOMPARE(first->size(), std::size_t(3));
        // As if the program ended before the document was saved: finishing again gives the same takes.
        QCOMPARE(unfinishedRecordings(folder).size(), std::size_t(1));
        const auto again = finishRecording(folder, *recording);
        QVERIFY(bool(again));
        QCOMPARE(again->front().take.file, first->front().take.file);
        SessionDocument after = session->document();
        addTakes(after, *first);
        addTakes(after, *again); // and adding them twice adds them once
        const auto& layers = after.songs[0].parts[0].layers;
        QCOMPARE(layers.size(), std::size_t(3));
        for (const Layer& l : layers) QCOMPARE(l.takes.size(), std::size_t(1));
        QCOMPARE(layers[2].takes[0].channel, 2);
        QCOMPARE(layers[0].takes[0].gaps, (std::vector<std::int64_t>{100, 2000}));
        QCOMPARE(after.sampleRateHz, 44100);
        QVERIFY(bool(session->save(after)));
        forgetNote(*recording);
        QVERIFY(unfinishedRecordings(folder).empty());
        QVERIFY(session->check(true).empty());
    }

    void aRecordingWithNothingInItGoes()
    {
        const auto folder = path("nothing.gristle");
        QVERIFY(bool(SessionFolder::create(folder, {}, "now")));
        RecordingNote note;
        note.targets = {{"Song", "Part", "DI", 0}};
        note.recorded = "2026-11-26T09:00:00";
        const auto recording = beginRecording(folder, note); // killed before the first block
        QVERIFY(bool(recording));
        const auto takes = finishRecording(folder, *recording);
        QVERIFY(bool(takes) && takes->empty());
        QVERIFY(unfinishedRecordings(folder).empty());
        std::ofstream(folder / "audio" / ".recording broken.json") << "{";
        const auto broken = finishRecording(folder, folder / "audio" / ".recording broken.wav");
        QVERIFY(!broken && broken.error().code == ErrorCode::BadDocument);
    }
};

QTEST_APPLESS_MAIN(TestLedger)
#include "test_ledger.moc"
