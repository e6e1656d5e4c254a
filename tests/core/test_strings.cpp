// Tunings by name, and which string a note was played on, against simulated strings whose stiffness is known.

#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "core/timing/strings.h"

#include <QtTest/QtTest>
#include <random>

using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0, kTempo = 104.0;

struct Score {
    int pitched = 0, told = 0, right = 0;
};

/// What is told of a part on a guitar with such strings.
Score scoreOf(const std::vector<WrittenNote>& part, const std::array<StringMake, 6>& strings, unsigned seed)
{
    PlayingStyle style;
    style.seed = seed, style.strings = strings, style.leadInS = 0.0;
    const auto played = perform(part, kTempo, standardTuning(), style, kRate);
    TakeMeasureOptions options;
    options.openHz = openStrings("E standard");
    const auto take = measureTake(played.volts, kRate, BarGrid(kTempo, "4/4"), options);
    Score out;
    if (!take) return out;
    for (const PlayedNote& n : take->notes) {
        const auto near = std::ranges::min_element(played.onsetS, {}, [&](double t) { return std::abs(t - n.timeS); });
        const auto& frets = part[std::size_t(near - played.onsetS.begin())].frets;
        if (n.hz <= 0.0 || frets.size() != 1) continue;
        ++out.pitched, out.told += n.string.has_value(), out.right += n.string == frets[0].first;
    }
    return out;
}

/// Another set: heavier or lighter in the core, at the tension that goes with it.
std::array<StringMake, 6> strings(double scale, bool isThirdWound)
{
    auto out = lightStrings();
    for (StringMake& s : out) s.coreMm *= scale, s.tensionN *= scale * scale;
    if (isThirdWound) out[3].wound = true, out[3].coreMm = 0.36 * scale;
    return out;
}

/// A note that sounds with the stiffness that its string has at that fret.
PlayedNote noteOn(int string, int fret, const std::array<StringMake, 6>& set)
{
    PlayedNote out;
    out.hz = (*openStrings("E standard"))[std::size_t(string)] * std::exp2(fret / 12.0);
    out.stiffness = inharmonicityOf(set[std::size_t(string)], 0.648 * std::exp2(-fret / 12.0));
    out.stiffnessDoubt = 0.02 * out.stiffness;
    return out;
}

} // namespace

class TestStrings : public QObject {
    Q_OBJECT
private slots:
    void tuningsByName_data()
    {
        QTest::addColumn<QString>("name");
        QTest::addColumn<QList<int>>("midi"); // empty: not known
        QTest::newRow("usual") << "E standard" << QList<int>{40, 45, 50, 55, 59, 64};
        QTest::newRow("half a step down") << "Eb standard" << QList<int>{39, 44, 49, 54, 58, 63};
        QTest::newRow("down to B") << "b Standard" << QList<int>{35, 40, 45, 50, 54, 59};
        QTest::newRow("up") << "F# standard" << QList<int>{42, 47, 52, 57, 61, 66};
        QTest::newRow("the lowest dropped") << "drop D" << QList<int>{38, 45, 50, 55, 59, 64};
        QTest::newRow("all down, the lowest more") << "Drop C#" << QList<int>{37, 44, 49, 54, 58, 63};
        QTest::newRow("an open chord") << "D G D G B D" << QList<int>{38, 43, 50, 55, 59, 62};
        QTest::newRow("six notes") << "D A D G A D" << QList<int>{38, 45, 50, 55, 57, 62};
        for (const char* name : {"", "my own", "H standard", "drop", "E A D G B", "E A D G B x", "E## standard"})
            QTest::addRow("none: %s", name) << QString(name) << QList<int>{};
    }
    void tuningsByName()
    {
        QFETCH(QString, name);
        QFETCH(QList<int>, midi);
        const auto open = openStrings(name.toStdString(), 442.0);
        QCOMPARE(open.has_value(), !midi.isEmpty());
        for (int s = 0; s < midi.size(); ++s)
            QVERIFY(std::abs((*open)[std::size_t(s)] / (442.0 * std::exp2((midi[s] - 69) / 12.0)) - 1.0) < 1e-9);
    }

    void namesOfStrings()
    {
        QCOMPARE(stringNames(*openStrings("E standard")),
                 (std::array<std::string, 6>{"low E", "A", "D", "G", "B", "high E"}));
        for (const double reference : {400.0, 432.0, 480.0})
            QCOMPARE(stringNames(*openStrings("drop D", reference), reference)[0], std::string("low D"));
    }

    /// By their laws: a scale over two strings is told, one whose string could be another is not.
    void byPitchAndByStiffness()
    {
        const auto set = lightStrings();
        const auto open = *openStrings("E standard");
        std::vector<PlayedNote> notes;
        for (int fret = 0; fret < 5; ++fret) notes.push_back(noteOn(0, fret, set));  // no other string is so low
        for (int fret = 5; fret < 12; ++fret) notes.push_back(noteOn(0, fret, set)); // the A string has these, too
        for (int fret = 0; fret < 7; ++fret) notes.push_back(noteOn(1, fret, set));
        tellStrings(notes, open);
        for (std::size_t i = 0; i < notes.size(); ++i) QCOMPARE(notes[i].string, std::optional(i < 12 ? 0 : 1));
        // Chords and what is too short have no pitch, and no string; a note above all frets has none either.
        std::vector<PlayedNote> none(1);
        none.push_back(noteOn(5, 27, set));
        tellStrings(none, open);
        QVERIFY(!none[0].string && !none[1].string);
        // With a capo at the third fret nothing is lower; the A string's second fret is the low one's seventh then.
        std::vector<PlayedNote> high;
        for (int k = 0; k < 4; ++k) high.push_back(noteOn(0, 7, set));
        tellStrings(high, open, 3);
        for (const PlayedNote& n : high) QCOMPARE(n.string, std::optional(0));
        // On the high frets of the D string alone it could be the G string: unwound ones differ that much.
        std::vector<PlayedNote> either;
        for (int fret = 7; fret < 14; ++fret) either.push_back(noteOn(2, fret, set));
        tellStrings(either, open);
        for (const PlayedNote& n : either) QVERIFY(!n.string);
    }

    void simulatedGuitars_data()
    {
        QTest::addColumn<double>("scale");
        QTest::addColumn<bool>("isThirdWound");
        QTest::newRow("light") << 1.0 << false;
        QTest::newRow("heavier, third wound") << 1.08 << true;
        QTest::newRow("lighter") << 0.95 << false;
    }
    void simulatedGuitars()
    {
        QFETCH(double, scale);
        QFETCH(bool, isThirdWound);
        const auto set = strings(scale, isThirdWound);
        std::mt19937 random(3);
        std::vector<WrittenNote> anywhere;
        for (int i = 0; i < 100; ++i)
            anywhere.push_back({double(i), 0.9, {{int(random() % 6), int(random() % 10)}}, 0.8, false});
        Score all;
        unsigned seed = 10;
        for (const auto& part : {anywhere, rhythmRiff(12), leadLine(16), brokenChords(12, 4.0)}) {
            const Score s = scoreOf(part, set, ++seed);
            all.pitched += s.pitched, all.told += s.told, all.right += s.right;
        }
        qInfo("%d notes with a pitch, %d told, %d right", all.pitched, all.told, all.right);
        QVERIFY(all.told > 0.6 * all.pitched);
        QVERIFY2(all.right >= 0.98 * all.told, qPrintable(QString("%1 of %2").arg(all.right).arg(all.told)));
    }
};

QTEST_APPLESS_MAIN(TestStrings)
#include "test_strings.moc"
