#include "core/audio/audio_writer.h"
#include "core/impulse/impulse_difference.h"
#include "core/impulse/impulse_edit.h"
#include "core/impulse/impulse_shelf.h"
#include "core/impulse/loudspeaker_model.h"
#include "core/measure/loudness.h"
#include "core/signal/biquad.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>
#include <fstream>

using namespace gristle::core;
using namespace gristle::test;
namespace fs = std::filesystem;

namespace {

constexpr int kRate = 48000;

/// A click through a bell, late by `late`.
std::vector<float> belled(double hz, double db, std::size_t late = 20, std::size_t frames = 4000)
{
    std::vector<float> x(frames, 0.0f);
    x[late] = 0.5f;
    Biquad(bell(hz, db, 1.0, kRate)).process(x);
    return x;
}

double dbAt(const std::vector<ResponsePoint>& response, double hz)
{
    const auto at =
        std::ranges::min_element(response, {}, [&](const ResponsePoint& p) { return std::abs(std::log(p.hz / hz)); });
    return at->db;
}

} // namespace

class TestImpulseShelf : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    fs::path folder() const { return dir_.path().toStdString(); }
    void save(const fs::path& file, const std::vector<float>& x, int rate = kRate) const
    {
        fs::create_directories((folder() / file).parent_path());
        QVERIFY(writeRecording(folder() / file, recording({x}, rate)));
    }

private slots:
    /// A card's curve is the filter's, its times those of the click; what is no impulse says why.
    void cards()
    {
        save("one of mine.wav", belled(1000.0, 9.0, 300));
        const auto card = readCard(folder(), "one of mine.wav");
        QVERIFY2(card.isImpulse(), card.why.c_str());
        QCOMPARE(card.rateHz, kRate);
        QVERIFY(card.energy90Ms < 2.0);
        double peak = -99.0, hz = 0.0;
        for (std::size_t i = 0; i < ImpulseCard::kPoints; ++i)
            if (card.db[i] > peak) peak = card.db[i], hz = ImpulseCard::hzOf(i);
        QVERIFY(std::abs(std::log2(hz / 1000.0)) < 0.2);
        // From 100 Hz, where the bell is flat, to its top: 9 dB, less what a sixth of an octave rounds.
        QVERIFY(std::abs(peak - card.db[8] - 9.0) < 0.3);

        save("song.wav", whiteNoise(0.1, 2 * kRate));
        save("nothing.wav", std::vector<float>(1000, 0.0f));
        save("long.wav", std::vector<float>(21 * 8000, 0.1f), 8000);
        const auto notANumber = belled(1000.0, 9.0);
        save("nan.wav", notANumber);
        putNan(folder() / "nan.wav", 50);
        auto huge = belled(1000.0, 9.0);
        huge[50] = 1e30f;
        save("huge.wav", huge);
        std::ofstream(folder() / "broken.wav") << "RIFF no more";
        for (const char* name :
             {"song.wav", "nothing.wav", "long.wav", "nan.wav", "huge.wav", "broken.wav", "missing.wav"}) {
            const auto other = readCard(folder(), name);
            QVERIFY2(!other.isImpulse() && !other.why.empty(), name);
        }
    }

    /// First everything is read and told in order; again only what has changed; the cache is as good as the files.
    void lookingTwice()
    {
        const fs::path shelf = folder() / "shelf", cache = folder() / "shelf.jsonl";
        for (int i = 0; i < 150; ++i)
            save(fs::path("shelf") / QString("%1/take %2.wav").arg(i % 3).arg(i).toStdString(),
                 belled(200.0 + 20.0 * (i / 2), 6.0, 20, 1200));
        std::vector<ImpulseCard> told;
        const auto keep = [&](const std::vector<ImpulseCard>& part) {
            told.insert(told.end(), part.begin(), part.end());
        };
        const auto first = lookThrough(shelf, {}, keep).value();
        QCOMPARE(first.size(), std::size_t(150));
        QVERIFY(told == first);
        QVERIFY(std::ranges::is_sorted(first, {}, &ImpulseCard::file));
        // Two by two alike.
        QCOMPARE(duplicatesIn(first).size(), std::size_t(75));
        QVERIFY(writeShelf(cache, first));
        auto kept = readShelf(cache);
        QVERIFY(kept == first);

        kept[3].energy90Ms = 1234.0; // to see that it is not read again
        save("shelf/1/take 1.wav", belled(5000.0, -9.0, 20, 1300));
        fs::remove(shelf / first[10].file);
        const auto again = lookThrough(shelf, kept, {}).value();
        QCOMPARE(again.size(), std::size_t(149));
        QCOMPARE(again[3].energy90Ms, 1234.0);
        const auto changed = std::ranges::find(again, "1/take 1.wav", &ImpulseCard::file);
        QVERIFY(changed != again.end() && changed->db != first[std::size_t(changed - again.begin())].db);

        std::stop_source stop;
        stop.request_stop();
        const auto stopped = lookThrough(shelf, {}, {}, {stop.get_token(), {}});
        QVERIFY(!stopped && stopped.error().code == ErrorCode::Cancelled);
        QVERIFY(!lookThrough(folder() / "nowhere", {}, {}));
    }

    /// A line that is no card costs that line.
    void brokenCache()
    {
        const fs::path cache = folder() / "cache.jsonl";
        ImpulseCard card;
        card.file = "a.wav", card.hash = "1", card.rateHz = 48000, card.channels = 1;
        QVERIFY(writeShelf(cache, {card}));
        std::ofstream(cache, std::ios::app) << "{\"file\": 3}\nnot json\n{}\n[]\n";
        QCOMPARE(readShelf(cache).size(), std::size_t(1));
        QVERIFY(readShelf(folder() / "none").empty());
    }

    void searching()
    {
        ImpulseCard card;
        card.file = "Open back/Ribbon 20 cm.wav";
        QVERIFY(matches(card, {}, "ribbon"));
        QVERIFY(matches(card, {}, "open RIBBON"));
        QVERIFY(matches(card, {"warm"}, "ribbon warm"));
        QVERIFY(!matches(card, {}, "ribbon warm"));
        QVERIFY(matches(card, {}, "  "));
    }

    /// The same samples, whatever stands before and after them; another rate or another sample is another.
    void sameContent()
    {
        save("dup/a.wav", belled(800.0, 5.0, 20));
        save("dup/b later.wav", belled(800.0, 5.0, 50, 4030));
        save("dup/c other.wav", belled(800.0, 5.1, 20));
        save("dup/d rate.wav", belled(800.0, 5.0, 20), 44100);
        const auto cards = lookThrough(folder() / "dup", {}, {}).value();
        QCOMPARE(duplicatesIn(cards), std::vector<std::size_t>{1});
    }

    /// One bell against another, in decibels and in words.
    void differences()
    {
        const auto zero = smoothedResponse(belled(1000.0, 0.0), kRate);
        const auto more = smoothedResponse(belled(250.0, 8.0), kRate);
        const auto curve = differenceOf(more, zero);
        // The bell by its formula, less the median from 80 Hz to 8 kHz.
        const auto c = bell(250.0, 8.0, 1.0, kRate);
        const auto truth = [&](double hz) {
            const auto z = std::polar(1.0, -2.0 * std::numbers::pi * hz / kRate);
            return 20.0 * std::log10(std::abs((c.b0 + z * (c.b1 + z * c.b2)) / (1.0 + z * (c.a1 + z * c.a2))));
        };
        std::vector<double> all;
        for (const auto& p : zero)
            if (p.hz >= 80.0 && p.hz <= 8000.0) all.push_back(truth(p.hz));
        std::ranges::sort(all);
        for (const double hz : {100.0, 250.0, 600.0, 6000.0}) {
            const double off = dbAt(curve, hz) - (truth(hz) - all[all.size() / 2]);
            QVERIFY2(std::abs(off) < 0.3, qPrintable(QString("%1 Hz: %2").arg(hz).arg(off))); // a twelfth beside it
        }
        const auto bands = bandsOf(curve);
        QVERIFY(!bands.empty());
        QVERIFY(bands[0].fromHz < 250.0 && bands[0].toHz > 250.0 && bands[0].db > 3.0);
        const auto words = QString::fromStdString(differenceWords(curve));
        QVERIFY2(words.contains("dB fuller at"), qPrintable(words));
        QCOMPARE(differenceWords(differenceOf(zero, zero)), std::string("alike within 1.5 dB"));

        auto dull = belled(1000.0, 0.0);
        for (int i = 0; i < 2; ++i) Biquad(lowPass(5000.0, 0.7, kRate)).process(dull);
        const auto less = QString::fromStdString(differenceWords(differenceOf(smoothedResponse(dull, kRate), zero)));
        QVERIFY2(less.contains("less above"), qPrintable(less));
        // Loudness alone is no difference.
        auto quiet = belled(250.0, 8.0);
        for (float& v : quiet) v *= 0.01f;
        for (const auto& p : differenceOf(smoothedResponse(quiet, kRate), more))
            if (p.hz > 60.0) QVERIFY(std::abs(p.db) < 0.01);
    }

    void editing()
    {
        const auto plain = recording({belled(400.0, 6.0, 2000, 9000)}, kRate);
        ImpulseEdit edit;
        const auto same = editImpulse(plain, edit).value();
        QVERIFY(std::ranges::equal(same.impulse.audio.channel(0), plain.audio.channel(0)));

        edit.trim = true;
        const auto trimmed = editImpulse(plain, edit).value();
        QCOMPARE(trimmed.impulse.audio.frames(), std::size_t(9000 - 2000 + 48));
        QCOMPARE(impulseInfo(trimmed.impulse)->arrivalSamples, 48.0);

        edit.lengthMs = 40.0;
        const auto shortened = editImpulse(plain, edit).value();
        QCOMPARE(shortened.impulse.audio.frames(), std::size_t(48 + 1920));
        QVERIFY(std::abs(shortened.impulse.audio.channel(0).back()) < 1e-9f);
        QCOMPARE(shortened.keptFromHz, 0.0);

        edit = {.highCutHz = 5000.0, .airDb = 0.0};
        const auto cut = smoothedResponse(editImpulse(plain, edit)->impulse.audio.channel(0), kRate);
        const auto before = smoothedResponse(plain.audio.channel(0), kRate);
        QVERIFY(std::abs(dbAt(cut, 5000.0) - dbAt(before, 5000.0) + 3.0) < 0.3);
        edit = {.lowCutHz = 100.0, .airDb = 4.0};
        const auto aired = smoothedResponse(editImpulse(plain, edit)->impulse.audio.channel(0), kRate);
        QVERIFY(std::abs(dbAt(aired, 100.0) - dbAt(before, 100.0) + 3.0) < 0.4);
        QVERIFY(std::abs(dbAt(aired, 18000.0) - dbAt(before, 18000.0) - 4.0) < 0.5);
    }

    /// What rings low is changed by shortening, and it is said from where on it is not.
    void shorteningTellsTheLowEnd()
    {
        std::vector<float> x(24000, 0.0f);
        x[10] = 0.5f;
        Biquad(bell(60.0, 18.0, 12.0, kRate)).process(x);
        const auto plain = recording({x}, kRate);
        const auto shortened = editImpulse(plain, {.lengthMs = 30.0}).value();
        QVERIFY2(shortened.keptFromHz > 60.0 && shortened.keptFromHz < 250.0,
                 qPrintable(QString::number(shortened.keptFromHz)));
        const auto before = smoothedResponse(plain.audio.channel(0), kRate),
                   after = smoothedResponse(shortened.impulse.audio.channel(0), kRate);
        for (const auto& p : after)
            if (p.hz > shortened.keptFromHz * 1.01 && p.hz < 2000.0)
                QVERIFY2(std::abs(p.db - dbAt(before, p.hz)) <= 1.01, qPrintable(QString::number(p.hz)));
    }

    /// Minimum phase keeps the magnitudes, and comes at once.
    void earliestForm()
    {
        const auto plain = recording({belled(700.0, -8.0, 900, 9000)}, kRate);
        const auto early = editImpulse(plain, {.minimumPhase = true}).value();
        const auto info = impulseInfo(early.impulse).value();
        QVERIFY(info.arrivalSamples < 2.0 && info.isMinimumPhase);
        const auto before = smoothedResponse(plain.audio.channel(0), kRate);
        for (const auto& p : info.response)
            if (p.hz > 40.0 && p.hz < 20000.0) QVERIFY(std::abs(p.db - dbAt(before, p.hz)) < 0.1);
    }

    /// Matched by loudness: pink noise is as loud after it as before, whatever its peak.
    void matchedByLoudness()
    {
        for (const double gain : {0.01, 3.0}) {
            auto x = belled(300.0, 10.0);
            for (float& v : x) v *= float(gain);
            const auto made = editImpulse(recording({x}, kRate), {.match = true}).value();
            QVERIFY(std::abs(matchedGainDb(made.impulse)) < 0.01);
            QVERIFY(std::abs(made.gainDb - matchedGainDb(recording({x}, kRate))) < 1e-9);
        }
    }

    /// Left and right by definition.
    void sidesOfABlend()
    {
        save("l.wav", belled(300.0, 3.0));
        save("r.wav", belled(3000.0, 3.0));
        const auto l = belled(300.0, 3.0), r = belled(3000.0, 3.0);
        const auto made = blendImpulses({{folder() / "l.wav", 0.0, 0.0, false, BlendSide::Left},
                                         {folder() / "r.wav", -6.0, 3.0, true, BlendSide::Right},
                                         {folder() / "l.wav", -12.0}},
                                        false)
                              .value();
        QCOMPARE(made.sum.audio.channels(), std::size_t(2));
        const double a = std::pow(10.0, -0.3), b = std::pow(10.0, -0.6);
        for (std::size_t i = 10; i < 3000; ++i) {
            QVERIFY(std::abs(made.sum.audio.channel(0)[i] - (1.0 + b) * l[i]) < 1e-6);
            QVERIFY(std::abs(made.sum.audio.channel(1)[i] - (-a * r[i - 3] + b * l[i])) < 1e-6);
        }
        // A stereo file stays one, and is edited on both sides.
        QVERIFY(writeRecording(folder() / "both.wav", made.sum));
        const auto again =
            editImpulse(blendImpulses({{folder() / "both.wav"}}, false)->sum, {.trim = true, .lengthMs = 20.0}).value();
        QCOMPARE(again.impulse.audio.channels(), std::size_t(2));
    }

    void badEdits()
    {
        const auto plain = recording({belled(400.0, 6.0)}, kRate);
        for (const ImpulseEdit& edit :
             {ImpulseEdit{.lengthMs = 1.0}, ImpulseEdit{.lowCutHz = 3.0}, ImpulseEdit{.highCutHz = 40000.0},
              ImpulseEdit{.airDb = 30.0}, ImpulseEdit{.lengthMs = std::nan("")}}) {
            const auto refused = editImpulse(plain, edit);
            QVERIFY(!refused && !refused.error().remedy.empty());
        }
        QVERIFY(!editImpulse(recording({std::vector<float>(500, 0.0f)}, kRate), {}));
        QVERIFY(!blendImpulses({}, false));
    }
};

QTEST_APPLESS_MAIN(TestImpulseShelf)
#include "test_impulse_shelf.moc"
