// Sessions in which something is not there yet: no song, no part, no layer, no take, or a take without its file. Each
// control of each page is used once, and nobody dies of what is missing.

#include "app/benches/paged_bench.h"
#include "app/shell/main_window.h"
#include "app/theme/theme.h"
#include "core/session/session_folder.h"
#include "support/signals.h"

#include <QAbstractButton>
#include <QAbstractItemView>
#include <QApplication>
#include <QComboBox>
#include <QDialog>
#include <QLabel>
#include <QLineEdit>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;

namespace {

enum class Has { Nothing, Song, Part, Layer, TakeWithoutFile, Take };

SessionDocument documentWith(Has has)
{
    SessionDocument d;
    if (has >= Has::Song) d.songs.emplace_back().name = "One";
    if (has >= Has::Part) d.songs[0].parts.emplace_back().name = "Verse";
    if (has >= Has::Layer)
        for (const char* name : {"Left", "Right"}) d.songs[0].parts[0].layers.emplace_back().name = name;
    if (has >= Has::TakeWithoutFile) {
        gristle::core::Take take;
        take.file = has == Has::Take ? "audio/take.wav" : "audio/gone.wav";
        for (gristle::core::Layer& l : d.songs[0].parts[0].layers) l.takes.push_back(take);
    }
    return d;
}

} // namespace

class TestLittleSession : public QObject {
    Q_OBJECT
private slots:
    void eachControlIsUsedOnce_data();
    void eachControlIsUsedOnce();
    void countingInWithoutASong();

private:
    void useAll(MainWindow& window, QWidget* page);
    QTemporaryDir dir_;
};

void TestLittleSession::eachControlIsUsedOnce_data()
{
    QTest::addColumn<int>("has");
    QTest::newRow("no song") << int(Has::Nothing);
    QTest::newRow("a song without a part") << int(Has::Song);
    QTest::newRow("a part without a layer") << int(Has::Part);
    QTest::newRow("layers without a take") << int(Has::Layer);
    QTest::newRow("takes whose file is gone") << int(Has::TakeWithoutFile);
    QTest::newRow("takes of a quarter second") << int(Has::Take);
}

void TestLittleSession::useAll(MainWindow& window, QWidget* page)
{
    const auto stillThere = [&](QWidget* w) { return w->isVisible() && w->isEnabled(); };
    QList<QPointer<QWidget>> all;
    for (QWidget* w : page->findChildren<QWidget*>())
        if (stillThere(w)) all << w;
    for (const QPointer<QWidget>& w : all) {
        if (!w || !stillThere(w)) continue; // what one does may take another away
        if (auto* button = qobject_cast<QAbstractButton*>(w.data())) {
            button->click();
        } else if (auto* box = qobject_cast<QComboBox*>(w.data())) {
            for (int i = 0; w && i < box->count(); ++i) {
                box->setCurrentIndex(i);
                emit box->activated(i);
            }
        } else if (auto* line = qobject_cast<QLineEdit*>(w.data())) {
            line->setFocus();
            line->setText("7");
            QTest::keyClick(line, Qt::Key_Return);
        } else if (auto* table = qobject_cast<QAbstractItemView*>(w.data()); table && table->model()) {
            for (int c = 0; c < table->model()->columnCount(); ++c)
                if (const auto cell = table->model()->index(0, c); cell.isValid()) {
                    table->setCurrentIndex(cell);
                    if (cell.flags().testFlag(Qt::ItemIsEditable)) table->model()->setData(cell, "7", Qt::EditRole);
                }
        }
        QCoreApplication::processEvents();
        if (!window.session().isOpen()) return;
    }
}

void TestLittleSession::eachControlIsUsedOnce()
{
    QFETCH(int, has);
    const QString folder = dir_.filePath(QStringLiteral("little %1.gristle").arg(has));
    QVERIFY(bool(SessionFolder::create(folder.toStdString(), documentWith(Has(has)), "2026-01-01T00:00:00")));
    if (Has(has) == Has::Take) {
        QVERIFY(QDir(folder).mkpath("audio"));
        test::writeWav(dir_, (QFileInfo(folder).fileName() + "/audio/take.wav").toUtf8().constData(),
                       {test::whiteNoise(0.25, 48000)}, 48000, SampleFormat::Int24);
    }
    MainWindow window;
    window.dialogs().openAudio = [] { return QStringList(); };
    window.dialogs().openMidi = [] { return QString(); };
    window.dialogs().openSession = [] { return QString(); };
    window.dialogs().newSession = [] { return QString(); };
    window.dialogs().saveFile = [](const QString&, const QString&, const QString&, QString*) { return QString(); };
    window.dialogs().folder = [](const QString&) { return QString(); };
    QTimer answer; // menus and dialogs that wait
    connect(&answer, &QTimer::timeout, this, [] {
        if (QWidget* popup = QApplication::activePopupWidget()) return void(popup->close());
        if (auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget())) dialog->reject();
    });
    answer.start(5);
    window.show();
    window.openPaths({folder});
    QVERIFY(window.session().isOpen());
    for (int bench = 0; bench < int(window.benches().size()); ++bench) {
        window.showBench(bench);
        auto* paged = qobject_cast<PagedBench*>(window.benches()[std::size_t(bench)]);
        const QStringList pages = paged ? paged->pageNames() : QStringList{QString()};
        for (const QString& page : pages) {
            if (paged) paged->showPage(page);
            QTest::qWait(20);
            useAll(window, window.benches()[std::size_t(bench)]);
            QTest::qWait(20);
            window.session().undoStack().undo();
        }
    }
    useAll(window, &window); // the header and the foot
    QVERIFY(window.session().isOpen());
    window.session().close();
    QVERIFY(bool(SessionFolder::open(folder.toStdString(), Access::Read)));
}

/// A slow machine showed it: what is left of the count-in was asked of the song.
void TestLittleSession::countingInWithoutASong()
{
    const QString folder = dir_.filePath(QStringLiteral("counting in.gristle"));
    QVERIFY(bool(SessionFolder::create(folder.toStdString(), documentWith(Has::Nothing), "2026-01-01T00:00:00")));
    MainWindow window;
    window.show();
    window.openPaths({folder});
    const auto benches = window.benches();
    for (int bench = 0; bench < int(benches.size()); ++bench)
        if (benches[std::size_t(bench)]->findChild<QAbstractButton*>("takeRecord")) window.showBench(bench);
    window.capture().ensureOpen();
    QTRY_VERIFY(window.capture().isOpen());
    window.capture().setCountIn(2);
    window.capture().record();
    QVERIFY(window.capture().isCountingIn());
    const auto* big = window.findChild<QLabel*>("takeBig");
    QTRY_VERIFY(big->text() == "in 8" || big->text() == "in 7"); // two bars of four
    window.capture().stop();
}

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    TestLittleSession test;
    return QTest::qExec(&test, argc, argv);
}

#include "test_little_session.moc"
