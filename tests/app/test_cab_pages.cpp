#include "app/benches/cab/cab_bench.h"
#include "app/benches/cab/impulse_list.h"
#include "app/benches/cab/impulse_use.h"
#include "app/benches/cab/impulses_page.h"
#include "app/benches/cab/make_page.h"
#include "app/benches/cab/place_map.h"
#include "app/benches/cab/place_page.h"
#include "app/benches/cab/sweep_page.h"
#include "app/widgets/figure_table.h"
#include "core/audio/audio_reader.h"
#include "core/audio/audio_writer.h"
#include "core/impulse/impulse_edit.h"
#include "core/signal/biquad.h"
#include "support/demo_copy.h"
#include "support/run_cli.h"
#include "support/signals.h"
#include "support/window_bench.h"

#include <QCheckBox>
#include <QComboBox>
#include <QJsonArray>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTableView>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;
namespace fs = std::filesystem;

/// The pages Impulses, Make, Capture and Place of the Cab bench, in a real window with the simulated interface.
class TestCabPages : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    QString first_;

    struct Open : WindowBench {
        explicit Open(const QString& session, const char* page)
        {
            window.openPaths({session});
            window.session().setPath({0, 0, 0});
            window.session().loop().set(2.0, 3.0);
            window.showBench("Cab");
            window.capture().useTestClock();
            show(page);
        }
        void show(const char* page)
        {
            bench().showPage(page);
            settle();
        }
        CabBench& bench() { return *window.bench<CabBench>(); }
        template<typename T> T& page() { return *bench().page<T>(); }
        void click(const char* name)
        {
            auto* b = find<QPushButton>(name);
            QVERIFY2(b->isEnabled(), name);
            b->click();
            settle();
        }
        void type(const char* name, const QString& text)
        {
            auto* edit = find<QLineEdit>(name);
            edit->setText(text);
            QTest::keyClick(edit, Qt::Key_Return);
            settle();
        }
        QString cell(const char* table, int row, int column)
        {
            return find<QTableWidget>(table)->item(row, column)->text();
        }
        void setCell(const char* table, int row, int column, const QString& text)
        {
            find<QTableWidget>(table)->item(row, column)->setText(text);
            settle();
        }
        QString sentence(const char* name) { return find<QLabel>(name)->text(); }
        void place(std::vector<PlacedMicrophone> microphones, const char* cabinet = "one-open")
        {
            window.session().edit("Microphones", "cab", [&](SessionDocument& d) {
                d.cab.cabinet = cabinet;
                d.cab.microphones = std::move(microphones);
            });
            settle();
        }
        fs::path folder() { return window.session().folder().path(); }
        QStringList finds()
        {
            QStringList out;
            for (const Finding& f : window.findChild<FindingsPanel*>()->findings())
                out << QString::fromStdString(f.code);
            return out;
        }
    };
    QString fresh()
    {
        static int n = 0;
        const QString path = dir_.filePath(QString("demo %1.gristle").arg(++n));
        fs::copy(first_.toStdString(), path.toStdString(), fs::copy_options::recursive);
        return path;
    }
    void save(const QString& file, const std::vector<float>& x, int rate = 48000)
    {
        fs::create_directories(fs::path(file.toStdString()).parent_path());
        QVERIFY(writeRecording(file.toStdString(), test::recording({x}, rate)));
    }
    static std::vector<float> click(std::size_t at, float height, double hz = 1000.0, double db = 6.0)
    {
        std::vector<float> x(2400, 0.0f);
        x[at] = height;
        Biquad(bell(hz, db, 1.0, 48000.0)).process(x);
        return x;
    }

private slots:
    void initTestCase()
    {
        qputenv("GRISTLE_HOME", dir_.filePath("home").toUtf8());
        first_ = dir_.filePath("first.gristle");
        QVERIFY(test::copyDemo(first_.toStdString()));
    }

    /// Three microphones are captured from the simulated interface, the set is kept, two are brought together and
    /// blended, and what comes out is used in the rig and heard.
    void captureBlendAndUse()
    {
        Open b(fresh(), "capture");
        b.place({{"coil-presence", {0.03, 0.03, 0.0}}, {"ribbon", {0.35, 0.0, 0.0}}, {"condenser", {1.0, 0.1, 0.0}}});
        b.show("capture");
        QVERIFY(!b.find<QPushButton>("sweepGo")->isEnabled()); // it asks for a quiet one first
        b.click("sweepQuiet");
        QVERIFY2(b.sentence("sweepSentence").contains("24 dB louder"), qPrintable(b.sentence("sweepSentence")));
        QVERIFY(!b.find<QPushButton>("sweepKeep")->isEnabled());
        b.click("sweepGo");
        QVERIFY2(b.sentence("sweepSentence").startsWith("3 microphones captured"),
                 qPrintable(b.sentence("sweepSentence")));
        // By geometry, from the close one at 3 cm: in ms at 343 m/s.
        QCOMPARE(b.cell("sweepTable", 2, 3).toDouble(), 0.0);
        QVERIFY(std::abs(b.cell("sweepTable", 3, 3).toDouble() - 1000.0 * 0.32 / 343.0) < 0.1);
        QVERIFY(std::abs(b.cell("sweepTable", 4, 3).toDouble() - 1000.0 * 0.97 / 343.0) < 0.1);
        for (int row = 2; row < 5; ++row) {
            QVERIFY(b.cell("sweepTable", row, 4).toDouble() > 40.0);
            QCOMPARE(b.cell("sweepTable", row, 6), QString("captured"));
        }
        QCOMPARE(b.cell("sweepTable", 0, 6), QString());
        const auto& set = b.page<SweepPage>().taken()->set;
        const double apart = set.each[2]->arrivalSamples - set.each[0]->arrivalSamples;
        QVERIFY2(std::abs(apart - 0.97 / 343.0 * 48000.0) < 4.0, qPrintable(QString::number(apart)));

        b.find<QLineEdit>("sweepName")->setText("open one");
        b.find<QLineEdit>("sweepNotes")->setText("after new valves");
        b.click("sweepKeep");
        int kept = 0;
        for (const auto& entry : fs::directory_iterator(b.folder() / "impulses"))
            if (entry.path().extension() == ".wav" && entry.path().filename().string().starts_with("open one")) ++kept;
        QCOMPARE(kept, 4); // three and their sum
        const auto log = b.window.session().folder().readLog();
        QVERIFY(
            std::ranges::any_of(log, [](const LogEntry& e) { return e.text.find("after new valves") != e.text.npos; }));

        // They are on the page of impulses; the close one and the ribbon go to Make.
        b.show("impulses");
        auto* list = qobject_cast<ImpulseList*>(b.find<QTableView>("impulseTable")->model());
        QCOMPARE(list->rowCount(), 8); // four of the demo
        b.find<QLineEdit>("impulseSearch")->setText("OPEN one ribbon");
        QCOMPARE(list->rowCount(), 1);
        b.find<QTableView>("impulseTable")->selectRow(0);
        b.settle();
        b.click("impulseMake");
        b.show("impulses");
        b.find<QLineEdit>("impulseSearch")->setText("moving");
        b.find<QTableView>("impulseTable")->selectRow(0);
        b.settle();
        b.click("impulseMake");
        QCOMPARE(b.find<QTableWidget>("makeTable")->rowCount(), 2);
        b.find<QCheckBox>("makeAlign")->click();
        b.settle();
        // The second was captured 0.32 m earlier: it is brought so much later.
        const double moved = b.cell("makeTable", 1, 5).replace(QChar(0x2212), '-').toDouble();
        QVERIFY2(std::abs(moved + 0.32 / 343.0 * 48000.0) < 6.0, qPrintable(QString::number(moved)));
        b.find<QCheckBox>("makeTrim")->click();
        b.settle();
        b.type("makeLength", "60");
        b.find<QLineEdit>("makeName")->setText("both");
        b.click("makeIntoRig");
        const RigDocument rig = b.window.session().rigs().inHand();
        QCOMPARE(impulseOf(rig), std::string("impulses/both.wav"));
        QVERIFY(recallLine(rig.chain).find("level=matched") != std::string::npos);
        const auto made = readRecording(b.folder() / "impulses/both.wav").value();
        QCOMPARE(made.audio.frames(), std::size_t(48 + 2880));
        // And heard: what is rendered with it is what the file says.
        b.bench().showPage("make");
        const auto request = b.bench().audition();
        QCOMPARE(request.slots_.size(), std::size_t(2));
        RenderCache& cache = *b.window.session().renders();
        const auto heard = renderSound(request.slots_[0].sound, 2.0, 3.0, cache);
        QVERIFY2(bool(heard), heard ? "" : heard.error().message.c_str());
        double power = 0.0;
        for (const float x : (*heard)->audio.channel(0)) power += double(x) * double(x);
        QVERIFY(power > 0.0);
        const auto other =
            renderSound(request.slots_[1].sound, 2.0, 3.0, cache); // what is made, in a rig at matched level
        QVERIFY2(bool(other), other ? "" : other.error().message.c_str());
        // It is what was put into the rig: the same to the rounding of a file.
        for (std::size_t i = 0; i < (*heard)->audio.frames(); i += 97)
            QVERIFY(std::abs((*other)->audio.channel(0)[i] - (*heard)->audio.channel(0)[i]) < 0.002f);
    }

    /// A level at which it would clip is not offered; stopping ends it; a microphone that hears nothing says so.
    void captureWithCare()
    {
        Open b(fresh(), "capture");
        b.place({{"coil-presence", {0.01, 0.0, 0.0}}}, "four-closed");
        b.show("capture");
        auto* room = dynamic_cast<engine::SimulatedDevice*>(b.window.audition().device())->room();
        room->setGainDb(20.0);
        b.type("sweepLevel", "0");
        b.click("sweepQuiet");
        QVERIFY2(b.sentence("sweepSentence").contains("would clip"), qPrintable(b.sentence("sweepSentence")));
        QVERIFY(!b.find<QPushButton>("sweepGo")->isEnabled());
        b.type("sweepLevel", QString::fromUtf8("\u221230"));
        QVERIFY(b.find<QPushButton>("sweepGo")->isEnabled());
        b.find<QPushButton>("sweepGo")->click();
        QVERIFY(b.find<QPushButton>("sweepStop")->isEnabled());
        b.find<QPushButton>("sweepStop")->click();
        b.settle();
        QVERIFY2(b.sentence("sweepSentence") == "Stopped." || b.sentence("sweepSentence").contains("captured"),
                 qPrintable(b.sentence("sweepSentence")));
        QVERIFY(b.window.capture().isOpen()); // the device came back
        room = dynamic_cast<engine::SimulatedDevice*>(b.window.audition().device())->room();
        room->setSilent(true);
        b.find<QTableWidget>("sweepTable")->item(5, 0)->setCheckState(Qt::Checked); // an input with nothing in it
        b.settle();
        b.type("sweepLevel", QString::fromUtf8("\u221212"));
        room->setGainDb(0.0);
        b.click("sweepQuiet");
        QVERIFY2(b.finds().contains("capture.refused"), qPrintable(b.finds().join(' ')));
        QCOMPARE(b.cell("sweepTable", 5, 6), QString("refused"));
        QCOMPARE(b.cell("sweepTable", 2, 6), QString("tried"));
    }

    /// From files, good and bad.
    void captureFromFiles()
    {
        Open b(fresh(), "capture");
        const QString sweepFile = dir_.filePath("the sweep.wav"), good = dir_.filePath("my take.wav");
        b.page<SweepPage>().askSave = [=] { return sweepFile; };
        b.type("sweepSeconds", "2");
        b.click("sweepWrite");
        const auto played = readRecording(sweepFile.toStdString()).value();
        const auto x = played.audio.channel(0);
        std::vector<float> late(x.size() + 48000);
        for (std::size_t i = 0; i < x.size(); ++i) late[i + 480] = 0.5f * x[i];
        save(good, late);
        b.page<SweepPage>().askSweep = [=] { return sweepFile; };
        b.page<SweepPage>().askRecordings = [=] { return QStringList{good}; };
        b.click("sweepFiles");
        QCOMPARE(b.cell("sweepTable", 0, 1), QString("my take"));
        QCOMPARE(b.cell("sweepTable", 0, 6), QString("captured"));
        const auto& c = *b.page<SweepPage>().taken()->set.each[0];
        const auto taps = c.impulse.audio.channel(0);
        QVERIFY(std::abs(*std::ranges::max_element(taps) - 0.45f) < 0.1f); // half of a click, in the sweep's band
        // Another rate, and a file that is no audio.
        save(dir_.filePath("other rate.wav"), late, 44100);
        b.page<SweepPage>().askRecordings = [=, this] { return QStringList{dir_.filePath("other rate.wav")}; };
        b.click("sweepFiles");
        QVERIFY2(b.sentence("sweepSentence").contains("44100"), qPrintable(b.sentence("sweepSentence")));
        b.page<SweepPage>().askRecordings = [=] { return QStringList{QString(__FILE__)}; };
        b.click("sweepFiles");
        QVERIFY(b.sentence("sweepSentence").contains("test_cab_pages.cpp"));
    }

    /// A folder with pictures, searched, tagged, doubles hidden; one against another in words.
    void impulsesOfAFolder()
    {
        const QString folder = dir_.filePath("my impulses");
        for (int i = 0; i < 40; ++i)
            save(folder + QString("/%1/cab %2.wav").arg(i % 4).arg(i), click(20, 0.5f, 200.0 + 100.0 * i, 6.0));
        save(folder + "/0/cab 0 again.wav", click(20, 0.5f, 200.0, 6.0));
        save(folder + "/take.wav", test::whiteNoise(0.1, 48000));
        {
            Open b(fresh(), "impulses");
            auto& page = b.page<ImpulsesPage>();
            page.askFolder = [=] { return folder; };
            b.click("impulsesOfFolder");
            auto* view = b.find<QTableView>("impulseTable");
            auto* list = qobject_cast<ImpulseList*>(view->model());
            QCOMPARE(list->rowCount(), 42);
            QVERIFY2(b.sentence("impulseCount").contains("42 files") &&
                         b.sentence("impulseCount").contains("1 the same"),
                     qPrintable(b.sentence("impulseCount")));
            b.find<QCheckBox>("hideDuplicates")->click();
            QCOMPARE(list->rowCount(), 41);
            // The one at 200 Hz is the zero; the one at 2.2 kHz has more there and less low.
            view->setCurrentIndex(list->index(list->rowOf("0/cab 0.wav"), 0));
            if (list->rowOf("0/cab 0.wav") < 0) view->setCurrentIndex(list->index(list->rowOf("0/cab 0 again.wav"), 0));
            b.settle();
            if (b.find<QPushButton>("impulseZero")->isEnabled()) b.click("impulseZero");
            view->setCurrentIndex(list->index(list->rowOf("0/cab 20.wav"), 0));
            b.settle();
            const QString words = b.sentence("impulseSentence");
            QVERIFY2(words.contains("more forward") && words.contains("less"), qPrintable(words));
            // What is no impulse is not offered.
            view->setCurrentIndex(list->index(list->rowOf("take.wav"), 0));
            b.settle();
            QVERIFY(!b.find<QPushButton>("impulseIntoRig")->isEnabled());
            // A tag stays with the content.
            view->setCurrentIndex(list->index(list->rowOf("0/cab 20.wav"), 0));
            QVERIFY(list->setData(list->index(list->rowOf("0/cab 20.wav"), ImpulseList::kTags), "warm, lead",
                                  Qt::EditRole));
            b.find<QLineEdit>("impulseSearch")->setText("lead");
            QCOMPARE(list->rowCount(), 1);
            b.find<QTableView>("impulseTable")->selectRow(0);
            b.settle();
            b.click("impulseIntoRig");
            QCOMPARE(impulseOf(b.window.session().rigs().inHand()), std::string("impulses/cab 20.wav"));
        }
        // In another window, after the file was moved.
        fs::rename((folder + "/0/cab 20.wav").toStdString(), (folder + "/1/renamed.wav").toStdString());
        Open b(fresh(), "impulses");
        b.page<ImpulsesPage>().askFolder = [=] { return folder; };
        b.click("impulsesOfFolder");
        auto* list = qobject_cast<ImpulseList*>(b.find<QTableView>("impulseTable")->model());
        b.find<QLineEdit>("impulseSearch")->setText("warm");
        QCOMPARE(list->rowCount(), 1);
        QCOMPARE(list->index(0, 0).data().toString(), QString("1/renamed"));
        // A folder that went away.
        b.page<ImpulsesPage>().askFolder = [=] { return folder + "/nowhere"; };
        b.find<QPushButton>("impulsesOfFolder")->click();
        b.settle();
        b.find<QLineEdit>("impulseSearch")->clear();
        QCOMPARE(list->rowCount(), 0);
    }

    /// The sum by definition, through the table; what works against each other is found and mended.
    void makeBySides()
    {
        Open b(fresh(), "make");
        const QString one = dir_.filePath("one.wav"), two = dir_.filePath("two.wav");
        save(one, click(40, 0.5f));
        save(two, click(64, -0.5f));
        b.page<MakePage>().askFiles = [=] { return QStringList{one, two}; };
        b.click("makeAdd");
        QVERIFY2(b.finds().contains("impulse.cancel"), qPrintable(b.finds().join(' ')));
        b.setCell("makeTable", 1, 1, "-6");
        b.setCell("makeTable", 1, 2, "10");
        const QString out = dir_.filePath("out.wav");
        b.page<MakePage>().askSave = [=] { return out; };
        b.click("makeWrite");
        const auto sum = readRecording(out.toStdString()).value();
        const auto a = click(40, 0.5f), c = click(64, -0.5f);
        for (std::size_t i = 10; i < 2000; ++i)
            QVERIFY(std::abs(sum.audio.channel(0)[i] - (a[i] + std::pow(10.0, -0.3) * c[i - 10])) < 1e-6);
        b.setCell("makeTable", 1, 1, "loud");
        QVERIFY(b.cell("makeTable", 1, 1).contains("6.0")); // refused, and as it was
        b.find<QComboBox>("makeSide.1")->setCurrentIndex(2);
        emit b.find<QComboBox>("makeSide.1")->activated(2);
        b.settle();
        b.click("makeWrite");
        QCOMPARE(readRecording(out.toStdString())->audio.channels(), std::size_t(2));
        b.find<QTableWidget>("makeTable")->selectRow(1);
        b.click("makeRemove");
        b.type("makeLength", "2"); // too short: told, the last good one stays on disk
        QVERIFY2(b.sentence("makeSentence").contains("2 ms"), qPrintable(b.sentence("makeSentence")));
        QVERIFY(!b.find<QPushButton>("makeKeep")->isEnabled());
        b.type("makeLength", "off");
        QVERIFY(b.find<QPushButton>("makeKeep")->isEnabled());
    }

    /// The map moves the microphone by keys and clicks, the table by figures; both are one undoable step of the
    /// session, and what is kept is the model's impulse.
    void placeOnTheMap()
    {
        Open b(fresh(), "place");
        b.place({PlacedMicrophone{}}, "one-closed");
        b.show("place");
        auto& map = *b.window.findChild<PlaceMap*>("placeMap");
        QCOMPARE(map.responseHere().size(), std::size_t(96));
        const auto centre = map.responseHere();
        map.setFocus();
        for (int i = 0; i < 12; ++i) QTest::keyClick(&map, Qt::Key_Up);
        b.settle();
        const auto& plan = b.window.session().document().cab;
        QVERIFY2(std::abs(plan.microphones[0].place.offsetM - 0.06) < 1e-9,
                 qPrintable(QString::number(plan.microphones[0].place.offsetM)));
        QCOMPARE(b.cell("placeTable", 0, 2), QString("6.0"));
        QVERIFY2(b.sentence("placeSentence").contains("less above"), qPrintable(b.sentence("placeSentence")));
        double presence = 0.0; // 2.5 to 5 kHz goes towards the rim
        for (std::size_t k = 65; k <= 76; ++k) presence += (map.responseHere()[k].db - centre[k].db) / 12.0;
        QVERIFY2(presence < -3.0, qPrintable(QString::number(presence)));
        b.window.session().undoStack().undo();
        b.settle();
        QCOMPARE(plan.microphones[0].place.offsetM, 0.0); // the whole way is one step

        b.setCell("placeTable", 0, 1, "25");
        QCOMPARE(plan.microphones[0].place.distanceM, 0.25);
        b.setCell("placeTable", 0, 1, "9000");
        QCOMPARE(plan.microphones[0].place.distanceM, 0.25);
        b.click("placeAdd");
        QCOMPARE(plan.microphones.size(), std::size_t(2));
        b.setCell("placeTable", 1, 1, "-30"); // behind a closed cabinet there is less
        b.click("placeLine.1");
        QVERIFY(b.sentence("placeSentence").contains("cm"));
        const double front = b.cell("placeTable", 0, 8).section('/', 0, 0).toDouble(),
                     rear = b.cell("placeTable", 1, 8).section('/', 0, 0).toDouble();
        QVERIFY2(front > rear + 6.0, qPrintable(QString("%1 %2").arg(front).arg(rear)));
        b.type("placeSpill", "0.3");
        QVERIFY2(b.finds().contains("cab.spill"), qPrintable(b.finds().join(' ')));
        QVERIFY(b.finds().contains("cab.phantom")); // the second is a ribbon

        b.click("placeIntoRig");
        const std::string file = impulseOf(b.window.session().rigs().inHand());
        const auto kept = readRecording(b.folder() / file).value();
        const auto setting = settingOf(plan).value();
        const auto one = placementImpulse(setting, plan.microphones[0], kept.sampleRateHz, 0.3).value(),
                   two = placementImpulse(setting, plan.microphones[1], kept.sampleRateHz, 0.3).value();
        for (std::size_t i = 0; i < kept.audio.frames(); ++i)
            QVERIFY(std::abs(kept.audio.channel(0)[i] - one.audio.channel(0)[i] - two.audio.channel(0)[i]) < 1e-5f);
        // Apart: the close one left, the other right.
        b.find<QCheckBox>("placeApart")->click();
        b.click("placeSave");
        bool isApart = false;
        for (const auto& entry : fs::directory_iterator(b.folder() / "impulses"))
            if (entry.path().extension() == ".wav" && readRecording(entry.path())->audio.channels() == 2)
                isApart = true;
        QVERIFY(isApart);
        // It stays in the session.
        const QString session = QString::fromStdString(b.folder().string());
        const CabPlan before = plan;
        b.settle();
        const auto again = SessionFolder::open(session.toStdString(), Access::Read);
        QVERIFY(again);
        QVERIFY(again->document().cab == before);
    }

    /// The command line says and makes the same of the same microphones, bit for bit.
    void theCommandLineSaysTheSame()
    {
        Open b(fresh(), "place");
        b.place({{"coil-presence", {0.02, 0.04, 10.0}}, {"ribbon", {0.6, 0.0, 0.0}, true, -3.0}}, "two-open");
        b.show("place");
        b.type("placeSpill", "0.4");
        const QString file = dir_.filePath("by hand.wav");
        const auto ran =
            test::run({"cab", file, "--cabinet", "two-open", "--mic", "coil-presence:2:4:10", "--mic",
                       "ribbon:60:0:0:-3:invert", "--seconds", "0.3", "--spill-m", "0.4", "--watts", "5", "--json"});
        QVERIFY2(ran.code == 0, ran.error);
        QStringList codes;
        for (const auto& f : ran.json()["findings"].toArray()) codes << f.toObject()["code"].toString();
        auto said = b.finds();
        QVERIFY(codes.contains("cab.phantom") && codes.contains("cab.spill"));
        codes.sort(), said.sort();
        QCOMPARE(said, codes);
        const auto rows = ran.json()["microphone"].toArray();
        for (int row = 0; row < 2; ++row) {
            const auto told = rows[row].toObject();
            QCOMPARE(b.cell("placeTable", row, 8).section('/', 0, 0), shownFigure(test::number(told["spl_db"]), 0));
            QCOMPARE(b.cell("placeTable", row, 9), shownFigure(test::number(told["spill"].toObject()["spill_db"]), 1));
        }
        b.click("placeIntoRig");
        const auto made = readRecording(b.folder() / impulseOf(b.window.session().rigs().inHand())).value(),
                   other = readRecording(file.toStdString()).value();
        QCOMPARE(made.audio.frames(), other.audio.frames());
        QVERIFY(std::ranges::equal(made.audio.channel(0), other.audio.channel(0)));
    }
};

QTEST_MAIN(TestCabPages)
#include "test_cab_pages.moc"
