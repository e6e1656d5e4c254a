// A song from files to stems in the window: roles and stereo as they are brought in, buses on Blend's page of sums, two
// amplifiers that fight found and mended, stems that sum to the mix.

#include "app/benches/blend/blend_bench.h"
#include "app/benches/blend/sum_tree.h"
#include "app/benches/blend/sums_page.h"
#include "app/shell/exporter.h"
#include "app/shell/import_dialog.h"
#include "app/theme/theme.h"
#include "core/audio/audio_reader.h"
#include "core/session/layer_role.h"
#include "support/demo_copy.h"
#include "support/signals.h"
#include "support/window_bench.h"

#include <QApplication>
#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QTableWidget>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

class TestSums : public QObject {
    Q_OBJECT
private slots:
    void initTestCase()
    {
        Theme::instance().install(*qApp);
        QVERIFY(test::copyDemo(path("demo.gristle").toStdString()));
    }
    void whatFilesAreIsGuessed_data();
    void whatFilesAreIsGuessed();
    void theDialogFollowsTheRole();
    void aSongFromFilesToStems();
    void whatIsTypedIsChecked();
    void closedUndoneAndSwitchedWhileItMeasures();

private:
    QString path(const QString& name) const { return dir_.filePath(name); }
    QString wav(const char* name, const std::vector<std::vector<float>>& channels, int rate = 48000)
    {
        return QString::fromStdString(test::writeWav(dir_, name, channels, rate).string());
    }
    static SumsPage* sums(WindowBench& b) { return b.window.bench<BlendBench>()->page<SumsPage>(); }
    static void showSums(WindowBench& b)
    {
        b.window.showBench("Blend");
        b.window.bench<BlendBench>()->showPage("Sums");
        b.settle();
    }
    static bool loses(WindowBench& b, const char* where)
    {
        const auto found = sums(b)->findings().found;
        return std::ranges::any_of(found,
                                   [&](const Finding& f) { return f.code == "mix.join_loses" && f.subject == where; });
    }
    QTemporaryDir dir_;
};

void TestSums::whatFilesAreIsGuessed_data()
{
    QTest::addColumn<QString>("file");
    QTest::addColumn<QString>("role");
    QTest::addColumn<QString>("source");
    QTest::newRow("plain") << "Riff left.wav"
                           << "di"
                           << "guitar";
    QTest::newRow("drums") << "Car Deck drums.wav"
                           << "backing"
                           << "drums";
    QTest::newRow("bass DI") << "Bass DI.wav"
                             << "di"
                             << "bass";
    QTest::newRow("bass") << "03_bass_comp.wav"
                          << "backing"
                          << "bass";
    QTest::newRow("voice") << "lead vocal 2.wav"
                           << "backing"
                           << "voice";
    QTest::newRow("no drummer in drumstick") << "drumstick hit.wav"
                                             << "di"
                                             << "guitar";
    QTest::newRow("microphone") << "riff L amp mic.wav"
                                << "mic"
                                << "guitar";
    QTest::newRow("reference") << "ref 1.wav"
                               << "reference"
                               << "";
}

void TestSums::whatFilesAreIsGuessed()
{
    QFETCH(QString, file);
    QFETCH(QString, role);
    QFETCH(QString, source);
    SessionModel none;
    const auto rows = guessRows({file}, none);
    QCOMPARE(QString::fromStdString(nameOf(rows[0].role)), role);
    QCOMPARE(QString::fromStdString(rows[0].source), source);
}

void TestSums::theDialogFollowsTheRole()
{
    SessionModel none;
    const QString stereo = wav("Room bar 3.wav", {test::whiteNoise(0.1, 4800, 1), test::whiteNoise(0.1, 4800, 2)});
    ImportDialog dialog(guessRows({stereo}, none), nullptr);
    const auto channels = [&] {
        QStringList out;
        const auto* box = dialog.findChild<QTableWidget*>("importTable")->cellWidget(0, 8);
        for (int i = 0; i < qobject_cast<const QComboBox*>(box)->count(); ++i)
            out << qobject_cast<const QComboBox*>(box)->itemText(i);
        return out;
    };
    auto* what = dialog.findChild<QComboBox*>("what.0");
    QCOMPARE(what->currentText(), QString("microphone"));
    QCOMPARE(channels(), QStringList({"stereo", "left", "right", "mean"}));
    QCOMPARE(dialog.rows()[0].channel, kBothChannels);
    QVERIFY(dialog.rows()[0].landsByStamp);
    what->setCurrentIndex(0); // a DI is one signal
    QCOMPARE(channels(), QStringList({"left", "right", "mean"}));
    QCOMPARE(dialog.rows()[0].channel, 1);
    QCOMPARE(dialog.rows()[0].role, LayerRole::Di);
    dialog.findChild<QCheckBox*>("byStamp")->setChecked(false);
    QVERIFY(!dialog.rows()[0].landsByStamp);
}

void TestSums::aSongFromFilesToStems()
{
    WindowBench b;
    QVERIFY(b.window.session().create(path("made \u6771.gristle"), "made"));
    const auto left = test::whiteNoise(0.05, 96000, 11);
    auto second = left;
    for (float& x : second) x *= -0.9f;
    const QStringList files{
        wav("Verse left.wav", {left}), wav("Verse right.wav", {test::whiteNoise(0.05, 96000, 12)}),
        wav("Chorus left.wav", {test::whiteNoise(0.05, 96000, 13)}),
        wav("Chorus right.wav", {test::whiteNoise(0.05, 96000, 14)}),
        wav("drums.wav", {test::whiteNoise(0.03, 88200, 15), test::whiteNoise(0.03, 88200, 16)}, 44100)};
    b.window.dialogs().importRows = [](std::vector<ImportRow> rows) {
        for (ImportRow& row : rows)
            if (row.role == LayerRole::Backing) row.channel = kBothChannels;
        return rows;
    };
    b.window.bringIn(files);
    b.settle();
    SessionModel& session = b.window.session();
    QCOMPARE(session.document().songs[0].parts.size(), std::size_t(3)); // verse, chorus, the band
    QVERIFY(session.document().songs[0].parts[2].layers[0].takes[0].isStereo);

    // A second amplifier, inverted, on the left of the verse.
    b.window.dialogs().importRows = [](std::vector<ImportRow> rows) {
        rows[0].part = "Verse", rows[0].layer = "Left, second amplifier", rows[0].role = LayerRole::Microphone;
        return rows;
    };
    b.window.bringIn({wav("second left.wav", {second})});
    b.settle();
    QVERIFY(session.editPart("dry", "rig", [](Part& part) {
        for (Layer& layer : part.layers) layer.rig.clear();
    }));

    showSums(b);
    b.find<QComboBox>("gatherBy")->setCurrentIndex(1);
    b.find<QPushButton>("gather")->click();
    b.settle();
    QCOMPARE(session.document().songs[0].buses.size(), std::size_t(2));
    QVERIFY(loses(b, "left"));
    QVERIFY(!loses(b, "right"));
    QVERIFY2(b.find<QLabel>("sumsSentence")->text().contains("left"),
             qPrintable(b.find<QLabel>("sumsSentence")->text()));
    QVERIFY(b.find<SumTree>("sumTree")->accessibleDescription().contains("Left, second amplifier runs into left"));

    // Mended where the pair is compared, on Places.
    b.window.bench<BlendBench>()->showPage("Places");
    b.settle();
    auto remedies = b.window.bench<BlendBench>()->remedies();
    QVERIFY(remedies.contains("sum.inverted"));
    remedies["sum.inverted"].apply();
    showSums(b);
    QVERIFY(!loses(b, "left"));
    session.undoStack().undo();
    b.settle();
    QVERIFY(loses(b, "left"));
    session.undoStack().redo();
    b.settle();
    QVERIFY(!loses(b, "left"));

    // One bus into another by the table; and back, which would be a loop.
    b.find<QPushButton>("addBus")->click();
    b.settle();
    auto* into = b.find<QComboBox>("into.0");
    into->setCurrentIndex(into->findText("Bus 3"));
    emit into->activated(into->currentIndex());
    b.settle();
    QCOMPARE(session.document().songs[0].buses[0].into, std::string("Bus 3"));
    auto* back = b.find<QComboBox>("into.2");
    back->setCurrentIndex(back->findText("left"));
    emit back->activated(back->currentIndex());
    b.settle();
    QVERIFY2(b.window.notice().contains("feeds itself"), qPrintable(b.window.notice()));
    QVERIFY(session.document().songs[0].buses[2].into.empty());
    QCOMPARE(b.find<QComboBox>("into.2")->currentText(), QString("the song"));

    // The layer in hand goes elsewhere.
    session.setPath({0, 0, 1});
    auto* layer = b.find<QComboBox>("layerInto");
    layer->setCurrentIndex(layer->findText("Bus 3"));
    emit layer->activated(layer->currentIndex());
    b.settle();
    QCOMPARE(session.layer()->bus, std::string("Bus 3"));

    // What is heard: all, and the bus that is chosen by itself.
    b.find<QTableWidget>("busTable")->selectRow(0);
    b.settle();
    QCOMPARE(sums(b)->audition().slots_.size(), std::size_t(2));
    QCOMPARE(sums(b)->audition().slots_[1].title, QString("Only left"));

    // Any subset by one key each; what is measured stays the whole part.
    b.window.bench<BlendBench>()->showPage("Places");
    session.setPath({0, 0, 1});
    b.settle();
    const auto heard = [&] { return b.window.bench<BlendBench>()->audition().slots_[0]; };
    QCOMPARE(heard().title, QString("As placed"));
    QCOMPARE(heard().sound.layers.size(), std::size_t(3));
    QTest::keyClick(&b.window, Qt::Key_O);
    QCOMPARE(heard().title, QString("Only Right 1"));
    QCOMPARE(heard().sound.layers.size(), std::size_t(1));
    QTest::keyClick(&b.window, Qt::Key_W); // instead
    QCOMPARE(heard().title, QString("Without Right 1"));
    QCOMPARE(heard().sound.layers.size(), std::size_t(2));
    QTest::keyClick(&b.window, Qt::Key_E);
    QCOMPARE(heard().sound.layers[0].place, 100.0); // the left one
    QTest::keyClick(&b.window, Qt::Key_B);
    QCOMPARE(heard().title, QString("Without Right 1, exchanged, band"));
    QCOMPARE(heard().sound.layers.size(), std::size_t(3));
    QVERIFY(heard().sound.layers[2].recipe.isStereo);
    QCOMPARE(b.window.bench<BlendBench>()->report()->layers.size(), std::size_t(3));
    for (const auto key : {Qt::Key_W, Qt::Key_E, Qt::Key_B}) QTest::keyClick(&b.window, key);
    QCOMPARE(heard().title, QString("As placed"));

    const QString folder = path("stems of it");
    QVERIFY(QDir().mkpath(folder));
    b.window.exporter().writeStems(folder, StemsBy::Bus, false);
    b.settle();
    const QStringList made = QDir(folder).entryList({"*.wav"});
    QCOMPARE(made,
             QStringList({"Song 1, Bus 3.wav", "Song 1, mix.wav", "Song 1, right.wav", "Song 1, without a bus.wav"}));
    const auto read = [&](const QString& name) { return *readRecording((folder + "/" + name).toStdString()); };
    Recording sum = read(made[1]);
    for (const int i : {0, 2, 3}) {
        const Recording stem = read(made[i]);
        QCOMPARE(stem.audio.frames(), sum.audio.frames());
        for (std::size_t c = 0; c < 2; ++c)
            for (std::size_t k = 0; k < sum.audio.frames(); ++k) sum.audio.channel(c)[k] -= stem.audio.channel(c)[k];
    }
    for (std::size_t c = 0; c < 2; ++c)
        for (const float x : sum.audio.channel(c)) QVERIFY(std::abs(x) < 5.0f / 8388608.0f);
    QVERIFY(session.folder().readLog().back().text.find("3 stems by bus") != std::string::npos);
}

void TestSums::whatIsTypedIsChecked()
{
    WindowBench b;
    b.window.openPaths({path("demo.gristle")});
    b.settle();
    showSums(b);
    SessionModel& session = b.window.session();
    const Song before = *session.song();
    b.find<QPushButton>("gather")->click();
    b.settle();
    auto* table = b.find<QTableWidget>("busTable");
    const auto typed = [&](int row, int column, const QString& text) {
        table->item(row, column)->setText(text);
        b.settle();
    };
    const auto& song = [&]() -> const Song& { return *session.song(); };
    const std::string first = song().buses[0].name;
    typed(0, 1, QString::fromUtf8("\u22126"));
    QCOMPARE(song().buses[0].gainDb, -6.0);
    typed(0, 1, "loud");
    QVERIFY2(b.window.notice().contains("loud"), qPrintable(b.window.notice()));
    QCOMPARE(song().buses[0].gainDb, -6.0);
    typed(0, 0, "heavy \u91cd");
    QCOMPARE(song().buses[0].name, std::string("heavy \xe9\x87\x8d"));
    typed(0, 0, " ");
    QCOMPARE(song().buses[0].name, std::string("heavy \xe9\x87\x8d"));
    const int last = table->rowCount() - 1;
    typed(last, 1, "-1.5"); // the song's own
    QCOMPARE(song().gainDb, -1.5);
    table->selectRow(0);
    b.find<QPushButton>("removeBus")->click();
    b.settle();
    QVERIFY(std::ranges::find(song().buses, std::string("heavy \xe9\x87\x8d"), &Bus::name) == song().buses.end());
    table->selectRow(table->rowCount() - 1);
    QVERIFY(!b.find<QPushButton>("removeBus")->isEnabled()); // the song is no bus
    while (session.undoStack().canUndo()) session.undoStack().undo();
    b.settle();
    QVERIFY(song() == before);
}

void TestSums::closedUndoneAndSwitchedWhileItMeasures()
{
    WindowBench b;
    for (int turn = 0; turn < 6; ++turn) {
        b.window.openPaths({path("demo.gristle")});
        QTRY_VERIFY(b.window.session().isOpen());
        b.window.showBench("Blend");
        b.window.bench<BlendBench>()->showPage("Sums");
        b.window.audition().setPlaying(true);
        QTest::qWait(20 * turn);
        b.find<QPushButton>("gather")->click();
        if (turn % 2) b.window.session().undoStack().undo();
        if (turn % 3 == 0) b.window.session().setPath({1, 0, 0});
        QTest::qWait(10 * turn);
        b.window.session().close();
        b.find<QPushButton>("addBus")->click(); // nothing is there
        QCoreApplication::processEvents();
        QVERIFY(!b.window.session().isOpen());
    }
    b.settle();
}

QTEST_MAIN(TestSums)
#include "test_sums.moc"
