#include "app/benches/rig/ladder.h"
#include "app/benches/rig/rig_bench.h"
#include "app/benches/rig/stage_panel.h"
#include "support/demo_copy.h"
#include "support/rig_window.h"
#include "support/signals.h"

#include <QApplication>
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;

/// The Rig bench in a real window: look, split, carry levels over, versions, what is not there. The ladder has a file
/// of its own.
class TestRigBench : public QObject {
    Q_OBJECT

private slots:
    void initTestCase();
    void travelComesInAndIsTrue();
    void everyViewOfAStage();
    void aTunerShowsNotes();
    void placesAreHeardBesideEachOther();
    void whatDoesNothingCannotBeMoved();
    void aCleanLaneIsAsLoud();
    void lanesAreOpenedAndDropped();
    void levelsTravel();
    void pickupTravels();
    void versionsAreHeldAgainstEachOther();
    void aMissingImpulseIsFoundByItsContent();
    void runawayIsToldAndHeld();
    void unknownStagesAreKept();
    void outOfRangeIsRefused();

private:
    QString demo() const { return dir_.filePath("demo.gristle"); }
    QTemporaryDir dir_;
};

/// How much of a picture is drawn in ink, under its caption.
static int darkOf(QWidget* widget)
{
    const QImage shown = widget->grab().toImage();
    int dark = 0;
    for (int y = 24; y < shown.height(); ++y)
        for (int x = 0; x < shown.width(); ++x) dark += qGray(shown.pixel(x, y)) < 90;
    return dark;
}

void TestRigBench::initTestCase() { QVERIFY(test::copyDemo(demo().toStdString())); }

void TestRigBench::travelComesInAndIsTrue()
{
    test::RigWindow b(demo());
    b.type("hardclip drive=2 | gain db=0");
    auto* travel = b.find<TravelRuler>("travel");
    QVERIFY2(!travel->words().isEmpty() && !travel->words().contains("places heard"), qPrintable(travel->words()));
    // A gain has no colour. Its loudness moves decibel for decibel, but where it is under the gate of BS.1770.
    b.window.bench<RigBench>()->chooseStage(1);
    b.settle();
    QVERIFY2(travel->words().startsWith(QString("no change of loudness from \u221260 to \u22124")),
             qPrintable(travel->words()));
    // Without a control with a number there is nothing to hear.
    b.type("impulse file=\"nothing.wav\"");
    QVERIFY(travel->words().isEmpty());
}

void TestRigBench::everyViewOfAStage()
{
    test::RigWindow b(demo());
    b.type("hardclip drive=8 | delay time=1/4 tempo=104 mix=0.4");
    auto* plot = b.find<StagePlot>("stagePlot");
    for (const char* view : {"viewTransfer", "viewResponse", "viewGain", "viewEchoes", "viewSpectrum"}) {
        b.click(view);
        b.settle();
        QVERIFY(plot->isVisible());
        QVERIFY2(plot->accessibleDescription().contains("third harmonic") ||
                     plot->accessibleDescription().contains("third"),
                 view);
        QVERIFY2(darkOf(plot) > 100, view); // something is drawn
    }
    b.click("bypassStage");
    b.settle();
    QVERIFY(plot->accessibleDescription().isEmpty()); // nothing is said of a stage that does nothing
    b.click("viewTravel");
    b.settle();
}

void TestRigBench::aTunerShowsNotes()
{
    test::RigWindow b(demo());
    const auto* travel = b.find<QPushButton>("viewTravel");
    const auto* notes = b.find<QPushButton>("viewNotes");
    b.type("gain db=0");
    QVERIFY(travel->isVisible() && !notes->isVisible());
    b.action("addStage", "Tuner")->trigger();
    b.settle();
    QCOMPARE(b.types(), QStringList({"gain", "tuner"}));
    QVERIFY(notes->isVisible() && notes->isChecked() && !travel->isVisible());
    auto* plot = b.find<StagePlot>("stagePlot");
    QVERIFY(plot->isVisible());
    const QImage before = plot->grab().toImage();
    b.find<QLineEdit>("control.reference")->setText("452");
    emit b.find<QLineEdit>("control.reference")->editingFinished();
    b.settle();
    QVERIFY(plot->grab().toImage() != before); // the same notes, off by others
    b.click("viewSpectrum");
    b.settle();
    QVERIFY(darkOf(plot) > 100);
    emit b.find<Ladder>("ladder")->choose(0); // other stages have their own views back
    b.settle();
    QVERIFY(travel->isVisible() && travel->isChecked() && !notes->isVisible());
}

void TestRigBench::placesAreHeardBesideEachOther()
{
    test::RigWindow b(demo());
    b.type("hardclip drive=5 tone=5000");
    b.find<QLineEdit>("control.drive")->setFocus();
    b.settle();
    auto& audition = b.window.audition();
    const std::size_t before = audition.current().slots_.size();
    auto* places = b.find<QPushButton>("hearPlaces");
    QVERIFY(places->isEnabled());
    places->click();
    b.settle();
    QCOMPARE(audition.current().slots_.size(), before + 3);
    std::vector<double> values;
    for (const SlotRequest& slot : audition.current().slots_)
        if (slot.title.startsWith("drive ")) values.push_back(slot.title.section(' ', 1).toDouble());
    QCOMPARE(values.size(), std::size_t(3));
    QVERIFY(values[0] < values[1] && values[1] < values[2]);
    QVERIFY(values[0] >= 0.0 && values[2] <= 10.0);
    // Harder driven is louder, and turned down to be as loud: by more the harder it is driven.
    b.settle();
    std::vector<double> gains;
    for (std::size_t i = 0; i < audition.current().slots_.size(); ++i)
        if (audition.current().slots_[i].title.startsWith("drive "))
            gains.push_back(audition.matchingGainDb(i).value());
    QVERIFY(gains[0] > gains[1] && gains[1] > gains[2]);
    QCOMPARE(b.chain()[0].values.at("drive"), ParameterValue(5.0)); // nothing of the rig is changed
    b.type("gain db=0");                                            // another stage: they are gone
    QCOMPARE(audition.current().slots_.size(), before);
    QVERIFY(!places->isChecked());
}

void TestRigBench::whatDoesNothingCannotBeMoved()
{
    test::RigWindow b(demo());
    b.type("circuit part=power");
    QVERIFY(!b.find<QLineEdit>("control.drive")->isEnabled());
    QVERIFY(b.find<QLineEdit>("control.drive")->toolTip().contains("part is power"));
    QVERIFY(b.find<QLineEdit>("control.presence")->isEnabled());
    b.type("circuit part=preamp");
    QVERIFY(b.find<QLineEdit>("control.drive")->isEnabled());
    QVERIFY(!b.find<QLineEdit>("control.presence")->isEnabled());
}

void TestRigBench::aCleanLaneIsAsLoud()
{
    test::RigWindow b(demo());
    b.type("hardclip drive=8 | gain db=0");
    const double alone = b.dbu("hardclip");
    b.action("addStage", "A clean lane beside the chosen stage")->trigger();
    b.settle();
    QCOMPARE(b.types(), QStringList({"lanes", "gain"}));
    const RigNode split = b.chain()[0];
    QVERIFY(split.lanes.size() == 2 && split.lanes[0][0].type == "hardclip" && split.lanes[1].empty());
    QVERIFY(split.values.contains("gain"));
    // BS.1770 loudness is what is kept; the levels lie near each other.
    QVERIFY2(std::abs(b.dbu("lanes") - alone) < 3.0, qPrintable(QString::number(b.dbu("lanes") - alone)));
    // Twice the same: the sum is 6 dB louder, which the gain takes back.
    b.type("gain db=0");
    b.action("addStage", "A clean lane beside the chosen stage")->trigger();
    b.settle();
    QVERIFY(std::abs(std::get<double>(b.chain()[0].values.at("gain")) + 6.0) < 0.051);
    b.click("addLane");
    b.settle();
    QCOMPARE(b.chain()[0].lanes.size(), std::size_t(3));
    QVERIFY(std::abs(std::get<double>(b.chain()[0].values.at("gain")) + 9.5) < 0.051);
}

void TestRigBench::lanesAreOpenedAndDropped()
{
    test::RigWindow b(demo());
    b.type("gain db=3 | { gain db=1 ; gain db=2 } gain=-6");
    b.window.bench<RigBench>()->chooseStage(1);
    b.click("lane.2");
    b.settle();
    auto* edit = b.find<QLineEdit>("control.db");
    QCOMPARE(edit->text(), QString("2"));
    edit->setText("5");
    emit edit->editingFinished();
    QCOMPARE(std::get<double>(b.chain()[1].lanes[1][0].values.at("db")), 5.0);
    b.action("addStage", "Polarity")->trigger();
    QCOMPARE(b.chain()[1].lanes[1].size(), std::size_t(2));
    b.settle();
    QVERIFY(std::abs(b.dbu("polarity") - b.dbu("input") - 5.0) < 0.11);
    b.click("dropLane");
    b.settle();
    QCOMPARE(b.types(), QStringList({"gain", "gain"})); // one lane is no split
    QCOMPARE(std::get<double>(b.chain()[1].values.at("db")), 1.0);
    // Another layer is another chain.
    b.session().undoStack().undo();
    b.window.bench<RigBench>()->chooseStage(1);
    b.click("lane.1");
    b.session().setPath({0, 1, 1});
    QVERIFY(!b.find<QPushButton>("leaveLane")->isVisible());
    b.settle();
}

void TestRigBench::levelsTravel()
{
    test::RigWindow b(demo());
    b.type("gain db=0");
    RigDocument rig = b.session().rigs().inHand();
    QVERIFY(rig.di && rig.di->octavesDb);
    const double now = rig.di->averageDbfs;
    // Made on a DI that was 4 dB louder at an input whose full scale lay 2 dB higher: 6 dB more volts.
    rig.name = "from elsewhere";
    rig.di->averageDbfs += 4.0;
    rig.di->calibration.dbuAtFullScale += 2.0;
    const auto file = b.save(rig);
    b.session().rigs().choose(file);
    b.settle();
    auto* remedy = b.window.findChild<QPushButton*>("remedy.rig.level_moved");
    QVERIFY(remedy);
    QVERIFY2(remedy->text().contains("6.0"), qPrintable(remedy->text()));
    remedy->click();
    b.settle();
    QCOMPARE(b.types(), QStringList({"gain", "gain"}));
    QVERIFY(std::abs(std::get<double>(b.chain()[0].values.at("db")) - 6.0) < 0.051);
    QVERIFY(!b.window.findChild<QPushButton*>("remedy.rig.level_moved"));
    QCOMPARE(b.session().rigs().inHand().di->averageDbfs, now); // it is dialled in on this DI from now on
}

void TestRigBench::pickupTravels()
{
    test::RigWindow b(demo());
    b.type("gain db=0");
    RigDocument rig = b.session().rigs().inHand();
    rig.name = "brighter";
    for (std::size_t i = 4; i < rig.di->octavesDb->size(); ++i) (*rig.di->octavesDb)[i] += 6.0;
    const auto file = b.save(rig);
    b.session().rigs().choose(file);
    b.settle();
    auto* remedy = b.window.findChild<QPushButton*>("remedy.rig.pickup_differs");
    QVERIFY(remedy); // off unless wanted
    QCOMPARE(b.types(), QStringList({"gain"}));
    remedy->click();
    b.settle();
    QCOMPARE(b.types(), QStringList({"gain", "graphic", "gain"}));
    const ParameterValues values = b.chain()[1].values;
    const auto slider = [&](const char* key) { return values.contains(key) ? std::get<double>(values.at(key)) : 0.0; };
    QVERIFY(std::abs(slider("b2000") - slider("b250") - 6.0) < 0.11);
    for (const auto& [key, value] : values) QVERIFY(std::abs(std::get<double>(value)) <= 9.0);
}

void TestRigBench::versionsAreHeldAgainstEachOther()
{
    test::RigWindow b(demo());
    b.type("gain db=1 | polarity");
    const std::string first = b.session().layer()->rig;
    b.type("gain db=3 | polarity");
    b.type("gain db=3 | delay time=1/4");
    auto* about = b.find<QLabel>("rigAbout");
    QVERIFY2(about->text().contains("polarity taken out; delay put in behind gain"), qPrintable(about->text()));
    emit about->linkActivated("other");
    auto* others = b.find<QMenu>("otherRigs");
    others->hide();
    const QString name = QString::fromStdString(first).section('/', -1).chopped(5);
    for (QAction* action : others->actions())
        if (action->text() == name.section(".v", 0, -2) + ", version " + name.section(".v", -1)) action->trigger();
    b.settle();
    QVERIFY2(about->text().contains("gain: gain 1 to 3 dB"), qPrintable(about->text()));
    const auto& heard = b.window.audition().current().slots_;
    QCOMPARE(heard.size(), std::size_t(3)); // dry, the chosen one, this one
    QVERIFY(about->text().contains(">" + heard[1].title + "</a>"));
}

void TestRigBench::aMissingImpulseIsFoundByItsContent()
{
    test::RigWindow b(demo());
    QTemporaryDir elsewhere;
    QVERIFY(QDir(elsewhere.path()).mkpath("deep/down here"));
    const QString original = elsewhere.filePath("my cab.wav"),
                  renamed = elsewhere.filePath("deep/down here/Kept 1.wav");
    test::writeWav(elsewhere, "my cab.wav", {{0.5f, 0.25f, -0.1f, 0.05f}}, 44100);
    test::writeWav(elsewhere, "another.wav", {{0.5f, 0.25f, -0.1f, 0.06f}}, 44100);
    const auto name = b.session().rigs().importImpulse(original);
    QVERIFY(bool(name));
    QCOMPARE(*b.session().rigs().importImpulse(original), *name); // not twice
    b.type(("impulse file=\"" + *name + "\"").c_str());
    const double with = b.dbu("impulse");
    QVERIFY(QFile::rename(original, renamed));
    const auto kept = QString::fromStdString((b.session().folder().path() / *name).string());
    QVERIFY(QFile::remove(kept));
    emit b.session().rigChanged();
    b.settle();
    QCOMPARE(b.dbu("impulse"), b.dbu("input")); // named, and bypassed
    auto* look = b.window.findChild<QPushButton*>("remedy.rig.missing");
    QVERIFY(look);
    // Where it is not, that is said; where it is, it comes back by its content.
    QTemporaryDir empty;
    auto& bench = *b.window.bench<RigBench>();
    bench.askFolder = [&] { return empty.path(); };
    QSignalSpy failed(&bench, &Bench::failed);
    look->click();
    b.settle();
    QCOMPARE(failed.size(), 1);
    QVERIFY(failed[0][0].toString().contains("none of the"));
    bench.askFolder = [&] { return elsewhere.path(); };
    b.window.findChild<QPushButton*>("remedy.rig.missing")->click();
    b.settle();
    QVERIFY(QFile::exists(kept));
    QCOMPARE(b.dbu("impulse"), with);
    QVERIFY(!b.window.findChild<QPushButton*>("remedy.rig.missing"));
}

void TestRigBench::runawayIsToldAndHeld()
{
    test::RigWindow b(demo());
    b.session().loop().set(2.0, 4.0);
    b.type("gain db=20 | delay time=10ms feedback=1.1 mix=0.5");
    const auto told = [&] {
        return std::ranges::any_of(b.window.findChildren<QLabel*>(),
                                   [](const QLabel* l) { return l->text().contains("run away"); });
    };
    QVERIFY(told());
    QVERIFY(b.dbu("delay") < 20.0 * std::log10(30.0 / 0.7746) + 0.1); // never over what holds it, 30 V
    b.type("gain db=20 | delay time=10ms feedback=0.5 mix=0.5");
    QVERIFY(!told());
}

void TestRigBench::unknownStagesAreKept()
{
    test::RigWindow b(demo());
    b.type("gain db=2");
    // A later version wrote a stage and a key that this one does not know.
    const auto path = QString::fromStdString((b.session().folder().path() / b.session().layer()->rig).string());
    QFile file(path);
    QVERIFY(file.open(QIODevice::ReadOnly));
    QByteArray text = file.readAll();
    file.close();
    text.replace("\"node\": \"gain\",", "\"node\": \"gain\", \"warmth\": 3,");
    text.replace("\"chain\": [", "\"chain\": [{\"node\": \"tapedeck\", \"speed\": 38},");
    QVERIFY(text.contains("tapedeck") && text.contains("warmth"));
    QVERIFY(file.open(QIODevice::WriteOnly) && file.write(text) == text.size());
    file.close();
    emit b.session().rigChanged();
    b.settle();
    QCOMPARE(b.types(), QStringList({"tapedeck", "gain"}));
    QVERIFY(b.chain()[0].bypass);
    bool told = false;
    for (const QLabel* l : b.window.findChildren<QLabel*>())
        told = told || l->text().contains("\"tapedeck\" is not known");
    QVERIFY(told);
    // Edited here, it still holds what it came with.
    b.window.bench<RigBench>()->chooseStage(1);
    auto* edit = b.find<QLineEdit>("control.db");
    edit->setText("4");
    emit edit->editingFinished();
    b.settle();
    QFile kept(QString::fromStdString((b.session().folder().path() / b.session().layer()->rig).string()));
    QVERIFY(kept.fileName() != path && kept.open(QIODevice::ReadOnly)); // another version
    const auto chain = QJsonDocument::fromJson(kept.readAll())["chain"].toArray();
    QCOMPARE(chain[0].toObject(), (QJsonObject{{"node", "tapedeck"}, {"speed", 38}}));
    QCOMPARE(chain[1].toObject(), (QJsonObject{{"node", "gain"}, {"warmth", 3}, {"db", 4}}));
}

void TestRigBench::outOfRangeIsRefused()
{
    test::RigWindow b(demo());
    b.type("gain db=2");
    auto* edit = b.find<QLineEdit>("control.db");
    edit->setText("900");
    emit edit->editingFinished();
    QCOMPARE(std::get<double>(b.chain()[0].values.at("db")), 2.0);
    bool told = false;
    for (const QLabel* l : b.window.findChildren<QLabel*>())
        told = told || l->text().contains("-60 to 60") || l->text().contains("\u221260 to 60");
    QVERIFY(told);
    b.type("gain db=900");
    QCOMPARE(std::get<double>(b.chain()[0].values.at("db")), 2.0);
}

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    TestRigBench test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_rig_bench.moc"
