// Each widget by itself, driven as a hand would drive it.

#include "app/benches/blend/place_ruler.h"
#include "app/benches/log/log_model.h"
#include "app/shell/application.h"
#include "app/shell/go_to_dialog.h"
#include "app/shell/song_dialog.h"
#include "app/shell/start_page.h"
#include "app/tasks/task_runner.h"
#include "app/theme/theme.h"
#include "app/widgets/column_share.h"
#include "app/widgets/control_figures.h"
#include "app/widgets/findings_panel.h"
#include "app/widgets/plot.h"
#include "app/widgets/progress_line.h"
#include "core/rig/nodes/loading.h"
#include "core/units/number_text.h"

#include <QComboBox>
#include <QDoubleSpinBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QSignalSpy>
#include <QtTest/QtTest>
#include <fstream>
#include <numeric>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;

namespace {

Finding finding(Severity severity, const char* code)
{
    Finding f;
    f.severity = severity;
    f.code = code;
    f.title = std::string("Title of ") + code;
    f.message = "Because.";
    f.remedy = "Do something";
    f.measured = 1.0;
    f.low = 0.0;
    f.high = 2.0;
    return f;
}

/// Counts how often its still picture was drawn.
class CountingPlot : public PlotWidget {
public:
    int still = 0, moving = 0;
    using PlotWidget::changeStill;

protected:
    void drawStill(QPainter&) override { ++still; }
    void drawMoving(QPainter&) override { ++moving; }
};

} // namespace

class TestWidgets : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void whatIsThrownIsTold();
    void columnsShareTheirRoom();
    void typicalValuesAreGreyed();
    void axesMapBackAndForth_data();
    void axesMapBackAndForth();
    void hzAndNumbersAreWritten();
    void stillPicturesAreKept();
    void everyParameterHasItsEditor_data();
    void everyParameterHasItsEditor();
    void stepsStayInRange();
    void keysStepAFigure();
    void theWheelNeedsFocus();
    void outOfRangeIsRefusedWithTheRange();
    void travelMovesByKeysAndMouse();
    void placeMovesByKeysAndMouse();
    void findingsAreRankedAndTheirRemedyWorks();
    void goToFindsByWords();
    void songDialogChangesOnlyWhatIsSaid();
    void songDialogTakesATempoMap();
    void startPageAsks();
    void progressStaysWithinItsLine();
    void logIsShownInBatches();
    void newerWorkReplacesWaitingWork();
    void cancelledWorkNeverAnswers();
    void lateAnswersAreDropped();
};

void TestWidgets::initTestCase() { Theme::instance().install(*qApp); }

void TestWidgets::axesMapBackAndForth_data()
{
    QTest::addColumn<bool>("logarithmic");
    QTest::newRow("straight") << false;
    QTest::newRow("logarithmic") << true;
}

void TestWidgets::axesMapBackAndForth()
{
    QFETCH(bool, logarithmic);
    const Axis axis{20.0, 20000.0, 44.0, 500.0, logarithmic};
    QCOMPARE(axis.at(20.0), 44.0);
    QCOMPARE(axis.at(20000.0), 500.0);
    for (const double v : {20.0, 100.0, 1000.0, 20000.0}) QVERIFY(std::abs(axis.valueAt(axis.at(v)) - v) < 1e-6 * v);
    QCOMPARE(axis.held(5.0), 44.0);
    QCOMPARE(axis.held(1e6), 500.0);
    if (logarithmic) QVERIFY(std::abs(axis.at(632.4555) - 272.0) < 0.01); // the geometric middle
}

void TestWidgets::hzAndNumbersAreWritten()
{
    QCOMPARE(hzLabel(50.0), QString("50"));
    QCOMPARE(hzLabel(1000.0), QString("1 k"));
    QCOMPARE(hzLabel(12500.0), QString("12.5 k"));
    QCOMPARE(numberLabel(-6.0), QString(QChar(0x2212)) + "6");
    QCOMPARE(numberLabel(2.345, 2), QString("2.35"));
}

void TestWidgets::stillPicturesAreKept()
{
    CountingPlot plot;
    plot.resize(200, 100);
    plot.grab();
    plot.grab();
    QCOMPARE(plot.still, 1);
    QCOMPARE(plot.moving, 2);
    plot.changeStill();
    plot.grab();
    QCOMPARE(plot.still, 2);
    plot.resize(300, 100);
    plot.grab();
    QCOMPARE(plot.still, 3);
    auto& theme = Theme::instance();
    theme.setLamp(Lamp::Off); // other colours: another picture
    plot.grab();
    theme.setLamp(Lamp::Paper);
    QCOMPARE(plot.still, 4);
}

void TestWidgets::everyParameterHasItsEditor_data()
{
    QTest::addColumn<QString>("type");
    for (const NodeType& type : nodeTypes()) QTest::newRow(type.type.c_str()) << QString::fromStdString(type.type);
}

void TestWidgets::everyParameterHasItsEditor()
{
    QFETCH(QString, type);
    const NodeType* node = findNodeType(type.toStdString());
    ControlFigures figures;
    figures.setNode(node, {}, {"impulses/one.wav", "impulses/two.wav"});
    for (const ParameterSpec& spec : node->parameters) {
        auto* editor = figures.findChild<QWidget*>("control." + QString::fromStdString(spec.key));
        QVERIFY2(editor, spec.key.c_str());
        QVERIFY(!editor->accessibleName().isEmpty() && !editor->toolTip().isEmpty());
        QSignalSpy changed(&figures, &ControlFigures::changed);
        if (spec.kind == ParameterKind::Number) {
            auto* line = qobject_cast<QLineEdit*>(editor);
            for (const double value : {spec.min, spec.max}) {
                line->setText(QString::fromStdString(numberText(value)));
                emit line->editingFinished();
                QCOMPARE(std::get<double>(figures.valueOf(spec.key)), value);
            }
            QVERIFY(changed.count() >= 1);
        } else if (spec.kind == ParameterKind::Choice) {
            auto* box = qobject_cast<QComboBox*>(editor);
            QCOMPARE(box->count(), int(spec.choices.size()));
        } else if (spec.kind == ParameterKind::File) {
            auto* box = qobject_cast<QComboBox*>(editor);
            QCOMPARE(box->count(), 3); // the two and "bring another in"
            QSignalSpy wanted(&figures, &ControlFigures::fileWanted);
            emit box->activated(2);
            QCOMPARE(wanted.count(), 1);
            QVERIFY(box->currentText().isEmpty()); // none chosen: none shown
            QCOMPARE(changed.count(), 0);
            box->setCurrentIndex(1);
            emit box->activated(1);
            QCOMPARE(changed.takeLast(), (QVariantList{QString::fromStdString(spec.key), "impulses/two.wav"}));
        }
    }
}

void TestWidgets::stepsStayInRange()
{
    for (const NodeType& type : nodeTypes())
        for (const ParameterSpec& spec : type.parameters) {
            if (spec.kind != ParameterKind::Number) continue;
            double value = spec.min;
            for (int i = 0; i < 200; ++i) {
                const double next = stepped(spec, value, 1.0);
                QVERIFY2(next <= spec.max && next >= value, spec.key.c_str());
                value = next;
            }
            QVERIFY2(value > spec.max - 0.01 * (spec.max - spec.min) || spec.scale == Scale::Logarithmic,
                     spec.key.c_str());
            QCOMPARE(stepped(spec, spec.min, -1.0), spec.min);
            QCOMPARE(stepped(spec, spec.max, 1.0), spec.max);
        }
}

void TestWidgets::keysStepAFigure()
{
    ControlFigures figures;
    figures.setNode(findNodeType("amplifier"), {{"bass", 5.0}}, {});
    figures.show();
    auto* bass = figures.findChild<QLineEdit*>("control.bass");
    QSignalSpy changed(&figures, &ControlFigures::changed);
    QTest::keyClick(bass, Qt::Key_Up);
    QCOMPARE(std::get<double>(figures.valueOf("bass")), 5.1); // a hundredth of 0 to 10
    QTest::keyClick(bass, Qt::Key_Down, Qt::ShiftModifier);
    QVERIFY(std::abs(std::get<double>(figures.valueOf("bass")) - 5.09) < 1e-9); // ten times finer
    QCOMPARE(changed.count(), 2);
    QCOMPARE(changed[0][0].toString(), QString("bass"));
}

void TestWidgets::theWheelNeedsFocus()
{
    ControlFigures figures;
    figures.setNode(findNodeType("amplifier"), {{"bass", 5.0}}, {});
    figures.show();
    auto* bass = figures.findChild<QLineEdit*>("control.bass");
    const auto turn = [&] {
        QWheelEvent wheel({5, 5}, bass->mapToGlobal(QPointF(5, 5)), {}, {0, 120}, Qt::NoButton, Qt::NoModifier,
                          Qt::NoScrollPhase, false);
        QApplication::sendEvent(bass, &wheel);
    };
    figures.findChild<QLineEdit*>("control.treble")->setFocus();
    turn(); // a page that is scrolled must not turn a control
    QCOMPARE(std::get<double>(figures.valueOf("bass")), 5.0);
    figures.activateWindow();
    bass->setFocus();
    QVERIFY(QTest::qWaitFor([&] { return bass->hasFocus(); }));
    turn();
    QCOMPARE(std::get<double>(figures.valueOf("bass")), 5.1);
}

void TestWidgets::outOfRangeIsRefusedWithTheRange()
{
    ControlFigures figures;
    figures.setNode(findNodeType("amplifier"), {{"bass", 5.0}}, {});
    auto* bass = figures.findChild<QLineEdit*>("control.bass");
    QSignalSpy refused(&figures, &ControlFigures::refused), changed(&figures, &ControlFigures::changed);
    for (const char* text : {"11", "-1", "loud", "", "nan", "1e999"}) {
        bass->setText(text);
        emit bass->editingFinished();
        QCOMPARE(bass->text(), QString("5")); // what was there stays
    }
    QCOMPARE(refused.count(), 6);
    QCOMPARE(changed.count(), 0);
    const QString said = refused[0][0].toString() + refused[0][1].toString();
    QVERIFY2(said.contains("0") && said.contains("10"), qPrintable(said));
}

void TestWidgets::travelMovesByKeysAndMouse()
{
    TravelRuler ruler;
    ruler.resize(522, 200); // the rule is 400 long
    const ParameterSpec* spec = findNodeType("amplifier")->find("treble");
    ruler.setParameter(spec, 5.0);
    QSignalSpy moved(&ruler, &TravelRuler::moved);
    QTest::keyClick(&ruler, Qt::Key_Right);
    QCOMPARE(moved.takeLast()[0].toDouble(), 5.1);
    QTest::keyClick(&ruler, Qt::Key_Left, Qt::ShiftModifier);
    QCOMPARE(moved.takeLast()[0].toDouble(), 5.09);
    QTest::mouseClick(&ruler, Qt::LeftButton, {}, QPoint(38 + 100, 100));
    QCOMPARE(moved.takeLast()[0].toDouble(), 2.5); // a quarter of the way
    QTest::mouseClick(&ruler, Qt::LeftButton, {}, QPoint(2, 100));
    QCOMPARE(moved.takeLast()[0].toDouble(), 0.0); // left of the rule is its end
    ruler.setParameter(nullptr, 0.0);
    QTest::keyClick(&ruler, Qt::Key_Right);
    QVERIFY(moved.isEmpty());
}

void TestWidgets::placeMovesByKeysAndMouse()
{
    PlaceRuler ruler;
    ruler.resize(600, 300);
    ruler.setLayers({{"Left 1", -100.0, -1.0, true}, {"Right 1", 98.0, 0.0, false}});
    QSignalSpy move(&ruler, &PlaceRuler::move), choose(&ruler, &PlaceRuler::choose);
    QTest::keyClick(&ruler, Qt::Key_Right);
    QCOMPARE(move.takeLast(), (QVariantList{0, -95.0}));
    QTest::keyClick(&ruler, Qt::Key_Left);
    QCOMPARE(move.takeLast(), (QVariantList{0, -100.0})); // not past the end
    QTest::keyClick(&ruler, Qt::Key_Down);
    QCOMPARE(choose.takeLast(), (QVariantList{1}));
    ruler.setLayers({{"Left 1", -100.0, -1.0, false}, {"Right 1", 98.0, 0.0, true}});
    QTest::keyClick(&ruler, Qt::Key_Right, Qt::ShiftModifier);
    QCOMPARE(move.takeLast(), (QVariantList{1, 99.0}));
    QTest::keyClick(&ruler, Qt::Key_Right);
    QCOMPARE(move.takeLast(), (QVariantList{1, 100.0}));
}

void TestWidgets::findingsAreRankedAndTheirRemedyWorks()
{
    FindingsPanel panel;
    int applied = 0;
    panel.show({finding(Severity::Note, "a.note"), finding(Severity::Stop, "a.stop"), finding(Severity::Fix, "a.fix")},
               {{"a.fix", {"Mend it", [&] { ++applied; }}}}, "nothing");
    panel.resize(290, 600);
    panel.setVisible(true);
    const auto* stop = panel.findChild<QWidget*>("finding.a.stop");
    const auto* fix = panel.findChild<QWidget*>("finding.a.fix");
    QVERIFY(stop && fix);
    QVERIFY(QTest::qWaitFor([&] { return fix->y() > stop->y(); }));
    QVERIFY(stop->accessibleName().startsWith("stop: ")); // the word, not only shape and colour
    QVERIFY(!panel.findChild<QPushButton*>("remedy.a.stop"));
    panel.findChild<QPushButton*>("remedy.a.fix")->click();
    QCOMPARE(applied, 1);
    panel.show({}, {}, "nothing to say");
    QCOMPARE(panel.findings().size(), std::size_t(0));
}

void TestWidgets::goToFindsByWords()
{
    QString went;
    std::vector<Destination> places;
    for (const char* name :
         {"Car Deck \u203a Rhythm A \u203a Left 1", "Car Deck \u203a Lead \u203a Middle", "Rig bench"})
        places.push_back({name, [&went, name] { went = name; }});
    GoToDialog dialog(places, nullptr);
    auto* line = dialog.findChild<QLineEdit*>("goToLine");
    auto* list = dialog.findChild<QListWidget*>("goToList");
    QCOMPARE(list->count(), 3);
    line->setText("car MID");
    QCOMPARE(list->count(), 1);
    QTest::keyClick(line, Qt::Key_Return);
    QCOMPARE(went, QString("Car Deck \u203a Lead \u203a Middle"));
    went.clear();
    line->setText("no such place");
    QTest::keyClick(line, Qt::Key_Return); // nothing is there: nowhere is gone
    QVERIFY(went.isEmpty());
}

void TestWidgets::songDialogChangesOnlyWhatIsSaid()
{
    Song song{"Breakwater", 76.0, "9/8", "drop D", {{"Rhythm", {}}}};
    SongDialog dialog(
        song, [] { return QString(); }, nullptr);
    Song same = song;
    dialog.apply(same);
    QVERIFY(same == song); // also a meter that is not in the list
    dialog.findChild<QDoubleSpinBox*>("song.tempo")->setValue(138.5);
    dialog.findChild<QLineEdit*>("song.name")->setText("   ");
    dialog.apply(song);
    QCOMPARE(song.tempoBpm, 138.5);
    QCOMPARE(song.name, std::string("Breakwater")); // a song without a name is none
}

void TestWidgets::songDialogTakesATempoMap()
{
    using namespace std::string_literals;
    QTemporaryDir dir;
    const QString good = dir.filePath("song.mid"), bad = dir.filePath("none.mid");
    const std::string track = "\0\xFF\x51\3\x09\x27\xC0"s
                              "\0\xFF\x58\4\6\3\x24\x08"s
                              "\x8F\x00\xFF\x51\3\x0C\x35\x00"s
                              "\0\xFF\x2F\0"s;
    const std::string file = "MThd\0\0\0\6\0\0\0\1\1\xE0MTrk\0\0\0"s + char(track.size()) + track;
    for (const auto& [path, text] : {std::pair(good, file), std::pair(bad, "no MIDI"s)}) {
        QFile out(path);
        QVERIFY(out.open(QIODevice::WriteOnly));
        out.write(text.data(), qint64(text.size()));
    }
    QString next = good;
    Song song{"Breakwater", 76.0, "9/8", "drop D", {{"Rhythm", {}}}};
    SongDialog dialog(
        song, [&] { return next; }, nullptr);
    dialog.findChild<QPushButton*>("song.fromMidi")->click();
    QCOMPARE(dialog.findChild<QLabel*>("song.map")->text(), QString("one of tempo"));
    Song taken = song;
    dialog.apply(taken);
    QCOMPARE(taken.tempoBpm, 100.0);
    QCOMPARE(taken.meter, std::string("6/8"));
    QCOMPARE(taken.tempos, (std::vector<TempoChange>{{4.0, 75.0}}));
    // A file that is none is told, and nothing is lost.
    next = bad;
    dialog.findChild<QPushButton*>("song.fromMidi")->click();
    QVERIFY(dialog.findChild<QLabel*>("song.map")->text().contains("no standard MIDI file"));
    dialog.apply(taken);
    QCOMPARE(taken.tempos.size(), std::size_t(1));
    dialog.findChild<QPushButton*>("song.noChanges")->click();
    dialog.apply(taken);
    QVERIFY(taken.tempos.empty());
}

void TestWidgets::startPageAsks()
{
    StartPage page;
    QSignalSpy bring(&page, &StartPage::bringIn), open(&page, &StartPage::openSession),
        make(&page, &StartPage::makeSession);
    page.findChild<QPushButton*>("start.bringIn")->click();
    page.findChild<QPushButton*>("start.open")->click();
    page.findChild<QPushButton*>("start.new")->click();
    QCOMPARE(bring.count() + 10 * open.count() + 100 * make.count(), 111);
}

void TestWidgets::progressStaysWithinItsLine()
{
    ProgressLine line;
    line.resize(100, 4);
    const auto filled = [&] {
        const QImage image = line.grab().toImage();
        int n = 0;
        for (int x = 0; x < 100; ++x) n += image.pixelColor(x, 2) == ink(Token::Act);
        return n;
    };
    for (const auto& [part, wanted] : {std::pair(-1.0, 0), {0.0, 0}, {0.25, 25}, {1.0, 100}, {7.0, 100}}) {
        line.setPart(part);
        QCOMPARE(filled(), wanted);
    }
}

void TestWidgets::logIsShownInBatches()
{
    QTemporaryDir dir;
    auto folder = SessionFolder::create(dir.filePath("s.gristle").toStdString(), {}, "2026-01-01T00:00:00");
    QVERIFY(bool(folder));
    const auto write = [&](int from, int to) {
        std::ofstream log(folder->path() / "log.jsonl", std::ios::app);
        for (int i = from; i < to; ++i)
            log << "{\"time\":\"2026-01-02T10:00:00\",\"what\":\"note\",\"text\":\"entry " << i
                << "\",\"song\":\"S\",\"part\":\"P\",\"layer\":\"L\"}\n";
    };
    write(0, 1000);
    LogModel model;
    model.readOn(*folder);
    QCOMPARE(model.entries(), std::size_t(1001)); // and the one that made the session
    QCOMPARE(model.rowCount(), 100);
    const auto text = [&](int row, int column) { return model.index(row, column).data().toString(); };
    QCOMPARE(text(0, LogModel::What), QString("entry 999"));
    QCOMPARE(text(0, LogModel::Where), QString("S \u203a P \u203a L"));
    QCOMPARE(text(0, LogModel::Time), QString("2026-01-02 10:00"));
    while (model.canFetchMore({})) model.fetchMore({});
    QCOMPARE(model.rowCount(), 1001);
    QCOMPARE(text(999, LogModel::What), QString("entry 0"));
    write(1000, 1003);
    model.readOn(*folder);
    QCOMPARE(model.rowCount(), 1004);
    QCOMPARE(text(0, LogModel::What), QString("entry 1002"));
    QCOMPARE(text(3, LogModel::What), QString("entry 999"));
    std::ofstream(folder->path() / "log.jsonl", std::ios::app) << "{\"time\":\"20"; // being written just now
    model.readOn(*folder);
    QCOMPARE(model.entries(), std::size_t(1004));
}

void TestWidgets::newerWorkReplacesWaitingWork()
{
    TaskRunner runner;
    std::atomic<int> started{0};
    std::vector<int> answers;
    const auto request = [&](int n) {
        runner.run<int>(
            "work",
            [&started, n](const Progress& p) {
                ++started;
                while (n == 0 && !p.stopped()) QTest::qSleep(1); // the first one is long, and gives way when asked
                return n;
            },
            [&answers](int answer) { answers.push_back(answer); });
    };
    for (int n = 0; n < 5; ++n) request(n);
    QVERIFY(runner.isBusy());
    QVERIFY(QTest::qWaitFor([&] { return !runner.isBusy() && !answers.empty(); }));
    QCOMPARE(answers, std::vector<int>{4}); // only what was asked last
    QVERIFY(started <= 2);                  // the ones between never began
}

void TestWidgets::cancelledWorkNeverAnswers()
{
    TaskRunner runner;
    std::atomic<bool> ended{false};
    bool answered = false;
    runner.run<int>(
        "work",
        [&ended](const Progress& p) {
            while (!p.stopped()) QTest::qSleep(1);
            ended = true;
            return 1;
        },
        [&answered](int) { answered = true; });
    QTest::qWait(20);
    runner.cancel();
    QVERIFY(QTest::qWaitFor([&] { return !runner.isBusy(); }));
    QVERIFY(ended && !answered);
}

void TestWidgets::lateAnswersAreDropped()
{
    std::vector<int> answers;
    {
        TaskRunner runner;
        runner.run<int>(
            "one", [](const Progress&) { return 1; }, [&](int n) { answers.push_back(n); });
        QTest::qSleep(30); // it is done, its answer waits in the event queue
        runner.run<int>(
            "two", [](const Progress&) { return 2; }, [&](int n) { answers.push_back(n); });
        QVERIFY(QTest::qWaitFor([&] { return !runner.isBusy(); }));
        runner.run<int>(
            "three", [](const Progress&) { return 3; }, [&](int n) { answers.push_back(n); });
    } // gone before its answer came
    QTest::qWait(20);
    QCOMPARE(answers, std::vector<int>{2});
}

/// From a task's thread and from an event's slot: a message, and life goes on.
void TestWidgets::whatIsThrownIsTold()
{
    auto* application = qobject_cast<Application*>(qApp);
    QVERIFY(application);
    QStringList told;
    application->whenThrown = [&](const QString& what) { told << what; };
    {
        TaskRunner runner;
        bool answered = false;
        runner.run<int>(
            "a task that throws", [](const Progress&) -> int { throw std::runtime_error("in a task"); },
            [&](int) { answered = true; });
        QVERIFY(QTest::qWaitFor([&] { return !told.isEmpty(); }));
        QVERIFY(!answered && !runner.isBusy());
        int after = 0;
        runner.run<int>(
            "the next", [](const Progress&) { return 7; }, [&](int n) { after = n; });
        QVERIFY(QTest::qWaitFor([&] { return after == 7; }));
        runner.run<int>(
            "late", [](const Progress&) -> int { throw std::runtime_error("too late"); }, [](int) {});
        runner.cancel();
    }
    QTimer::singleShot(0, this, [] { throw std::bad_alloc(); });
    QTimer::singleShot(0, this, [] { throw 5; });
    QTest::qWait(50);
    QCOMPARE(told, QStringList({"in a task", "there is not enough memory", "of an unknown kind"}));
    application->whenThrown = {};
}

void TestWidgets::columnsShareTheirRoom()
{
    QCOMPARE(sharedWidths({50, 100, 50}, 400), (std::vector<int>{100, 200, 100})); // in proportion
    QCOMPARE(sharedWidths({50, 300, 60}, 210), (std::vector<int>{50, 100, 60}));   // the widest gives way
    QCOMPARE(sharedWidths({200, 300, 40}, 240), (std::vector<int>{100, 100, 40})); // down to a common width
    QCOMPARE(sharedWidths({}, 100), std::vector<int>{});
    for (const int room : {1, 7, 333, 1000}) {
        const auto widths = sharedWidths({17, 90, 4, 333, 51}, room);
        QCOMPARE(std::accumulate(widths.begin(), widths.end(), 0), room);
        QVERIFY(std::ranges::all_of(widths, [](int w) { return w >= 0; }));
    }
}

void TestWidgets::typicalValuesAreGreyed()
{
    const NodeType& type = *findNodeType("loading");
    ControlFigures figures;
    QSignalSpy changed(&figures, &ControlFigures::changed);
    figures.setNode(&type, {}, {});
    auto* henry = figures.findChild<QLineEdit*>("control.henry");
    QVERIFY(henry);
    QCOMPARE(henry->text(), QString());
    QCOMPARE(henry->placeholderText(), QString::fromStdString(numberText(pickupKinds()[0].pickup.inductanceH)));
    figures.setNode(&type, {{"pickup", std::string("hot")}}, {});
    QCOMPARE(henry->placeholderText(), QString::fromStdString(numberText(pickupKinds()[3].pickup.inductanceH)));
    henry->setText("3.3"); // one's own, in ink
    emit henry->editingFinished();
    QCOMPARE(changed.takeLast().at(1).toString(), QString("3.3"));
    henry->clear(); // and the way back
    emit henry->editingFinished();
    QCOMPARE(changed.takeLast().at(1).toString(), QString("0"));
    auto* cable = figures.findChild<QLineEdit*>("control.cable");
    QVERIFY(cable && !cable->text().isEmpty() && cable->placeholderText().isEmpty());
}

int main(int argc, char** argv)
{
    Application application(argc, argv);
    TestWidgets test;
    return QTest::qExec(&test, argc, argv);
}

#include "test_widgets.moc"
