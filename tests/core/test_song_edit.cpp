// Songs, parts and layers made, renamed, moved, copied, removed: what is in hand follows, and undo finds it again.

#include "core/session/document_change.h"
#include "core/session/song_edit.h"

#include <QtTest/QtTest>

using namespace gristle::core;

class TestSongEdit : public QObject {
    Q_OBJECT
private slots:
    void aSongFromNothing();
    void theOtherSide();
    void namesAreOneAmongTheirLike();
    void orderIsAnyOrder();
    void copiesHoldAll();
    void whatIsInHandFollows();
    void whatIsNotThereIsTold();

private:
    static QString names(const SessionDocument& d)
    {
        QString out;
        for (const Song& s : d.songs) {
            out += QString::fromStdString(s.name) + "(";
            for (const Part& p : s.parts) {
                out += QString::fromStdString(p.name) + "[";
                for (const Layer& l : p.layers) out += QString::fromStdString(l.name) + ",";
                out += "]";
            }
            out += ")";
        }
        return out;
    }
    static SessionDocument threeParts()
    {
        SessionDocument d;
        d.songs.push_back({"Song", 138.0, "6/8", "drop D", {}});
        for (const char* part : {"A", "B", "C"}) {
            Part p;
            p.name = part;
            for (const char* layer : {"Left 1", "Right 1"}) {
                Layer l;
                l.name = layer, l.place = layer[0] == 'L' ? -80.0 : 80.0, l.rig = "rigs/one.v1.json";
                p.layers.push_back(l);
            }
            d.songs[0].parts.push_back(p);
        }
        return d;
    }
};

void TestSongEdit::aSongFromNothing()
{
    SessionDocument d;
    auto at = addStep(d, Step::Song, {});
    QVERIFY(at && *at == LayerPath());
    at = addStep(d, Step::Part, *at, "Riff");
    QVERIFY(bool(at));
    at = addStep(d, Step::Layer, *at, "Left 1");
    QVERIFY(bool(at));
    d.songs[0].parts[0].layers[0].place = -100.0;
    at = addStep(d, Step::Layer, *at);
    QVERIFY(at && *at == (LayerPath{0, 0, 1}));
    at = addStep(d, Step::Part, *at);
    QVERIFY(at && *at == (LayerPath{0, 1, 0}));
    QCOMPARE(names(d), QString("Song 1(Riff[Left 1,Right 1,]Part 1[])"));
    QCOMPARE(d.songs[0].parts[0].layers[1].place, 100.0);
}

void TestSongEdit::theOtherSide()
{
    SessionDocument d = threeParts();
    Layer& first = d.songs[0].parts[1].layers[0];
    first.guitar = "a red one", first.takes.resize(2);
    const auto at = addStep(d, Step::Layer, {0, 1, 0});
    QVERIFY(bool(at));
    const Layer& made = *findLayer(d, *at);
    QCOMPARE(QString::fromStdString(made.name), QString("Right 2")); // there is a Right 1
    QCOMPARE(made.place, 80.0);
    QCOMPARE(made.rig, std::string("rigs/one.v1.json"));
    QCOMPARE(made.guitar, std::string("a red one"));
    QVERIFY(made.takes.empty());
    const auto song = addStep(d, Step::Song, {0, 0, 0});
    QCOMPARE(d.songs[song->song].tempoBpm, 138.0);
    QCOMPARE(d.songs[song->song].tuning, std::string("drop D"));
}

void TestSongEdit::namesAreOneAmongTheirLike()
{
    SessionDocument d = threeParts();
    const SessionDocument before = d;
    for (const char* bad : {"", "   ", "B"}) {
        const auto renamed = renameStep(d, Step::Part, {0, 0, 0}, bad);
        QVERIFY(!renamed && renamed.error().code == ErrorCode::Usage);
        QVERIFY(!renamed.error().remedy.empty());
        QVERIFY(d == before);
    }
    QVERIFY(!addStep(d, Step::Part, {0, 0, 0}, "C"));
    QVERIFY(d == before);
    QVERIFY(bool(renameStep(d, Step::Part, {0, 0, 0}, "A"))); // as it is called already
    QVERIFY(bool(renameStep(d, Step::Part, {0, 0, 0}, "\u0420\u0438\u0444\u0444 \u2116 1")));
    QVERIFY(changeOf(before, d).names);
}

void TestSongEdit::orderIsAnyOrder()
{
    for (std::size_t from = 0; from < 3; ++from)
        for (const std::size_t to : {0, 1, 2, 99}) {
            SessionDocument d = threeParts();
            std::vector<std::string> expected{"A", "B", "C"};
            const std::string moved = expected[from];
            expected.erase(expected.begin() + long(from));
            expected.insert(expected.begin() + long(std::min<std::size_t>(to, 2)), moved);
            const auto at = moveStep(d, Step::Part, {0, from, 1}, to);
            QVERIFY(at && at->layer == 1);
            std::vector<std::string> found;
            for (const Part& p : d.songs[0].parts) found.push_back(p.name);
            QVERIFY(found == expected);
            QCOMPARE(d.songs[0].parts[at->part].name, moved);
        }
}

void TestSongEdit::copiesHoldAll()
{
    SessionDocument d = threeParts();
    d.songs[0].parts[0].layers[0].takes.resize(3);
    auto at = copyStep(d, Step::Part, {0, 0, 1});
    QVERIFY(at && *at == (LayerPath{0, 1, 1}));
    QCOMPARE(d.songs[0].parts[1].name, std::string("A 2"));
    QVERIFY(d.songs[0].parts[1].layers == d.songs[0].parts[0].layers);
    at = copyStep(d, Step::Part, *at);
    QCOMPARE(d.songs[0].parts[at->part].name, std::string("A 3"));
    at = copyStep(d, Step::Layer, {0, 0, 0});
    QCOMPARE(findLayer(d, *at)->name, std::string("Left 2"));
    QCOMPARE(findLayer(d, *at)->takes.size(), std::size_t(3));
}

void TestSongEdit::whatIsInHandFollows()
{
    const SessionDocument d = threeParts();
    const LayerPath hand{0, 2, 1};
    SessionDocument moved = d;
    QVERIFY(bool(moveStep(moved, Step::Part, {0, 2, 0}, 0)));
    QCOMPARE(pathAfter(d, moved, hand), (LayerPath{0, 0, 1}));
    QCOMPARE(pathAfter(moved, d, {0, 0, 1}), hand); // undone
    SessionDocument without = d;
    const auto at = removeStep(without, Step::Part, hand);
    QVERIFY(at && *at == (LayerPath{0, 1, 0}));
    QCOMPARE(pathAfter(d, without, hand).part, std::size_t(1));
    QCOMPARE(pathAfter(d, without, {0, 1, 1}), (LayerPath{0, 1, 1})); // another one stays where it is
    SessionDocument renamed = d;
    QVERIFY(bool(renameStep(renamed, Step::Part, hand, "Lead")));
    QCOMPARE(pathAfter(d, renamed, hand), hand);
    SessionDocument empty = d;
    QVERIFY(bool(removeStep(empty, Step::Song, {0, 0, 0})));
    QCOMPARE(pathAfter(d, empty, hand), LayerPath());
    QCOMPARE(pathAfter(empty, d, {}), LayerPath());
}

void TestSongEdit::whatIsNotThereIsTold()
{
    SessionDocument d = threeParts();
    const SessionDocument before = d;
    QVERIFY(!removeStep(d, Step::Song, {1, 0, 0}));
    QVERIFY(!renameStep(d, Step::Layer, {0, 0, 2}, "x"));
    QVERIFY(!copyStep(d, Step::Part, {0, 3, 0}));
    QVERIFY(!moveStep(d, Step::Layer, {0, 9, 0}, 0));
    QVERIFY(!addStep(d, Step::Part, {7, 0, 0}));
    QVERIFY(d == before);
    QCOMPARE(*findStep(d, Step::Layer, "", "B", "Right 1"), (LayerPath{0, 1, 1}));
    const auto none = findStep(d, Step::Layer, "Song", "B", "Middle");
    QVERIFY(!none && none.error().message.find("Middle") != std::string::npos);
    QVERIFY(!findStep(SessionDocument(), Step::Part, "", "A", ""));
}

QTEST_GUILESS_MAIN(TestSongEdit)
#include "test_song_edit.moc"
