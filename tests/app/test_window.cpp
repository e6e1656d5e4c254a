#include "app/benches/blend/blend_bench.h"
#include "app/benches/log/log_bench.h"
#include "app/benches/paged_bench.h"
#include "app/benches/rig/rig_bench.h"
#include "app/shell/exporter.h"
#include "app/shell/import_dialog.h"
#include "app/shell/spine.h"
#include "app/theme/theme.h"
#include "core/advice/stereo_findings.h"
#include "core/sim/performance.h"
#include "support/demo_copy.h"
#include "support/signals.h"
#include "support/window_bench.h"

#include <QApplication>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QMimeData>
#include <QPushButton>
#include <QTableWidget>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

namespace {

/// One riff, played twice: two DI takes as a guitarist would have them.
std::vector<float> riff(std::uint32_t seed, double gainDb)
{
    std::vector<WrittenNote> part;
    for (int i = 0; i < 16; ++i) part.push_back({i * 0.5, 0.5, {{0, i % 4 ? 0 : 3}, {1, 2}}, 0.8, i % 4 != 0});
    PlayingStyle style;
    style.seed = seed;
    style.leadInS = 1.0;
    SimulatedInterface interface;
    interface.gainDb = gainDb;
    interface.seed = seed;
    return digitise(perform(part, 120.0, standardTuning(), style, 48000.0).volts, interface, 48000.0);
}

} // namespace

class TestWindow : public QObject {
    Q_OBJECT
private slots:
    void initTestCase();
    void theWholeStory();
    void undoGoesBackAndIsLogged();
    void badFileIsNamedAndNothingChanges();
    void missingAudioIsToldAndTheRestOpens();
    void keysGoEverywhere();
    void figuresThatAreNoneAreRefused();
    void exportIntoNoFolderIsTold();
    void guessesFromNames_data();
    void guessesFromNames();
    void everyControlHasANameAndFits_data();
    void everyControlHasANameAndFits();
    void textIsReadable();
    void rigEditsBecomeVersions();
    void startingPointsAreOneStepAway();
    void aControlIsHeardAtOnce();
    void dropBringsIn();

private:
    static void tableFits(const QTableView& table, bool all);
    QString path(const char* name) const { return dir_.filePath(name); }
    QTemporaryDir dir_;
};

void TestWindow::initTestCase()
{
    test::writeWav(dir_, "Riff left.wav", {riff(1, -6.0)}, 48000, SampleFormat::Int24);
    test::writeWav(dir_, "Riff right.wav", {riff(2, 0.0)}, 48000, SampleFormat::Int24);
    QVERIFY(test::copyDemo(path("demo.gristle").toStdString()));
}

void TestWindow::theWholeStory()
{
    WindowBench b;
    b.newPath = path("story.gristle");
    b.window.bringIn({path("Riff left.wav"), path("Riff right.wav")});
    b.settle();
    SessionModel& session = b.window.session();
    QVERIFY(session.isOpen());
    const auto layers = session.document().songs[0].parts[0].layers;
    QCOMPARE(layers.size(), std::size_t(2));
    QCOMPARE(layers[0].place, -100.0); // guessed from the names
    QCOMPARE(layers[1].place, 100.0);

    // Level: the number on the screen is the one that core measures of the file.
    const auto measured = measureFile(path("Riff left.wav").toStdString(), {});
    QCOMPARE(b.find<QLabel>("gainChange")->text(), QString::fromStdString(signedText(*measured->advice.gainChangeDb)));

    // Rig: the layer has one; it is heard looped, at matched loudness against the dry DI.
    b.window.showBench("Rig");
    b.settle();
    QVERIFY(!session.layer()->rig.empty());
    QCOMPARE(b.window.audition().current().slots_.size(), std::size_t(2));
    b.window.audition().setPlaying(true);
    double loudness[2];
    for (std::size_t slot = 0; slot < 2; ++slot) {
        b.window.audition().setSlot(slot);
        b.device->advance(24000);
        b.device->forget();
        const auto bars = std::size_t(4 * session.loop().barSeconds() * 48000.0);
        b.device->advance(bars);
        loudness[slot] =
            *integratedLoudness(test::recording({b.device->heardLeft(), b.device->heardRight()}, 48000).audio, 48000.0);
    }
    QVERIFY2(std::abs(loudness[0] - loudness[1]) < 0.1,
             qPrintable(QString::number(loudness[0] - loudness[1]))); // goals: 0.1 LU
    b.window.audition().setPlaying(false);
    b.device->advance(9600);

    // Blend: matched, measured on the rendered sum, the same as offline.
    b.window.showBench("Blend");
    b.settle();
    b.find<QPushButton>("matchLoudness")->click();
    b.settle();
    auto* blend = b.window.bench<BlendBench>();
    QVERIFY(blend->report().has_value());
    QVERIFY(std::abs(*blend->report()->layers[0].integratedLufs - *blend->report()->layers[1].integratedLufs) < 0.05);
    for (std::size_t i = 0; i < 2; ++i) { // thin or thick by its own figure, in words where it is not even
        const auto& told = blend->report()->layers[i];
        const QString shown = b.find<QTableWidget>("layerTable")->item(int(i), 4)->text();
        QVERIFY2(shown.endsWith(QString::fromStdString(figureText(*told.bodyDb, 1))), qPrintable(shown));
        const Body body = bodyOf(*told.bodyDb, *usualBody(blend->report()->layers));
        QCOMPARE(shown.startsWith("thick"), body == Body::Thick);
        QCOMPARE(shown.startsWith("thin"), body == Body::Thin);
    }
    // Export: the window's figure is that of the file (that the file is the command line's: test_export).
    b.window.exporter().writeMix(path("story mix.wav"), true);
    b.settle();
    const auto written = measureStereo(path("story mix.wav").toStdString());
    QVERIFY(b.find<QLabel>("blendReadings")
                ->text()
                .contains(">" + QString::fromStdString(figureText(*written->monoLossDb)) + "<"));
    const auto exported = measureFile(path("story mix.wav").toStdString(), {});
    QVERIFY(session.folder().readLog().back().text.find(figureText(*exported->loudness.integratedLufs) + " LUFS") !=
            std::string::npos);
    QTemporaryDir single;
    b.window.exporter().writeLayers(single.path(), false);
    b.settle();
    QCOMPARE(QDir(single.path()).entryList({"*.wav"}).size(), 2);

    // All of it is in the log and on the sheet; closed and opened again it is as it was left.
    QVERIFY(b.window.exporter().writeSheet(path("sheet.html"), b.window.bench<LogBench>()->sheetHtml()));
    QVERIFY(b.window.exporter().writeSheet(path("sheet.pdf"), b.window.bench<LogBench>()->sheetHtml()));
    QFile pdf(path("sheet.pdf"));
    QVERIFY(pdf.open(QIODevice::ReadOnly));
    const QByteArray pages = pdf.readAll();
    QVERIFY(pages.startsWith("%PDF-") && pages.trimmed().endsWith("%%EOF") && pages.size() > 4000);
    const auto html = b.window.bench<LogBench>()->sheetHtml();
    for (const char* text : {"Riff", "Left 1", "Right 1", "100 left", "amplifier", "Mix exported"})
        QVERIFY2(html.contains(text), text);
    const SessionDocument left = session.document();
    session.close();
    QVERIFY(!session.isOpen());
    b.window.openPaths({b.newPath});
    QVERIFY(session.document() == left);
}

void TestWindow::undoGoesBackAndIsLogged()
{
    WindowBench b;
    QVERIFY(QFile::exists(path("demo.gristle")));
    b.window.openPaths({path("demo.gristle")});
    b.window.showBench("Blend");
    b.settle();
    SessionModel& session = b.window.session();
    const SessionDocument before = session.document();
    const auto entries = session.folder().readLog().size();
    auto* table = b.find<QTableWidget>("layerTable");
    table->item(0, 1)->setText("-40");
    QCOMPARE(session.layer()->place, -40.0);
    QVERIFY(QFile(path("demo.gristle/session.json")).open(QIODevice::ReadOnly));
    QCOMPARE(SessionFolder::open(path("demo.gristle").toStdString(), Access::Read)
                 ->document()
                 .songs[0]
                 .parts[0]
                 .layers[0]
                 .place,
             -40.0); // saved at once
    session.undoStack().undo();
    QVERIFY(session.document() == before);
    session.undoStack().redo();
    QCOMPARE(session.layer()->place, -40.0);
    session.undoStack().undo();
    QCOMPARE(session.folder().readLog().size(), entries + 4); // nothing is erased there
    b.settle();
}

void TestWindow::badFileIsNamedAndNothingChanges()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    const SessionDocument before = b.window.session().document();
    const auto audio = QDir(path("demo.gristle/audio")).entryList(QDir::Files).size();
    QFile bad(path("renamed picture.wav"));
    QVERIFY(bad.open(QIODevice::WriteOnly));
    bad.write("not a recording");
    bad.close();
    b.window.bringIn({path("Riff left.wav"), bad.fileName()});
    b.settle();
    QVERIFY(b.window.notice().contains("renamed picture.wav"));
    QVERIFY(b.window.session().document() == before);
    const auto good = riff(3, 0.0);
    test::writeWav(dir_, "nan inside.wav", {good}, 48000);
    test::putNan(path("nan inside.wav").toStdString(),
                 std::int64_t(good.size()) - 100); // opens, and is bad only inside
    b.window.bringIn({path("Riff left.wav"), path("nan inside.wav")});
    b.settle();
    QVERIFY(b.window.notice().contains("nan inside.wav"));
    QVERIFY(b.window.session().document() == before);
    QCOMPARE(QDir(path("demo.gristle/audio")).entryList(QDir::Files).size(), audio); // no copy stays behind
}

void TestWindow::missingAudioIsToldAndTheRestOpens()
{
    const QString copy = path("with a hole.gristle");
    std::filesystem::copy(path("demo.gristle").toStdString(), copy.toStdString(),
                          std::filesystem::copy_options::recursive);
    QVERIFY(QFile::remove(copy + "/audio/Car Deck, Rhythm A, Left 1.wav"));
    WindowBench b;
    b.window.openPaths({copy});
    b.settle();
    QVERIFY(b.window.session().isOpen());
    QCOMPARE(b.window.session().missing().size(), std::size_t(1));
    QVERIFY(b.window.findChild<QWidget*>("finding.file.unreadable"));
    b.window.showBench("Log");
    QVERIFY(b.window.findChild<QWidget*>("finding.session.missing"));
    b.window.session().setPath({0, 0, 1});
    b.window.showBench("Level");
    b.settle();
    QVERIFY(b.window.session().measurements().inHand());
}

void TestWindow::keysGoEverywhere()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    b.window.activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(&b.window));
    b.window.setFocus();
    QTest::keyClick(&b.window, Qt::Key_7);
    QCOMPARE(b.window.benchName(), QString("Blend"));
    QTest::keyClick(&b.window, Qt::Key_4);
    QCOMPARE(b.window.benchName(), QString("Cab"));
    QTest::keyClick(&b.window, Qt::Key_3);
    QCOMPARE(b.window.benchName(), QString("Rig"));
    b.settle();
    QTest::keyClick(&b.window, Qt::Key_Space);
    QVERIFY(b.window.audition().isPlaying());
    const auto slot = b.window.audition().slot();
    QTest::keyClick(&b.window, Qt::Key_X);
    QVERIFY(b.window.audition().slot() != slot);
    QTest::keyClick(&b.window, Qt::Key_Space);
    QVERIFY(!b.window.audition().isPlaying());
    QTest::keyClick(&b.window, Qt::Key_L, Qt::ControlModifier);
    QCOMPARE(b.window.benchName(), QString("Log"));
    auto* note = b.find<QLineEdit>("note");
    QVERIFY(note->hasFocus());
    QTest::keyClicks(note, "strings 2 weeks old"); // digits and X are letters here
    QTest::keyClick(note, Qt::Key_Return);
    QCOMPARE(b.window.benchName(), QString("Log"));
    QCOMPARE(b.window.session().folder().readLog().back().text, std::string("strings 2 weeks old"));
    QTest::keyClick(&b.window, Qt::Key_J, Qt::ControlModifier);
    auto* line = b.window.findChild<QLineEdit*>("goToLine");
    QVERIFY(line);
    QTest::keyClicks(line, "breakwater right");
    QTest::keyClick(line, Qt::Key_Return);
    QCOMPARE(b.window.session().song()->name, std::string("Breakwater"));
    QCOMPARE(b.window.session().layer()->name, std::string("Right"));
    b.settle();
}

void TestWindow::figuresThatAreNoneAreRefused()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.window.showBench("Rig");
    b.settle();
    const auto before = b.window.session().document();
    auto* edit = b.find<QLineEdit>("control.drive");
    const QString was = edit->text();
    edit->setText("loud");
    emit edit->editingFinished();
    QCOMPARE(edit->text(), was);
    QVERIFY(b.window.notice().contains("drive=loud"));
    auto* line = b.find<QLineEdit>("recallLine");
    line->setText("drive | warp");
    emit line->editingFinished();
    QVERIFY(b.window.notice().contains("warp"));
    b.window.showBench("Blend");
    auto* table = b.find<QTableWidget>("layerTable");
    table->item(0, 1)->setText("4000");
    QVERIFY(b.window.session().document() == before);
    b.settle();
}

void TestWindow::exportIntoNoFolderIsTold()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    const auto entries = b.window.session().folder().readLog().size();
    b.window.exporter().writeMix(path("no such folder/mix.wav"), false);
    b.settle();
    QVERIFY(b.window.notice().contains("does not exist"));
    QCOMPARE(b.window.session().folder().readLog().size(), entries);
}

void TestWindow::guessesFromNames_data()
{
    QTest::addColumn<QStringList>("files");
    QTest::addColumn<QList<double>>("places");
    QTest::addColumn<QStringList>("layers");
    QTest::addColumn<QString>("part");
    QTest::newRow("words") << QStringList{"chorus LEFT.wav", "chorus right.wav"} << QList<double>{-100, 100}
                           << QStringList{"Left 1", "Right 1"} << "Chorus";
    QTest::newRow("letters") << QStringList{"verse_L_02.wav", "verse_R_01.wav"} << QList<double>{-100, 100}
                             << QStringList{"Left 1", "Right 1"} << "Verse";
    QTest::newRow("no sides, two files") << QStringList{"take 1.wav", "take 2.wav"} << QList<double>{-100, 100}
                                         << QStringList{"Left 1", "Right 1"} << "Rhythm";
    QTest::newRow("one file") << QStringList{"solo.wav"} << QList<double>{0} << QStringList{"Middle 1"} << "Solo";
    QTest::newRow("four") << QStringList{"riff L1.wav", "riff L2.wav", "riff R1.wav", "riff R2.wav"}
                          << QList<double>{-100, -100, 100, 100}
                          << QStringList{"Left 1", "Left 2", "Right 1", "Right 2"} << "Riff";
}

void TestWindow::guessesFromNames()
{
    QFETCH(QStringList, files);
    QFETCH(QList<double>, places);
    QFETCH(QStringList, layers);
    QFETCH(QString, part);
    SessionModel none;
    const auto rows = guessRows(files, none);
    for (int i = 0; i < files.size(); ++i) {
        QCOMPARE(rows[std::size_t(i)].place, places[i]);
        QCOMPARE(rows[std::size_t(i)].layer, layers[i]);
        QCOMPARE(rows[std::size_t(i)].part, part);
    }
}

void TestWindow::everyControlHasANameAndFits_data()
{
    QTest::addColumn<QSize>("size");
    QTest::newRow("reference") << QSize(1280, 800);
    QTest::newRow("least") << QSize(1024, 700);
}

/// Each text has its room. In a small window a table may have to cut some: then no column beside has room to spare.
void TestWindow::tableFits(const QTableView& table, bool all)
{
    const auto* header = table.horizontalHeader();
    QString cut;
    int spare = 0;
    for (int c = 0; c < table.model()->columnCount(); ++c) {
        if (table.isColumnHidden(c)) continue;
        const QString title = table.model()->headerData(c, Qt::Horizontal).toString();
        int wanted = header->fontMetrics().horizontalAdvance(title);
        QString longest = "the head " + title;
        for (int r = 0; r < std::min(12, table.model()->rowCount()); ++r) {
            const QModelIndex cell = table.model()->index(r, c);
            const QString text = cell.data().toString();
            const QFont font =
                cell.data(Qt::FontRole).isValid() ? cell.data(Qt::FontRole).value<QFont>() : table.font();
            constexpr int kBesides = 20;          // the style's padding
            const bool isLong = text.size() > 40; // prose ends in dots, and is told on hovering
            const int room = QFontMetrics(font).horizontalAdvance(text) + kBesides;
            if (!isLong && !table.indexWidget(cell) && table.columnSpan(r, c) == 1 && room > wanted)
                wanted = room, longest = text;
        }
        if (table.columnWidth(c) < wanted)
            cut = QStringLiteral("%1: %2, %3 of %4")
                      .arg(table.objectName(), longest)
                      .arg(table.columnWidth(c))
                      .arg(wanted);
        else
            spare = std::max(spare, table.columnWidth(c) - wanted);
    }
    constexpr int kWorthHaving = 40;
    QVERIFY2(cut.isEmpty() || (!all && spare < kWorthHaving), qPrintable(cut));
}

void TestWindow::everyControlHasANameAndFits()
{
    QFETCH(QSize, size);
    WindowBench b;
    b.window.resize(size);
    b.window.openPaths({path("demo.gristle")});
    QStringList cut;
    const auto look = [&] {
        b.settle();
        for (QWidget* w : b.window.findChildren<QWidget*>()) {
            if (!w->isVisible()) continue;
            const bool control = w->focusPolicy() & Qt::TabFocus && !w->objectName().startsWith("qt_");
            if (control)
                QVERIFY2(!w->accessibleName().isEmpty() || !w->objectName().isEmpty() || qobject_cast<QPushButton*>(w),
                         qPrintable(QString(w->metaObject()->className()) + " " + w->parentWidget()->objectName()));
            const auto* button = qobject_cast<QPushButton*>(w);
            const auto* label = qobject_cast<QLabel*>(w);
            if (button || (label && !label->wordWrap())) // nothing is cut off
                QVERIFY2(w->width() + 1 >= w->sizeHint().width(),
                         qPrintable(QStringLiteral("%1: %2 of %3")
                                        .arg(button ? button->text() : label->text())
                                        .arg(w->width())
                                        .arg(w->sizeHint().width())));
        }
        for (const auto* table : b.window.findChildren<QTableView*>())
            if (table->isVisible()) tableFits(*table, size.width() >= 1280);
        for (const auto* box : b.window.findChildren<QComboBox*>()) {
            if (!box->isVisible() || box->currentText().contains('/')) continue; // files are cut in half
            const bool isCell = qobject_cast<QTableView*>(box->parentWidget()->parentWidget());
            const int wanted = box->fontMetrics().horizontalAdvance(box->currentText()) + 20;
            constexpr int kLeastCell = 100; // in the least window, where its row is full
            if (box->width() < (isCell && size.width() < 1280 ? std::min(wanted, kLeastCell) : wanted))
                cut << QStringLiteral("%1: %2, %3 of %4 wide")
                           .arg(box->objectName(), box->currentText())
                           .arg(box->width())
                           .arg(wanted);
        }
        QCOMPARE(b.window.size(), size); // and nothing pushed the window wider
    };
    for (int i = 0; i < int(b.window.benches().size()); ++i) {
        b.window.showBench(i);
        if (auto* bench = qobject_cast<PagedBench*>(b.window.benches()[std::size_t(i)])) {
            for (const QString& page : bench->pageNames()) {
                bench->showPage(page);
                look();
                if (QTest::currentTestFailed()) return;
            }
        } else {
            look();
        }
    }
    QVERIFY2(cut.isEmpty(), qPrintable(cut.join("; ")));
}

void TestWindow::textIsReadable()
{
    // Contrast of inks on both grounds, by WCAG 2.1: at least 4.5.
    const auto luminance = [](const QColor& c) {
        const auto part = [](double v) { return v <= 0.03928 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4); };
        return 0.2126 * part(c.redF()) + 0.7152 * part(c.greenF()) + 0.0722 * part(c.blueF());
    };
    for (const Lamp lamp : {Lamp::Off, Lamp::Paper}) {
        Theme::instance().setLamp(lamp);
        for (const Token text : {Token::Ink, Token::Ink2, Token::Ink3, Token::Act})
            for (const Token ground : {Token::Ground, Token::Panel}) {
                double a = luminance(ink(text)), c = luminance(ink(ground));
                if (a < c) std::swap(a, c);
                QVERIFY2(
                    (a + 0.05) / (c + 0.05) >= 4.5,
                    qPrintable(
                        QStringLiteral("%1 on %2: %3").arg(int(text)).arg(int(ground)).arg((a + 0.05) / (c + 0.05))));
            }
    }
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    for (QWidget* w : b.window.findChildren<QWidget*>())
        if (w->isVisible()) QVERIFY2(QFontInfo(w->font()).pixelSize() >= 12, qPrintable(w->objectName()));
}

void TestWindow::rigEditsBecomeVersions()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.window.session().setPath({0, 1, 0});
    b.window.showBench("Rig");
    b.settle();
    SessionModel& session = b.window.session();
    const std::string first = session.layer()->rig;
    const auto files = session.folder().rigFiles().size();
    auto* edit = b.find<QLineEdit>("control.drive");
    edit->setText("20");
    emit edit->editingFinished();
    const std::string second = session.layer()->rig;
    QVERIFY(second != first);
    edit->setText("21");
    emit edit->editingFinished();
    QCOMPARE(session.layer()->rig, second); // the same control, still moving: the same version
    QCOMPARE(session.folder().rigFiles().size(), files + 1);
    QCOMPARE(std::get<double>(session.rigs().inHand().chain[0].values.at("drive")), 21.0);
    b.settle();
    QCOMPARE(b.window.audition().current().slots_.size(), std::size_t(3)); // dry, the version before, this one
    session.undoStack().undo();
    QCOMPARE(session.layer()->rig, first);
    b.find<QPushButton>("bypassStage")->click();
    QVERIFY(session.rigs().inHand().chain[0].bypass);
    b.find<QPushButton>("removeStage")->click();
    QCOMPARE(session.rigs().inHand().chain.size(), std::size_t(2));
    b.settle();
}

// One of the eight: a rig with the session's own impulse and the song's tempo, what to listen for beside it, one undo.
void TestWindow::startingPointsAreOneStepAway()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.window.session().setPath({0, 1, 0});
    b.window.showBench("Rig");
    b.settle();
    SessionModel& session = b.window.session();
    const std::string first = session.layer()->rig;
    session.loop().set(2.0, 3.0); // one bar is rendered soon
    const auto actions = b.find<QPushButton>("startFrom")->menu()->actions();
    QCOMPARE(actions.size(), qsizetype(8));
    const auto lead = std::ranges::find_if(actions, [](QAction* a) { return a->text().startsWith("singing lead"); });
    QVERIFY(lead != actions.end());
    (*lead)->trigger();
    const RigDocument rig = session.rigs().inHand();
    QCOMPARE(rig.name, std::string("singing lead, quiet echoes"));
    const auto stage = [&](const char* type) {
        return std::ranges::find_if(rig.chain, [&](const RigNode& n) { return n.type == type; });
    };
    QVERIFY(std::get<std::string>(stage("impulse")->values.at("file")).starts_with("impulses/"));
    QCOMPARE(std::get<double>(stage("delay")->values.at("tempo")), session.song()->tempoBpm);
    b.settle();
    bool told = false;
    for (const QLabel* l : b.window.findChildren<QLabel*>())
        told = told || l->text().contains("Listen for a note that");
    QVERIFY(told);
    session.undoStack().undo();
    QCOMPARE(session.layer()->rig, first);
}

// The loop plays through the rig itself: what is changed is heard when its rig is compiled, before anything is
// rendered.
void TestWindow::aControlIsHeardAtOnce()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.window.session().setPath({0, 1, 0});
    b.window.showBench("Rig");
    b.settle();
    b.window.audition().setPlaying(true);
    const auto power = [&](std::size_t frames) {
        b.device->forget();
        b.device->advance(frames);
        double sum = 0.0;
        for (const float x : b.device->heardLeft()) sum += double(x) * double(x);
        return sum / double(frames);
    };
    const auto loop = std::size_t((b.window.session().loop().toBar() - b.window.session().loop().fromBar()) *
                                  b.window.session().loop().barSeconds() * 48000.0);
    power(4800);
    const double before = power(loop); // whole loops: the same music each time
    auto* output = b.find<QDoubleSpinBox>("rigOutput");
    output->setValue(output->value() + 3.0);
    emit output->editingFinished();
    QTRY_VERIFY_WITH_TIMEOUT(b.window.audition().task().isBusy(), 5000); // asked for
    QTRY_VERIFY_WITH_TIMEOUT(!b.window.audition().isChangingLive(), 20000);
    QVERIFY(b.window.audition().task().isBusy()); // its loudness is not known yet
    power(2400);
    const double after = power(loop);
    QVERIFY2(std::abs(10.0 * std::log10(after / before) - 3.0) < 0.3,
             qPrintable(QString::number(10.0 * std::log10(after / before))));
    b.settle();
    power(9600);
    const double matched = power(loop); // and then it is as loud as the softest again
    QVERIFY2(std::abs(10.0 * std::log10(matched / before)) < 0.2,
             qPrintable(QString::number(10.0 * std::log10(matched / before))));
    b.window.audition().setPlaying(false);
}

void TestWindow::dropBringsIn()
{
    WindowBench b;
    b.newPath = path("dropped.gristle");
    QMimeData data;
    data.setUrls({QUrl::fromLocalFile(path("Riff left.wav"))});
    QDragEnterEvent enter(QPoint(10, 10), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(&b.window, &enter);
    QVERIFY(enter.isAccepted());
    QDropEvent drop(QPointF(10, 10), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(&b.window, &drop);
    QTRY_VERIFY(b.window.session().isOpen());
    QTRY_VERIFY_WITH_TIMEOUT(b.window.session().take(), 20000);
    QCOMPARE(b.window.session().take()->source, std::string("Riff left.wav"));
    b.settle();
    ImportDialog dialog(guessRows({path("Riff right.wav")}, b.window.session()), &b.window); // the real one
    dialog.findChild<QComboBox*>("place.0")->setCurrentIndex(1);
    const auto rows = dialog.rows();
    QCOMPARE(rows[0].place, 0.0);
    QCOMPARE(rows[0].part, QString("Riff"));
}

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    TestWindow test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_window.moc"
