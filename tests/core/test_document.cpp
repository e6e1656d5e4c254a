// What an edit moved, and where a take goes: rules that window, command line and recorder share.

#include "core/session/document_change.h"
#include "core/session/recorded_take.h"
#include "core/session/take_place.h"

#include <QtTest/QtTest>
#include <functional>

using namespace gristle::core;

namespace {

Take takeNamed(const std::string& file)
{
    Take t;
    t.file = file;
    t.sampleRateHz = 44100;
    t.frames = 44100;
    return t;
}

SessionDocument example()
{
    SessionDocument d;
    addTake(d, {"Song", "Riff", "Left", "guitar", "bridge", -100.0}, takeNamed("audio/a.wav"), "rigs/first.json");
    addTake(d, {"Song", "Riff", "Right", "guitar", "bridge", 100.0}, takeNamed("audio/b.wav"));
    return d;
}

} // namespace

class TestDocument : public QObject {
    Q_OBJECT
private slots:
    void aChangeIsNamed_data();
    void aChangeIsNamed();
    void nothingIsNoChange();
    void newLayersGetTheirNeighboursRig();
    void aLayerOfThatNameGetsAnotherTake();
    void aPunchDoesNotCount();
    void theFirstSongIsNamed();
    void aRecordedTakeLeavesPlaceAndRig();
};

void TestDocument::aChangeIsNamed_data()
{
    using Edit = std::function<void(SessionDocument&)>;
    QTest::addColumn<Edit>("edit");
    QTest::addColumn<QString>("named");
    const auto row = [](const char* name, const char* named, const Edit& edit) {
        QTest::newRow(name) << edit << QString(named);
    };
    const auto layer = [](SessionDocument& d) -> Layer& { return d.songs[0].parts[0].layers[1]; };
    row("place", "placing", [=](SessionDocument& d) { layer(d).place = 3.0; });
    row("gain", "placing", [=](SessionDocument& d) { layer(d).gainDb = 3.0; });
    row("law", "placing", [](SessionDocument& d) { d.law = PanLaw::Minus6; });
    row("rig", "rigs", [=](SessionDocument& d) { layer(d).rig.clear(); });
    row("chosen", "takes", [=](SessionDocument& d) { layer(d).chosen = 1; });
    row("moved", "takes", [=](SessionDocument& d) { layer(d).earlierMs = 1.0; });
    row("polarity", "takes", [=](SessionDocument& d) { layer(d).isInverted = true; });
    row("pieces", "takes", [=](SessionDocument& d) { layer(d).pieces.resize(1); });
    row("scale", "takes", [](SessionDocument& d) { d.interface.dbuAtFullScale = 1.0; });
    row("tempo", "bars", [](SessionDocument& d) { d.songs[0].tempoBpm = 99.0; });
    row("tuning", "bars", [](SessionDocument& d) { d.songs[0].tuning = "D standard"; });
    row("song", "names", [](SessionDocument& d) { d.songs[0].name = "Other"; });
    row("layer", "names", [=](SessionDocument& d) { layer(d).name = "Other"; });
    row("order", "names",
        [](SessionDocument& d) { std::swap(d.songs[0].parts[0].layers[0], d.songs[0].parts[0].layers[1]); });
    row("removed", "names", [](SessionDocument& d) { d.songs[0].parts.clear(); });
    row("guitar", "rest", [=](SessionDocument& d) { layer(d).guitar = "other"; });
    row("capo", "rest", [](SessionDocument& d) { d.songs[0].parts[0].playing.capo = 2; });
    row("set-ups", "rest", [](SessionDocument& d) { d.loadings.emplace_back("cable=3"); });
    row("reference", "rest", [](SessionDocument& d) { d.referenceDbfs = -20.0; });
}

void TestDocument::aChangeIsNamed()
{
    QFETCH(std::function<void(SessionDocument&)>, edit);
    QFETCH(QString, named);
    SessionDocument before = example(), after = before;
    edit(after);
    QVERIFY(!(before == after));
    for (const bool back : {false, true}) {
        const DocumentChange c = back ? changeOf(after, before) : changeOf(before, after);
        QStringList told;
        if (c.names) told << "names"; // layers that come or go are all that hangs on them
        if (c.bars) told << "bars";
        if (c.takes && !c.names) told << "takes";
        if (c.placing && !c.names) told << "placing";
        if (c.rigs && !c.names) told << "rigs";
        if (c.rest) told << "rest";
        QCOMPARE(told.join(' '), named);
        if (c.names) QVERIFY(c.takes && c.placing && c.rigs);
    }
}

void TestDocument::nothingIsNoChange() { QVERIFY(changeOf(example(), example()) == DocumentChange{}); }

void TestDocument::newLayersGetTheirNeighboursRig()
{
    SessionDocument d = example();
    const auto& layers = d.songs[0].parts[0].layers;
    QCOMPARE(layers[0].rig, std::string("rigs/first.json"));
    QCOMPARE(layers[1].rig, std::string("rigs/first.json"));
    QCOMPARE(layers[1].place, 100.0);
    d.songs[0].parts[0].layers[1].rig = "rigs/second.json";
    const LayerPath at = addTake(d, {"Song", "Riff", "Third"}, takeNamed("audio/c.wav"), "rigs/first.json");
    QCOMPARE(findLayer(d, at)->rig, std::string("rigs/second.json"));
    const LayerPath solo = addTake(d, {"Song", "Solo", "Lead"}, takeNamed("audio/d.wav"));
    QVERIFY(findLayer(d, solo)->rig.empty()); // it has no neighbour
    QCOMPARE(d.sampleRateHz, 44100);
}

void TestDocument::aLayerOfThatNameGetsAnotherTake()
{
    SessionDocument d = example();
    Layer& left = d.songs[0].parts[0].layers[0];
    left.rig.clear(); // set dry on purpose
    left.pieces.resize(2);
    const LayerPath at =
        addTake(d, {"Song", "Riff", "Left", "", "neck", 40.0}, takeNamed("audio/c.wav"), "rigs/x.json");
    QCOMPARE(at, (LayerPath{0, 0, 0}));
    QCOMPARE(left.takes.size(), std::size_t(2));
    QCOMPARE(left.chosen, std::size_t(1));
    QVERIFY(left.pieces.empty() && left.rig.empty());
    QCOMPARE(left.place, -100.0);
    QCOMPARE(left.guitar, std::string("guitar"));
    QCOMPARE(left.pickup, std::string("neck"));
}

void TestDocument::aPunchDoesNotCount()
{
    SessionDocument d = example();
    Take punch = takeNamed("audio/p.wav");
    punch.spanFromS = 1.0, punch.spanToS = 2.0;
    addTake(d, {"Song", "Riff", "Left"}, punch);
    QCOMPARE(d.songs[0].parts[0].layers[0].chosen, std::size_t(0));
    addTake(d, {"Song", "Riff", "Alone"}, punch);
    QCOMPARE(d.songs[0].parts[0].layers[2].takes.size(), std::size_t(1));
}

void TestDocument::theFirstSongIsNamed()
{
    SessionDocument d;
    d.songs.push_back({"Song 1", 97.0, "4/4", "E standard", {}});
    addTake(d, {"Ferry", "Riff", "Left"}, takeNamed("audio/a.wav"));
    QCOMPARE(d.songs.size(), std::size_t(1));
    QCOMPARE(d.songs[0].name, std::string("Ferry"));
    addTake(d, {"Other", "Riff", "Left"}, takeNamed("audio/b.wav"));
    QCOMPARE(d.songs.size(), std::size_t(2));
    QCOMPARE(d.songs[1].tempoBpm, 97.0); // as the last one
}

void TestDocument::aRecordedTakeLeavesPlaceAndRig()
{
    SessionDocument d = example();
    Layer prepared;
    prepared.name = "Prepared", prepared.place = 55.0;
    d.songs[0].parts[0].layers.push_back(prepared);
    const RecordedTake recorded{{"Song", "Riff", "Prepared", 0}, takeNamed("audio/r.wav")};
    addTakes(d, {recorded});
    addTakes(d, {recorded}); // the same file again is nothing new
    const Layer& layer = d.songs[0].parts[0].layers[2];
    QCOMPARE(layer.takes.size(), std::size_t(1));
    QCOMPARE(layer.place, 55.0);
    QVERIFY(layer.rig.empty());
}

QTEST_APPLESS_MAIN(TestDocument)
#include "test_document.moc"
