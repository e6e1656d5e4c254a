#include "app/benches/rig/rig_bench.h"
#include "app/theme/theme.h"
#include "support/demo_copy.h"
#include "support/rig_window.h"

#include <QApplication>
#include <QDoubleSpinBox>
#include <QLabel>
#include <QRegularExpression>
#include <QTemporaryDir>
#include <QTimer>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;

/// The ladder of the Rig bench in a real window: build, move, bypass, what is read of a stage.
class TestRigLadder : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void buildMoveBypass();
    void ceilingsAndNoiseOfTheStage();
    void nothingOverlapsInASmallWindow();
    void theOutputIsTurnedUnderFullScale();
    void keysOnTheLadder();
    void stagesAreMovedOnTheLadder();
    void everyStageInTheWindow();

private:
    QString demo() const { return dir_.filePath("demo.gristle"); }
    QTemporaryDir dir_;
};

void TestRigLadder::initTestCase() { QVERIFY(test::copyDemo(demo().toStdString())); }

void TestRigLadder::buildMoveBypass()
{
    test::RigWindow b(demo());
    b.type("gain db=-3");
    b.action("addStage", "Gain")->trigger();
    QCOMPARE(b.types(), QStringList({"gain", "gain"}));
    QAction* const boost = b.action("addStage", "Boost");
    boost->trigger();
    QCOMPARE(b.types(), QStringList({"gain", "gain", "boost"})); // behind the chosen one, and chosen
    b.click("stageEarlier");
    b.click("stageEarlier");
    QCOMPARE(b.types(), QStringList({"boost", "gain", "gain"}));
    QVERIFY(!b.find<QPushButton>("stageEarlier")->isEnabled());
    b.settle();
    const double with = b.dbu("boost") - b.dbu("input");
    QVERIFY2(with > 9.0 && with < 12.1, qPrintable(QString::number(with))); // 12 dB, as far as its supply goes
    b.click("bypassStage");
    b.settle();
    QCOMPARE(b.dbu("boost"), b.dbu("input"));
    b.click("removeStage");
    QCOMPARE(b.types(), QStringList({"gain", "gain"}));
    b.settle();
    for (int i = 0; i < 3; ++i) b.session().undoStack().undo();
    QVERIFY(!b.chain()[0].bypass && b.types().contains("boost"));
    b.settle();
}

void TestRigLadder::ceilingsAndNoiseOfTheStage()
{
    test::RigWindow b(demo());
    b.type("gate threshold=-60 depth=40 | boost gain=6 | gain db=0");
    const auto readings = [&b] { return b.find<QLabel>("stageReadings")->text(); };
    const auto figures = [&] { // of what is read: room, noise at rest, while playing
        std::vector<double> out;
        auto found = QRegularExpression("([\\x{2212}-]?\\d+\\.\\d)").globalMatch(readings());
        while (found.hasNext()) out.push_back(found.next().captured(1).replace(QChar(0x2212), '-').toDouble());
        return out;
    };
    emit b.find<Ladder>("ladder")->choose(0);
    b.settle();
    QVERIFY2(readings().contains("no ceiling"), qPrintable(readings()));
    QCOMPARE(figures().size(), std::size_t(2));
    QVERIFY2(figures()[1] - figures()[0] > 30.0, qPrintable(readings())); // shut at rest, open while somebody plays
    emit b.find<Ladder>("ladder")->choose(1);
    QVERIFY2(readings().contains("under its ceiling"), qPrintable(readings()));
    const double room = figures()[0];
    b.type("gain db=20 | boost gain=6 | gain db=0");
    QVERIFY2(readings().contains("into its ceiling"), qPrintable(readings()));
    QVERIFY2(std::abs(room + figures()[0] - 20.0) < 0.15, qPrintable(QString("%1: %2").arg(room).arg(readings())));
    b.click("bypassStage");
    b.settle();
    QVERIFY2(readings().contains("bypassed"), qPrintable(readings()));
}

void TestRigLadder::nothingOverlapsInASmallWindow()
{
    test::RigWindow b(demo());
    b.window.resize(1024, 700);
    b.type("boost gain=6 | { drive drive=5 ; gain db=-9 } gain=-2 | limiter ceiling=4");
    b.type("gate threshold=-35 | compressor | softclip drive=6 | amplifier drive=3 | eq | delay | reverb | limiter");
    const QLabel* readings = b.find<QLabel>("stageReadings");
    const QRect ladder = b.find<Ladder>("ladder")->geometry(), told = readings->geometry(),
                line = b.find<QLineEdit>("recallLine")->geometry();
    QVERIFY2(!ladder.intersects(told) && ladder.bottom() < told.top() && told.bottom() < line.top(),
             qPrintable(QString("%1 %2 %3").arg(ladder.bottom()).arg(told.top()).arg(line.top())));
    QVERIFY(told.height() >= readings->heightForWidth(told.width()));
}

void TestRigLadder::theOutputIsTurnedUnderFullScale()
{
    test::RigWindow b(demo());
    b.type("gain db=0");
    auto* output = b.find<QDoubleSpinBox>("rigOutput");
    output->setValue(30.0);
    emit output->editingFinished();
    b.settle();
    auto* turn = b.window.findChild<QPushButton*>("remedy.rig.output_over");
    QVERIFY(turn);
    QCOMPARE(b.window.findChild<RigBench*>()->state().line, QString("1 to fix"));
    turn->click();
    b.settle();
    QVERIFY2(output->value() < 15.0, qPrintable(QString::number(output->value())));
    QVERIFY(!b.window.findChild<QPushButton*>("remedy.rig.output_over")); // and that is enough
    QVERIFY(!b.window.findChild<RigBench*>()->state().wants);
}

void TestRigLadder::keysOnTheLadder()
{
    test::RigWindow b(demo());
    b.type("gain db=1 | gain db=2 | { gain db=-6 ; gain db=-12 }");
    auto* ladder = b.find<Ladder>("ladder");
    ladder->setFocus();
    QTest::keyClick(ladder, Qt::Key_Right);
    QTest::keyClick(ladder, Qt::Key_Right);
    QCOMPARE(ladder->chosen(), 2);
    QTest::keyClick(ladder, Qt::Key_Return); // into its first lane
    b.settle();
    QVERIFY(b.find<QPushButton>("leaveLane")->isVisible());
    QVERIFY(std::abs(b.dbu("gain") - b.dbu("input") + 6.0) < 0.11);
    b.click("leaveLane");
    QVERIFY(!b.find<QPushButton>("leaveLane")->isVisible());
    QCOMPARE(ladder->chosen(), 2);
    b.settle();
}

void TestRigLadder::stagesAreMovedOnTheLadder()
{
    test::RigWindow b(demo());
    b.type("gain db=-3 | boost gain=6 | polarity");
    auto* ladder = b.find<Ladder>("ladder");
    const auto middle = [&](int stage) { // of its column: one for what comes in before, one for what goes out behind
        return QPoint(int(44.0 + (double(ladder->width()) - 48.0) * (double(stage) + 1.5) / 5.0), ladder->height() / 2);
    };
    const auto drag = [&](int from, int to) {
        QTest::mousePress(ladder, Qt::LeftButton, {}, middle(from));
        QTest::mouseMove(ladder, middle(to));
        QMouseEvent moved(QEvent::MouseMove, middle(to), ladder->mapToGlobal(middle(to)), Qt::NoButton, Qt::LeftButton,
                          {});
        QApplication::sendEvent(ladder, &moved);
        QTest::mouseRelease(ladder, Qt::LeftButton, {}, middle(to));
    };
    drag(0, 2);
    QCOMPARE(b.types(), QStringList({"boost", "polarity", "gain"}));
    QCOMPARE(ladder->chosen(), 2);
    drag(1, 1); // a click moves nothing
    QCOMPARE(b.types(), QStringList({"boost", "polarity", "gain"}));
    QCOMPARE(ladder->chosen(), 1);
    ladder->setFocus();
    QTest::keyClick(ladder, Qt::Key_Left, Qt::ControlModifier);
    QCOMPARE(b.types(), QStringList({"polarity", "boost", "gain"}));
    QTest::keyClick(ladder, Qt::Key_Left, Qt::ControlModifier); // it is the first
    QCOMPARE(b.types(), QStringList({"polarity", "boost", "gain"}));
    QTest::keyClick(ladder, Qt::Key_Delete);
    QCOMPARE(b.types(), QStringList({"boost", "gain"}));
    QTimer::singleShot(0, &b.window, [&] { // the menu has the keys to itself
        auto* menu = b.find<QPushButton>("addStage")->menu();
        QVERIFY(menu->isVisible());
        b.action("addStage", "Polarity")->trigger();
        menu->close();
    });
    QTest::keyClick(ladder, Qt::Key_Insert);
    QCOMPARE(b.types(), QStringList({"boost", "polarity", "gain"}));
    b.settle();
}

/// Added from the menu; each of its controls takes a value, which the recall line says and one undo takes back.
void TestRigLadder::everyStageInTheWindow()
{
    test::RigWindow b(demo());
    for (const NodeType& node : nodeTypes()) {
        b.type("gain db=-3", false);
        b.action("addStage", QString::fromStdString(node.title))->trigger();
        QCOMPARE(b.types(), QStringList({"gain", QString::fromStdString(node.type)}));
        for (const ParameterSpec& spec : node.parameters)
            if (spec.kind != ParameterKind::File) b.tryControl(node, spec);
    }
    b.settle();
}

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    TestRigLadder test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_rig_ladder.moc"
