// How a window begins: the demo and the recent sessions on the start page, a session that fell twice, the place and the
// bench it was left at, and what the style draws for dialogs.

#include "app/models/preferences.h"
#include "app/theme/theme.h"
#include "support/demo_copy.h"
#include "support/window_bench.h"

#include <QPushButton>
#include <QScreen>
#include <QStyle>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::app;
using gristle::test::WindowBench;

class TestStart : public QObject {
    Q_OBJECT
private slots:
    void init();
    void theDemoIsOneClickAway();
    void whatFellTwiceIsNotOpenedByItself();
    void placeAndBenchAreKept();
    void aWindowFitsItsScreen();
    void dialogsWearTheHousesLook();

private:
    static QList<QPushButton*> recents(const MainWindow& window);
    std::unique_ptr<QTemporaryDir> home_;
};

/// A new person each time.
void TestStart::init()
{
    home_ = std::make_unique<QTemporaryDir>();
    qputenv("GRISTLE_HOME", home_->filePath("home").toUtf8());
}

QList<QPushButton*> TestStart::recents(const MainWindow& window)
{
    QList<QPushButton*> out;
    for (auto* b : window.findChildren<QPushButton*>("start.recent"))
        if (b->isVisible()) out << b;
    return out;
}

void TestStart::theDemoIsOneClickAway()
{
    {
        WindowBench b;
        QVERIFY(recents(b.window).isEmpty());
        auto* demo = b.find<QPushButton>("start.demo");
        demo->click();
        QVERIFY(!demo->isEnabled()); // it is being made: once is enough
        QTRY_VERIFY_WITH_TIMEOUT(b.window.session().isOpen(), 240000);
        QVERIFY(b.window.session().take());
        b.settle();
        b.window.session().close();
        QTRY_COMPARE(recents(b.window).size(), qsizetype(1));
        recents(b.window)[0]->click(); // which takes the button itself away
        QVERIFY(b.window.session().isOpen());
    }
    WindowBench again;
    QTRY_COMPARE(recents(again.window).size(), qsizetype(1));
    again.find<QPushButton>("start.demo")->click(); // there already: opened, not made
    QVERIFY(again.window.session().isOpen());
}

void TestStart::whatFellTwiceIsNotOpenedByItself()
{
    const QString folder = home_->filePath("fell.gristle");
    QVERIFY(test::copyDemo(folder.toStdString()));
    for (int i = 0; i < 2; ++i) rememberOpening(folder); // and was never through
    WindowBench b;
    b.window.openPaths({folder});
    QVERIFY(!b.window.session().isOpen());
    QVERIFY2(b.window.notice().contains("ended twice"), qPrintable(b.window.notice()));
    b.window.openPaths({folder}); // asked for again: it is
    QVERIFY(b.window.session().isOpen());
    QTRY_COMPARE(failedOpenings(folder), 0);
}

void TestStart::placeAndBenchAreKept()
{
    const QString folder = home_->filePath("kept.gristle");
    QVERIFY(test::copyDemo(folder.toStdString()));
    const QSize size(1100, 720);
    {
        MainWindow window;
        window.restorePlace();
        window.resize(size);
        window.show();
        QTest::qWait(250);
        window.openPaths({folder});
        window.showBench("Blend");
        window.close();
    }
    MainWindow window;
    window.restorePlace();
    window.show();
    QTest::qWait(250);
    const QSize room = window.screen()->availableSize(), least(1024, 700);
    QCOMPARE(window.size(), size.boundedTo(room).expandedTo(least));
    window.openPaths({folder});
    QCOMPARE(window.benchName(), QString("Blend"));
}

void TestStart::aWindowFitsItsScreen()
{
    {
        MainWindow large;
        large.resize(4000, 3000);
        large.move(2000, 1500);
        rememberWindowPlace({large.saveGeometry(), {}});
    }
    MainWindow window;
    window.restorePlace();
    window.show();
    QTest::qWait(250);
    const QRect room = window.screen()->availableGeometry(), own = window.frameGeometry();
    QVERIFY(own.left() >= room.left() && own.top() >= room.top());
    QVERIFY(own.width() <= std::max(room.width(), window.minimumSizeHint().width()));
    QVERIFY(own.height() <= std::max(room.height(), window.minimumSizeHint().height()));
}

/// What dialogs show is drawn with one ink, in both lamps; their buttons are words alone.
void TestStart::dialogsWearTheHousesLook()
{
    const QStyle* style = QApplication::style();
    QCOMPARE(style->styleHint(QStyle::SH_DialogButtonBox_ButtonsHaveIcons), 0);
    for (const Lamp lamp : {Lamp::Off, Lamp::Paper}) {
        Theme::instance().setLamp(lamp);
        for (const auto which :
             {QStyle::SP_DirIcon, QStyle::SP_FileIcon, QStyle::SP_FileDialogNewFolder, QStyle::SP_FileDialogBack,
              QStyle::SP_FileDialogToParent, QStyle::SP_FileDialogListView, QStyle::SP_FileDialogDetailedView,
              QStyle::SP_ComputerIcon, QStyle::SP_DriveHDIcon, QStyle::SP_LineEditClearButton}) {
            const QImage picture = style->standardIcon(which).pixmap(16, 16).toImage();
            QVERIFY(!picture.isNull());
            int drawn = 0;
            for (int y = 0; y < picture.height(); ++y)
                for (int x = 0; x < picture.width(); ++x) {
                    const QColor c = picture.pixelColor(x, y);
                    if (c.alpha() < 100) continue;
                    ++drawn;
                    QVERIFY(c.hsvSaturation() < 60); // a stock folder is coloured
                }
            QVERIFY2(drawn > 8, qPrintable(QStringLiteral("picture %1: %2 dots").arg(int(which)).arg(drawn)));
        }
    }
}

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    TestStart test;
    return QTest::qExec(&test, argc, argv);
}

#include "test_start.moc"
