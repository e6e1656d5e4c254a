// A song is made in the window: from the header's path, from Take, from Double; undo and the log follow.

#include "app/benches/blend/blend_bench.h"
#include "app/theme/theme.h"
#include "support/demo_copy.h"
#include "support/window_bench.h"

#include <QAction>
#include <QApplication>
#include <QPushButton>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

namespace {

struct SongBench : WindowBench {
    QStringList names; ///< answers for who asks for one
    SongBench()
    {
        window.dialogs().name = [this](const QString&, const QString& suggested) -> std::optional<QString> {
            return names.isEmpty() ? std::nullopt : std::optional(names.takeFirst().replace("%", suggested));
        };
    }
    bool act(const char* name)
    {
        for (auto* action : window.findChildren<QAction*>(name))
            if (action->isEnabled()) {
                action->trigger();
                settle();
                return true;
            }
        return false;
    }
    QString shape()
    {
        QString out;
        for (const Song& s : window.session().document().songs) {
            out += QString::fromStdString(s.name) + "(";
            for (const Part& p : s.parts) {
                QStringList layers;
                for (const Layer& l : p.layers) layers << QString::fromStdString(l.name);
                out += QString::fromStdString(p.name) + "[" + layers.join(",") + "]";
            }
            out += ")";
        }
        return out;
    }
    QString step(const char* name) { return find<QPushButton>(name)->text(); }
};

} // namespace

class TestSong : public QObject {
    Q_OBJECT
private slots:
    void initTestCase()
    {
        Theme::instance().install(*qApp);
        QVERIFY(test::copyDemo(path("demo.gristle").toStdString()));
    }
    void fromNothing();
    void everyStepIsUndone();
    void theOtherSideFromTake();
    void theOtherSideFromDouble();
    void layersThatFightAreToldAndMended();
    void twoThatAreLateAreBothMended();
    void noBenchFallsOverWhatIsNotThere();

private:
    QString path(const QString& name) const { return dir_.filePath(name); }
    QTemporaryDir dir_;
};

void TestSong::fromNothing()
{
    SongBench b;
    QVERIFY(b.window.session().create(path("made.gristle"), "made"));
    b.settle();
    QCOMPARE(b.shape(), QString("Song 1()"));
    b.names = {"Cold Harbour"};
    QVERIFY(b.act("rename.song"));
    QVERIFY(b.act("add.part"));
    b.names = {"Verse"};
    QVERIFY(b.act("rename.part"));
    QVERIFY(b.act("add.layer"));
    QVERIFY(b.act("add.layer"));
    QVERIFY(b.act("add.part"));
    QCOMPARE(b.shape(), QString("Cold Harbour(Verse[Layer 1,Layer 2]Part 1[])"));
    QCOMPARE(b.step("step.part"), QString("Part 1"));
    QCOMPARE(b.step("step.layer"), QString("no layer yet"));
    QVERIFY(b.act("earlier.part"));
    QCOMPARE(b.step("step.part"), QString("Part 1")); // it is still in hand
    QVERIFY(!b.act("earlier.part"));
    QVERIFY(b.act("later.part"));
    b.names = {"Verse"}; // there is one of that name
    QVERIFY(b.act("rename.part"));
    QVERIFY2(b.window.notice().contains("already"), qPrintable(b.window.notice()));
    b.names = {}; // thought better of it
    QVERIFY(b.act("rename.part"));
    QCOMPARE(b.shape(), QString("Cold Harbour(Verse[Layer 1,Layer 2]Part 1[])"));
    QVERIFY(b.act("add.song"));
    QCOMPARE(b.step("step.part"), QString("no part yet"));
    QVERIFY(b.act("remove.song"));
    QVERIFY(b.act("remove.song"));
    QCOMPARE(b.shape(), QString());
    QCOMPARE(b.step("step.song"), QString("no song yet"));
    QVERIFY(b.act("add.song"));
    QCOMPARE(b.shape(), QString("Song 1()"));
}

void TestSong::everyStepIsUndone()
{
    SongBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    SessionModel& session = b.window.session();
    const SessionDocument before = session.document();
    session.setPath({0, 1, 0});
    const LayerPath at = session.path();
    for (const char* verb : {"add", "copy", "remove", "later", "earlier", "rename"})
        for (const char* step : {"song", "part", "layer"}) {
            b.names = {"% by another name"};
            if (!b.act(qPrintable(QString("%1.%2").arg(verb, step)))) continue; // nowhere to move
            QVERIFY2(!(session.document() == before), verb);
            session.undoStack().undo();
            b.settle();
            QVERIFY2(session.document() == before, verb);
            QVERIFY(session.layer());
            session.undoStack().redo();
            QVERIFY(!(session.document() == before));
            session.undoStack().undo();
            session.setPath(at);
        }
    // No file went.
    QVERIFY(session.folder().check(true).empty());
}

void TestSong::theOtherSideFromTake()
{
    SongBench b;
    b.window.openPaths({path("demo.gristle")});
    b.window.showBench("Take");
    b.settle();
    SessionModel& session = b.window.session();
    const Layer was = *session.layer();
    const std::size_t count = session.part()->layers.size();
    b.find<QPushButton>("otherSide")->click();
    b.settle();
    QCOMPARE(session.part()->layers.size(), count + 1);
    QCOMPARE(session.layer()->place, -was.place);
    QCOMPARE(session.layer()->rig, was.rig);
    QVERIFY(session.layer()->takes.empty());
    session.undoStack().undo();
    b.settle();
    QCOMPARE(session.part()->layers.size(), count);
}

void TestSong::theOtherSideFromDouble()
{
    SongBench b;
    b.window.openPaths({path("demo.gristle")});
    SessionModel& session = b.window.session();
    b.settle();
    for (const LayerPath& p : allLayers(session.document())) // a part with one side
        if (session.document().songs[p.song].parts[p.part].layers.size() == 1) session.setPath(p);
    QCOMPARE(session.part()->layers.size(), std::size_t(1));
    b.window.showBench("Double");
    b.settle();
    auto* button = b.find<QPushButton>("playAgain");
    QCOMPARE(button->text(), QString("Play the other side"));
    button->click();
    b.settle();
    QCOMPARE(session.part()->layers.size(), std::size_t(2));
    QCOMPARE(session.path().layer, std::size_t(1));
    QCOMPARE(b.window.benchName(), QString("Take"));
}

/// One performance once more, without its rig and inverted: Blend tells, and one click mends it.
void TestSong::layersThatFightAreToldAndMended()
{
    SongBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    SessionModel& session = b.window.session();
    QVERIFY(session.edit("another amplifier", "song", [&](SessionDocument& d) {
        const auto copied = copyStep(d, Step::Layer, {0, 0, 0});
        Layer& layer = *findLayer(d, *copied);
        layer.rig.clear(), layer.isInverted = true;
        for (Layer& l : d.songs[0].parts[0].layers) l.place = 0.0;
    }));
    session.setPath({0, 0, 0});
    b.window.showBench("Blend");
    b.settle();
    const auto* bench = b.window.bench<BlendBench>();
    const auto fights = [&] {
        const auto found = bench->findings().found;
        return std::ranges::find(found, "sum.inverted", &Finding::code) != found.end();
    };
    QVERIFY(fights());
    Remedies remedies = b.window.bench<BlendBench>()->remedies();
    QVERIFY(remedies.contains("sum.inverted"));
    remedies["sum.inverted"].apply();
    b.settle();
    QVERIFY(!fights());
    session.undoStack().undo();
    b.settle();
    QVERIFY(fights());
}

/// A remedy stands beside each finding of its code: two layers that are late are both mended by it, to where they lie.
void TestSong::twoThatAreLateAreBothMended()
{
    SongBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    SessionModel& session = b.window.session();
    for (const LayerPath& p : allLayers(session.document()))
        if (findLayer(session.document(), p)->name == "Room") session.setPath({p.song, p.part, 0});
    QCOMPARE(session.part()->layers.size(), std::size_t(3));
    b.window.showBench("Blend");
    b.settle();
    const auto late = [&] {
        const auto found = b.window.bench<BlendBench>()->findings().found;
        return std::ranges::count(found, "sum.late", &Finding::code);
    };
    QCOMPARE(late(), 2);
    b.window.bench<BlendBench>()->remedies()["sum.late"].apply();
    b.settle();
    QCOMPARE(late(), 0);
    // As the demo was made: the second microphone 20.9 cm behind the first, the room 3.07 m.
    const auto& layers = session.part()->layers;
    QVERIFY2(std::abs(layers[1].earlierMs - 0.61) < 0.02, qPrintable(QString::number(layers[1].earlierMs)));
    QVERIFY2(std::abs(layers[2].earlierMs - 8.95) < 0.05, qPrintable(QString::number(layers[2].earlierMs)));
    session.undoStack().undo();
    b.settle();
    QCOMPARE(late(), 2);
}

/// Every bench beside a session without songs, parts, layers and takes, while they come and go.
void TestSong::noBenchFallsOverWhatIsNotThere()
{
    SongBench b;
    QVERIFY(b.window.session().create(path("empty.gristle"), "empty"));
    for (const char* bench : {"Level", "Rig", "Cab", "Take", "Double", "Blend", "Log"}) {
        b.window.showBench(bench);
        for (const char* verb : {"remove.song", "add.song", "add.part", "add.layer", "remove.layer", "add.layer",
                                 "remove.part", "add.part"}) {
            b.act(verb);
            b.window.audition().setPlaying(true);
            QCoreApplication::processEvents();
        }
        while (b.window.session().undoStack().canUndo()) {
            b.window.session().undoStack().undo();
            QCoreApplication::processEvents();
        }
        b.settle();
        QCOMPARE(b.shape(), QString("Song 1()"));
    }
    b.window.session().close();
    b.settle();
}

QTEST_MAIN(TestSong)
#include "test_song.moc"
