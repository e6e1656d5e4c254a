// What leaves the session: the menu's exports are the command line's, bit by bit.

#include "app/benches/log/log_bench.h"
#include "app/shell/exporter.h"
#include "app/theme/theme.h"
#include "core/session/session_folder.h"
#include "support/demo_copy.h"
#include "support/run_cli.h"
#include "support/window_bench.h"

#include <QAction>
#include <QApplication>
#include <QFile>
#include <QPushButton>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

class TestExport : public QObject {
    Q_OBJECT
private slots:
    void initTestCase()
    {
        Theme::instance().install(*qApp);
        QVERIFY(test::copyDemo(path("demo.gristle").toStdString()));
    }
    void theMixIsTheCommandLines_data();
    void theMixIsTheCommandLines();
    void theMenuExports();
    void layersAreThemselves();
    void theSheetIsPrinted();
    void aMixThatClipsIsTold();

private:
    QString path(const QString& name) const { return dir_.filePath(name); }
    static QByteArray bytes(const QString& file)
    {
        QFile f(file);
        return f.open(QIODevice::ReadOnly) ? f.readAll() : QByteArray();
    }
    static QAction* action(WindowBench& b, const QString& begin)
    {
        for (QAction* a : b.window.actions())
            if (a->text().startsWith(begin)) return a;
        return nullptr;
    }
    QTemporaryDir dir_;
};

void TestExport::theMixIsTheCommandLines_data()
{
    QTest::addColumn<bool>("isFloat");
    QTest::newRow("24 bit") << false;
    QTest::newRow("float") << true;
}

/// Every part of the demo, also after the benches have rendered it for themselves.
void TestExport::theMixIsTheCommandLines()
{
    QFETCH(bool, isFloat);
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.window.showBench("Blend");
    b.settle();
    SessionModel& session = b.window.session();
    const Song& song = session.document().songs[0];
    for (std::size_t p = 0; p < song.parts.size(); ++p) {
        if (song.parts[p].layers.empty() || !song.parts[p].layers[0].chosenTake()) continue;
        if (p > 0 && !isFloat) break; // the format is one thing
        session.setPath({0, p, 0});
        b.settle();
        b.window.exporter().writeMix(path("window.wav"), isFloat);
        b.settle();
        QStringList call{"mix",       path("cli.wav"),
                         "--session", path("demo.gristle"),
                         "--song",    QString::fromStdString(song.name),
                         "--part",    QString::fromStdString(song.parts[p].name)};
        if (isFloat) call << "--float";
        const auto ran = test::run(call);
        QVERIFY2(ran.code == 0, ran.error.constData());
        const QByteArray own = bytes(path("window.wav"));
        QVERIFY(own.size() > 100000);
        QVERIFY2(own == bytes(path("cli.wav")), qPrintable(QString::fromStdString(song.parts[p].name)));
    }
}

void TestExport::theMenuExports()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    b.savePath = path("by the menu"); // the ending is added
    QVERIFY(action(b, "Export the stereo mix"));
    action(b, "Export the stereo mix")->trigger();
    b.settle();
    QVERIFY(bytes(path("by the menu.wav")).startsWith("RIFF"));
    QTemporaryDir folder;
    b.window.dialogs().folder = [&](const QString&) { return folder.path(); };
    action(b, "Export each layer")->trigger();
    b.settle();
    QCOMPARE(QDir(folder.path()).entryList({"*.wav"}).size(), int(b.window.session().part()->layers.size()));
    b.window.showBench("Log");
    b.savePath = path("log.csv");
    b.find<QPushButton>("saveCsv")->click();
    QVERIFY(bytes(path("log.csv")).contains("Mix exported"));
    b.savePath.clear(); // the dialog was left
    const auto entries = b.window.session().folder().readLog().size();
    action(b, "Export the stereo mix")->trigger();
    b.settle();
    QCOMPARE(b.window.session().folder().readLog().size(), entries);
}

/// Each by itself, placed: together they are the mix.
void TestExport::layersAreThemselves()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    QTemporaryDir folder;
    b.window.exporter().writeLayers(folder.path(), true);
    b.settle();
    b.window.exporter().writeMix(path("whole.wav"), true);
    b.settle();
    const auto mix = readRecording(path("whole.wav").toStdString());
    std::vector<double> sum(mix->audio.frames());
    for (const QString& name : QDir(folder.path()).entryList({"*.wav"})) {
        const auto layer = readRecording((folder.path() + "/" + name).toStdString());
        const auto x = std::as_const(layer->audio).channel(0);
        for (std::size_t i = 0; i < x.size(); ++i) sum[i] += double(x[i]);
    }
    double worst = 0.0;
    for (std::size_t i = 0; i < sum.size(); ++i)
        worst = std::max(worst, std::abs(sum[i] - double(mix->audio.channel(0)[i])));
    QVERIFY2(worst < 1e-6, qPrintable(QString::number(worst)));
}

void TestExport::theSheetIsPrinted()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.window.showBench("Log");
    b.settle();
    for (const char* name : {"sheet.html", "sheet.pdf"}) {
        b.savePath = path(name);
        b.find<QPushButton>("saveSheet")->click();
    }
    QVERIFY(bytes(path("sheet.html")).contains("Night Ferry"));
    const QByteArray pdf = bytes(path("sheet.pdf"));
    QVERIFY(pdf.startsWith("%PDF-") && pdf.trimmed().endsWith("%%EOF"));
    QVERIFY(pdf.contains("/Type /Page")); // a page with something on it
    QVERIFY(pdf.size() > 4000);
}

void TestExport::aMixThatClipsIsTold()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    b.window.session().editPart("Louder", "gain", [](Part& part) {
        for (Layer& l : part.layers) l.gainDb = 40.0;
    });
    b.window.exporter().writeMix(path("loud.wav"), false);
    b.settle();
    QVERIFY2(b.window.notice().contains("full scale") && b.window.notice().contains("loud.wav"),
             qPrintable(b.window.notice()));
    b.window.exporter().writeMix(path("loud.wav"), true); // as float it holds
    b.settle();
    b.window.session().undoStack().undo();
}

QTEST_MAIN(TestExport)
#include "test_export.moc"
