// Bars and beats in seconds, tempo maps from MIDI files, and the pieces that a layer is joined of.

#include "core/mix/render/take_reader.h"
#include "core/session/midi_tempo.h"
#include "core/session/pieces.h"
#include "core/units/text.h"
#include "support/signals.h"

#include <QTemporaryDir>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;

/// A file with one track, its events as they are given.
std::string midi(const std::string& events, int division = 480)
{
    using namespace std::string_literals;
    const std::string track = events + "\0\xFF\x2F\0"s;
    std::string out = "MThd\0\0\0\6\0\0\0\1"s;
    out += char(division >> 8), out += char(division & 0xFF);
    out += "MTrk\0\0"s;
    out += char(track.size() >> 8), out += char(track.size() & 0xFF);
    return out + track;
}

Result<TempoMap> parsed(const std::string& bytes)
{
    return parseTempoMap({reinterpret_cast<const unsigned char*>(bytes.data()), bytes.size()}, "song.mid");
}

} // namespace

class TestSongTime : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;

    PieceRecipe file(const char* name, const std::vector<float>& x, double atS, int rate = int(kRate))
    {
        const auto path = test::writeWav(dir_, name, {x}, rate);
        PieceRecipe out;
        out.file = path, out.atS = atS;
        return out;
    }
    static std::vector<float> all(TakeReader& reader, std::size_t block = 1000)
    {
        std::vector<float> out;
        for (;;) {
            const auto got = reader.read(out, block);
            if (!got || *got == 0) return out;
        }
    }

private slots:
    void barsOfOneTempo()
    {
        const BarGrid grid(120.0, "4/4");
        QCOMPARE(grid.secondsOfBar(1.0), 0.0);
        QCOMPARE(grid.secondsOfBar(5.5), 9.0);
        QCOMPARE(grid.secondsOfBar(0.0), -2.0); // a count-in
        QCOMPARE(grid.barAt(9.0), 5.5);
        QCOMPARE(BarGrid(90.0, "6/8").barSeconds(1.0), 2.0);      // three quarter notes
        const auto beats = BarGrid(120.0, "6/8").beats(0.0, 1.5); // dotted quarters
        QCOMPARE(beats.size(), std::size_t(2));
        QVERIFY(beats[0].isFirst && !beats[1].isFirst);
        QCOMPARE(beats[1].timeS, 0.75);
        QCOMPARE(BarGrid(120.0, "7/8").beats(0.0, 1.75).size(), std::size_t(7));
        QCOMPARE(BarGrid(120.0, "4/4").beats(-2.0, 0.0).size(), std::size_t(4));
    }

    // By hand: 4 bars of 4/4 at 120 take 8 s; then 3/4 at 90: 2 s a bar; the tempo changes again within bar 6.
    void barsOfAMap()
    {
        const BarGrid grid(120.0, "4/4", {{20.5, 60.0}, {16.0, 90.0}}, {{5, "3/4"}});
        QCOMPARE(grid.secondsOfBar(5.0), 8.0);
        QCOMPARE(grid.secondsOfBar(6.0), 10.0);
        QVERIFY(std::abs(grid.secondsOfBar(7.0) - (8.0 + 4.5 * 60.0 / 90.0 + 1.5)) < 1e-12);
        QCOMPARE(grid.bpmAt(9.0), 90.0);
        for (double bar = -2.0; bar < 12.0; bar += 0.25)
            QVERIFY(std::abs(grid.barAt(grid.secondsOfBar(bar)) - bar) < 1e-9);
        const auto beats = grid.beats(7.9, 10.1);
        QCOMPARE(beats.size(), std::size_t(4)); // 8, 8.67, 9.33 and 10
        QVERIFY(beats[0].isFirst && beats[3].isFirst && !beats[1].isFirst);
    }

    void midiFilesGiveTempoAndMeter()
    {
        using namespace std::string_literals;
        // 100 BPM and 6/8 at the beginning; a note; 75 BPM after four quarter notes; 4/4 after six.
        const auto map = parsed(midi("\0\xFF\x51\3\x09\x27\xC0"s
                                     "\0\xFF\x58\4\6\3\x24\x08"s
                                     "\0\x90\x40\x40"s
                                     "\x60\x40\0"s
                                     "\x8E\x20\xFF\x51\3\x0C\x35\x00"s
                                     "\x87\x40\xFF\x58\4\4\2\x18\x08"s));
        QVERIFY2(bool(map), map ? "" : map.error().line().c_str());
        QCOMPARE(map->bpm, 100.0);
        QCOMPARE(map->meter, std::string("6/8"));
        QCOMPARE(map->tempos, (std::vector<TempoChange>{{4.0, 75.0}}));
        QCOMPARE(map->meters, (std::vector<MeterChange>{{3, "4/4"}}));
        QCOMPARE(parsed(midi({}))->bpm, 120.0);
    }

    void markersOfMidiFilesAreSections()
    {
        using namespace std::string_literals;
        // 480 ticks a quarter note: a marker at the beginning, another at the same place, one after eight.
        const auto map = parsed(midi("\0\xFF\x06\5Intro\0\xFF\x06\5Verse\x9E\0\xFF\x06\6Chorus"s));
        QVERIFY2(bool(map), map ? "" : map.error().line().c_str());
        QCOMPARE(map->markers, (std::vector<TempoMap::Marker>{{0.0, "Verse"}, {8.0, "Chorus"}}));
        QCOMPARE(parsed(midi("\0\xFF\x06\2\xC3\x28"s))->markers[0].name, validText("\xC3\x28")); // no UTF-8
        QVERIFY(parsed(midi("\0\xFF\x06\0"s))->markers.empty());
    }

    void brokenMidiFilesAreRefusedInWords()
    {
        using namespace std::string_literals;
        const auto error = [](const std::string& bytes) {
            const auto map = parsed(bytes);
            return map ? std::string() : map.error().message;
        };
        QVERIFY(error("RIFF....").find("no standard MIDI file") != std::string::npos);
        QVERIFY(error({}).find("no standard MIDI file") != std::string::npos);
        QVERIFY(error(midi({}, 0xE728)).find("in seconds") != std::string::npos);
        QVERIFY(error(midi("\0\xFF\x51\3\xFF\xFF\xFF"s)).find("20 to 400") != std::string::npos);
        const std::string whole = midi("\0\xFF\x51\3\x09\x27\xC0"s);
        QVERIFY(error(whole.substr(0, whole.size() - 6)).find("breaks off") != std::string::npos);
        QVERIFY(!readTempoMap(dir_.filePath("nothing.mid").toStdString()));
    }

    void aChangeSplitsTheStretchAndNothingElse()
    {
        Layer layer;
        layer.takes.resize(2);
        StretchChange change{8.0, 12.0, -14.0};
        layer.pieces = changedPieces(layer, change);
        QCOMPARE(layer.pieces.size(), std::size_t(3));
        QVERIFY(layer.pieces[0].laterMs == 0.0 && layer.pieces[1].laterMs == -14.0 && layer.pieces[2].laterMs == 0.0);
        QVERIFY(layer.pieces[1].fromS == 8.0 && layer.pieces[2].fromS == 12.0);
        // Taken back, it is one piece again.
        change.laterMs = 14.0;
        layer.pieces = changedPieces(layer, change);
        QCOMPARE(layer.pieces.size(), std::size_t(1));
        // Over a join, both takes are moved, and the join stays.
        layer.pieces = {{0.0, 0}, {10.0, 1}};
        layer.pieces = changedPieces(layer, {8.0, 12.0, 5.0, 3.0});
        QCOMPARE(layer.pieces.size(), std::size_t(4));
        QVERIFY(layer.pieces[2].take == 1 && layer.pieces[2].fromS == 10.0 && layer.pieces[2].cents == 3.0);
    }

    void joinedTakesPassBitForBitBetweenTheirJoins()
    {
        const auto a = test::whiteNoise(0.1, 48000 * 3, 1), b = test::whiteNoise(0.1, 48000 * 3, 2);
        auto first = file("a.wav", a, -0.5), second = file("b.wav", b, 0.25);
        second.fromS = 1.0, second.fadeS = 0.02;
        auto joined = TakeReader::join({first, second});
        QVERIFY(bool(joined));
        const auto x = all(*joined);
        for (std::size_t i = 0; i < 48000 - 480; ++i) QCOMPARE(x[i], a[i + 24000]);
        for (std::size_t i = 48000 + 480; i < x.size(); ++i) QCOMPARE(x[i], b[i - 12000]);
        QCOMPARE(x.size(), std::size_t(3.25 * 48000));
        // Equal power in the middle of the fade.
        const double half = std::sqrt(0.5);
        QVERIFY(std::abs(double(x[48000]) - half * double(a[72000] + b[36000])) < 1e-6);
        // In blocks, or from a frame on: the same samples.
        auto again = TakeReader::join({first, second});
        QCOMPARE(all(*again, 77), x);
        (void)again->seek(47990);
        std::vector<float> part;
        (void)again->read(part, 300);
        for (std::size_t i = 0; i < part.size(); ++i) QCOMPARE(part[i], x[47990 + i]);
    }

    // A sine that is moved by a part of a sample and retuned is the sine that theory says.
    void piecesAreMovedAndRetuned()
    {
        auto piece = file("sine.wav", test::sine(440.0, 0.5, kRate, 4.0), 0.0);
        piece.laterS = 0.0123456;
        auto moved = TakeReader::join({piece});
        const auto x = all(*moved);
        double worst = 0.0;
        for (std::size_t i = 4800; i < 96000; ++i)
            worst = std::max(worst, std::abs(double(x[i]) - 0.5 * std::sin(2.0 * std::numbers::pi * 440.0 *
                                                                           (double(i) / kRate - 0.0123456))));
        QVERIFY2(worst < 2e-4, qPrintable(QString::number(worst)));
        piece.laterS = 0.0, piece.cents = 7.0;
        auto tuned = TakeReader::join({piece});
        const auto y = all(*tuned);
        // About its middle, 2 s: there the phase is as it was, and the pitch 7 cents up.
        worst = 0.0;
        for (std::size_t i = 48000; i < 144000; ++i) {
            const double t = 2.0 + (double(i) / kRate - 2.0) * std::exp2(7.0 / 1200.0);
            worst = std::max(worst, std::abs(double(y[i]) - 0.5 * std::sin(2.0 * std::numbers::pi * 440.0 * t)));
        }
        QVERIFY2(worst < 2e-4, qPrintable(QString::number(worst)));
    }

    void takesOfOtherRatesAreNotJoined()
    {
        const auto a = file("r48.wav", test::whiteNoise(0.1, 4800), 0.0),
                   b = file("r44.wav", test::whiteNoise(0.1, 4410), 0.0, 44100);
        const auto joined = TakeReader::join({a, b});
        QVERIFY(!joined && joined.error().message.find("rate") != std::string::npos);
        QVERIFY(!TakeReader::join({}));
    }
};

QTEST_APPLESS_MAIN(TestSongTime)
#include "test_song_time.moc"
