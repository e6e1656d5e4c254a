// The Double bench, on takes that the simulated player records before it: pairs, sides, copies, bars that are moved.

#include "app/benches/double/copies_page.h"
#include "app/benches/double/double_bench.h"
#include "app/benches/double/offsets_page.h"
#include "app/benches/double/pairs_page.h"
#include "app/benches/take/take_bench.h"
#include "core/session/take_import.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "support/demo_copy.h"
#include "support/natural_guitar.h"
#include "support/run_cli.h"
#include "support/signals.h"
#include "support/take_window.h"

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QTableWidget>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using namespace gristle::test;

class TestDoubleBench : public TakeWindow {
    Q_OBJECT

private slots:
    void initTestCase() { makeDemo(); }

    void aDraggingBarIsFoundPlayedAgainAndTight()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        recordBoth(b, hand(1), hand(2, 5.0));
        QCOMPARE(b.window.session().layer()->takes.size(), std::size_t(1));
        const auto& judged = b.window.bench<TakeBench>()->book().takes();
        QCOMPARE(judged.size(), std::size_t(1));
        QVERIFY2(judged[0].judgement.bars[4].isBad, judged[0].judgement.sentence.c_str());
        QVERIFY(judged[0].judgement.sentence.find("bar 5") != std::string::npos);

        b.window.showBench("Double");
        b.settle();
        auto* page = b.window.bench<DoubleBench>()->page<OffsetsPage>();
        QVERIFY2(page->verdict().contains("drags") && page->verdict().contains("bar 5"), qPrintable(page->verdict()));
        const double before = b.window.bench<DoubleBench>()->book().pair()->offsetSdMs;

        teach(b, hand(7)); // this time he does not drag
        QTest::mouseClick(b.find<QPushButton>("playAgain"), Qt::LeftButton);
        b.settle();
        QVERIFY(b.window.bench<TakeBench>()->isVisible());
        QCOMPARE(b.window.capture().run().wish().shape.kind, engine::RunKind::Punch);
        QTest::keyClick(&b.window, Qt::Key_R);
        b.settle();
        QVERIFY(b.window.capture().isBusy());
        b.window.capture().player().runFor(bars(b, 3.0)); // one before, the bar itself, and it ends by itself
        QVERIFY(!b.window.capture().isBusy());
        b.settle();
        const Layer& layer = *b.window.session().layer();
        QCOMPARE(layer.takes.size(), std::size_t(2));
        QCOMPARE(layer.chosen, std::size_t(0));
        QCOMPARE(layer.pieces.size(), std::size_t(3));
        QCOMPARE(layer.pieces[1].take, std::size_t(1));
        QCOMPARE(b.window.bench<TakeBench>()->book().heardBars()[4], 1);

        b.window.showBench("Double");
        b.settle();
        const DoubleTake& after = *b.window.bench<DoubleBench>()->book().pair();
        QVERIFY2(after.offsetSdMs < before && heardAs(after) == DoubleHeard::Width, qPrintable(page->verdict()));
        QVERIFY(b.window.bench<DoubleBench>()->book().strays().empty());
        // And back, and forth.
        b.window.session().undoStack().undo();
        b.settle();
        QVERIFY(!b.window.bench<DoubleBench>()->book().strays().empty());
    }

    void movingBarsMendsWithoutPlaying()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        recordBoth(b, hand(1), hand(2, 5.0));
        b.window.showBench("Double");
        b.settle();
        DoubleBook& book = b.window.bench<DoubleBench>()->book();
        const auto notes = book.pair()->notes.size();
        const auto stray = book.worstStray();
        QVERIFY(stray && stray->firstBar == 5 && std::abs(stray->offsetMs - 24.0) < 7.0);
        // Kept as it is, nothing is to be mended, until a side changes.
        QVERIFY(b.window.bench<DoubleBench>()->state().wants);
        QTest::mouseClick(b.find<QPushButton>("keepPair"), Qt::LeftButton);
        b.settle();
        QVERIFY(book.isKept() && !b.window.bench<DoubleBench>()->state().wants && book.worstStray());
        QVERIFY(b.window.bench<DoubleBench>()->page<OffsetsPage>()->verdict().contains("Kept"));
        QTest::mouseClick(b.find<QPushButton>("moveBars"), Qt::LeftButton);
        b.settle();
        QVERIFY(!book.isKept() && book.strays().empty());
        // No attack is heard twice, none is lost.
        QVERIFY(std::abs(double(book.pair()->notes.size()) - double(notes)) <= 1.0);
        QVERIFY(book.pair()->unmatchedSecond <= 2);
        QCOMPARE(b.window.session().document().songs[0].parts[0].layers[1].pieces.size(), std::size_t(3));
        QVERIFY(b.find<QPushButton>("movesBack")->isEnabled());
        QTest::mouseClick(b.find<QPushButton>("movesBack"), Qt::LeftButton);
        b.settle();
        QVERIFY(b.window.session().document().songs[0].parts[0].layers[1].pieces.empty());
        QVERIFY(book.worstStray());
        // Bounds that do not grow are refused.
        auto* box = b.find<QWidget>("limitWidth");
        auto* edit = qobject_cast<QLineEdit*>(box) ? qobject_cast<QLineEdit*>(box) : box->findChild<QLineEdit*>();
        edit->setText("1");
        emit edit->editingFinished();
        QVERIFY(b.window.notice().contains("must grow"));
        QCOMPARE(b.window.session().document().doubleStyles, usualDoubleStyles());
        // Another style judges this part otherwise; a new name keeps its bounds, and may be forgotten again.
        auto* style = b.find<QComboBox>("doubleStyle");
        style->setCurrentIndex(1);
        emit style->activated(1);
        b.settle();
        QCOMPARE(b.window.session().doubleStyle(), usualDoubleStyles()[1]);
        style->setEditText("gallop");
        emit style->lineEdit()->editingFinished();
        edit->setText("5");
        emit edit->editingFinished();
        b.settle();
        QCOMPARE(b.window.session().doubleStyle(), (DoubleStyle{"gallop", {1.5, 5.0, 20.0}}));
        QCOMPARE(b.window.session().document().doubleStyles[1], usualDoubleStyles()[1]);
        QVERIFY(book.pair()->offsetSdMs > 5.0);
        QVERIFY(std::ranges::any_of(book.findings(), [](const Finding& f) { return f.code == "double.loose"; }));
        QTest::mouseClick(b.find<QPushButton>("forgetStyle"), Qt::LeftButton);
        b.settle();
        QCOMPARE(b.window.session().document().doubleStyles, usualDoubleStyles());
        QCOMPARE(b.window.session().doubleStyle().name, std::string("usual"));
        QVERIFY(!b.find<QPushButton>("forgetStyle")->isEnabled());
    }

    void thePairsOfAllTakesAreJudgedAndTheBestPlaced()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        // Left: a steady and a wandering one; right: one that is 14 cents sharp.
        for (const double sd : {4.0, 9.0}) {
            PlayingStyle style = hand(sd < 5.0 ? 1 : 8);
            style.timingSdMs = sd;
            teach(b, style);
            recordThrough(b);
        }
        choose(b, 1);
        PlayingStyle sharp = hand(5);
        sharp.tuningCents = 14.0;
        teach(b, sharp);
        recordThrough(b);
        b.window.showBench("Double");
        b.window.bench<DoubleBench>()->showPage("pairs");
        b.settle();
        auto* page = b.window.bench<DoubleBench>()->page<PairsPage>();
        auto* table = b.find<QTableWidget>("pairTable");
        QCOMPARE(table->rowCount(), 3);
        QCOMPARE(table->item(0, 6)->text(), QString("width"));
        // The best is the one without the sharp take, though both are of one layer.
        QVERIFY(page->two() && page->two()->left == std::vector<std::size_t>{0} &&
                page->two()->right == std::vector<std::size_t>{1});
        QVERIFY(!page->four());
        QTest::mouseClick(b.find<QPushButton>("usePair"), Qt::LeftButton);
        b.settle();
        const auto& layers = b.window.session().document().songs[0].parts[0].layers;
        QCOMPARE(layers.size(), std::size_t(2));
        QCOMPARE(layers[1].takes.size(), std::size_t(2));
        QCOMPARE(layers[1].chosenTake()->file, layers[0].takes[1].file);
        QCOMPARE(layers[0].chosen, std::size_t(0));
        b.window.session().undoStack().undo();
        QCOMPARE(b.window.session().document().songs[0].parts[0].layers[1].takes.size(), std::size_t(1));
    }

    void sidesAndCopiesAreMeasuredThroughTheirRigs()
    {
        WindowBench b;
        b.window.openPaths({freshDemo()});
        b.settle();
        b.window.showBench("Double");
        b.window.bench<DoubleBench>()->showPage("sides");
        b.settle();
        auto* table = b.find<QTableWidget>("sidesTable");
        QCOMPARE(table->rowCount(), 4);
        for (int row = 0; row < 4; ++row)
            for (int column = 1; column < 4; ++column) {
                QString text = table->item(row, column)->text();
                bool isFigure = false;
                text.replace(QChar(0x2212), '-').toDouble(&isFigure);
                QVERIFY2(isFigure, qPrintable(text));
            }
        QVERIFY(b.find<QLabel>("sidesAbout")->text().contains("dB apart"));

        b.window.bench<DoubleBench>()->showPage("copies");
        b.settle();
        auto* page = b.window.bench<DoubleBench>()->page<CopiesPage>();
        QVERIFY(page->predictedDb() && page->measuredDb());
        QVERIFY2(std::abs(*page->predictedDb() - *page->measuredDb()) < 0.3,
                 qPrintable(QString("%1 %2").arg(*page->predictedDb()).arg(*page->measuredDb())));
        auto* plot = b.find<DelayPlot>("delayPlot");
        plot->setFocus();
        for (int i = 0; i < 12; ++i) QTest::keyClick(plot, Qt::Key_Left);
        b.settle();
        QVERIFY(std::abs(*page->predictedDb() - *page->measuredDb()) < 0.3);
        const auto before = b.window.session().part()->layers.size();
        QTest::mouseClick(b.find<QPushButton>("makeCopy"), Qt::LeftButton);
        b.settle();
        const auto& layers = b.window.session().part()->layers;
        QCOMPARE(layers.size(), before + 1);
        QVERIFY(layers.back().place == -layers[0].place && layers.back().earlierMs < layers[0].earlierMs - 5.0);
        // The copy is recognised where the two are compared.
        b.window.bench<DoubleBench>()->showPage("offsets");
        b.window.bench<DoubleBench>()->book().choose(0, before);
        b.settle();
        QVERIFY(b.window.bench<DoubleBench>()->page<OffsetsPage>()->verdict().contains("copy"));
        QVERIFY(!b.find<QPushButton>("moveBars")->isEnabled());
    }

    void microphonesOfOnePerformanceAreNoDouble()
    {
        WindowBench b;
        b.window.openPaths({freshDemo()});
        b.settle();
        const SessionDocument& d = b.window.session().document();
        LayerPath path;
        for (const LayerPath& p : allLayers(d))
            if (d.songs[p.song].parts[p.part].name.find("microphones") != std::string::npos) path = p;
        b.window.session().setPath(path);
        b.window.showBench("Double");
        b.settle();
        auto* bench = b.window.bench<DoubleBench>();
        QVERIFY2(bench->page<OffsetsPage>()->verdict().contains("one performance"),
                 qPrintable(bench->page<OffsetsPage>()->verdict()));
        QVERIFY(!bench->state().wants && bench->book().findings().empty());
    }

    /// Amplifiers on two sides, each with its DI on a layer of its own: notes and moves are told by the DIs.
    void drivenSidesAreJudgedByTheirDis()
    {
        const auto folder = freshSession(dir_.path()).toStdString();
        {
            auto session = SessionFolder::open(folder, Access::Write).value();
            SessionDocument document = session.document();
            std::vector<Layer>& layers = document.songs[0].parts[0].layers;
            const auto add = [&](const char* name, double place, const std::vector<float>& x) {
                const auto file =
                    writeWav(dir_, QString("%1.wav").arg(name).toUtf8(), {x}, 48000, SampleFormat::Float32);
                Layer layer;
                layer.name = name, layer.place = place;
                layer.takes = {importTake(folder, {}, file, {}, "2026-12-01T10:00:00").value()};
                layers.push_back(layer);
            };
            layers.clear();
            const auto side = [&](PlayingStyle style) {
                style.leadInS = 0.0;
                return perform(rhythmRiff(kBars), kTempo, standardTuning(), style, 48000.0).volts;
            };
            const auto left = side(hand(1)), right = side(hand(2, 4.0));
            add("Left", -100.0, driven(left, 60.0, 48000.0));
            add("Right", 100.0, driven(right, 60.0, 48000.0));
            add("Left DI", -100.0, left);
            add("Right DI", 100.0, right);
            QVERIFY(bool(session.save(document)));
        }
        WindowBench b;
        b.window.openPaths({QString::fromStdString(folder)});
        b.settle();
        b.window.showBench("Double");
        b.settle();
        DoubleBook& book = b.window.bench<DoubleBench>()->book();
        QCOMPARE(book.firstDi(), std::optional<std::size_t>(2));
        QCOMPARE(book.secondDi(), std::optional<std::size_t>(3));
        QVERIFY(b.find<QLabel>("doubleFigures")->text().contains("Right by its DI, Right DI"));
        QVERIFY(book.worstStray());
        // What is moved is moved in the DI that it is judged by, too.
        QTest::mouseClick(b.find<QPushButton>("moveBars"), Qt::LeftButton);
        b.settle();
        QVERIFY(!b.window.session().document().songs[0].parts[0].layers[1].pieces.empty());
        QCOMPARE(book.secondDi(), std::optional<std::size_t>(3));
        QVERIFY(book.strays().empty());
        // Undone, the bar strays again; closed while it is judged anew, nobody is left waiting.
        b.window.session().undoStack().undo();
        b.settle();
        QVERIFY(book.worstStray() && book.secondDi() == std::optional<std::size_t>(3));
        b.window.session().undoStack().redo();
        b.window.session().close();
        b.settle();
        QVERIFY(!book.pair() && !book.firstDi() && !book.secondDi());
    }

    void phrasesAreMovedAndRetunedAtTheirRests()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        std::vector<WrittenNote> part; // two bars a phrase, with a rest of a beat behind
        for (int bar = 0; bar < kBars; ++bar)
            for (int i = 0; i < (bar % 2 ? 6 : 8); ++i)
                part.push_back({4.0 * bar + 0.5 * i, 0.42, {{1 + i % 3, 2 + i % 2}}, 0.85, false});
        PlayingStyle off = hand(2);
        off.tuningCents = 8.0;
        off.lateFromBeat = 8.0, off.lateToBeat = 16.0, off.lateMs = 18.0; // the second phrase
        recordBoth(b, hand(1), off, part);
        b.window.showBench("Double");
        b.settle();
        DoubleBook& book = b.window.bench<DoubleBench>()->book();
        QVERIFY(book.pair()->tuningMeanCents && std::abs(*book.pair()->tuningMeanCents - 8.0) < 1.5);
        QVERIFY(book.phrases().size() >= 4 && !book.strays().empty());
        QTest::mouseClick(b.find<QPushButton>("movePhrases"), Qt::LeftButton);
        b.settle();
        QVERIFY(book.strays().empty());
        QTest::mouseClick(b.find<QPushButton>("retunePhrases"), Qt::LeftButton);
        b.settle();
        QVERIFY2(std::abs(*book.pair()->tuningMeanCents) < 1.5,
                 qPrintable(QString::number(*book.pair()->tuningMeanCents)));
        QVERIFY2(book.strays().empty() && heardAs(*book.pair()) == DoubleHeard::Width,
                 "what retuning moves stays small");
    }

    /// The command line judges the takes of a session as the bench does, figure by figure.
    /// The sides of the part: words and figures of the page are those of `sides`.
    void theCommandLineComparesTheSameSides()
    {
        WindowBench b;
        const QString folder = dir_.filePath("sides twice.gristle");
        QVERIFY(copyDemo(folder.toStdString()));
        b.window.openPaths({folder});
        b.settle();
        b.window.showBench("Double");
        b.window.bench<DoubleBench>()->showPage("sides");
        SessionModel& session = b.window.session();
        session.loop().set(2.0, 6.0);
        b.settle();
        const auto ran = run({"sides", folder, "--song", QString::fromStdString(session.song()->name), "--part",
                              QString::fromStdString(session.part()->name), "--json"});
        QVERIFY2(ran.code == 0, ran.error);
        const QJsonObject told = ran.json();
        QVERIFY2(b.find<QLabel>("sidesSentence")->text().startsWith(told["words"].toString()),
                 qPrintable(b.find<QLabel>("sidesSentence")->text() + " / " + told["words"].toString()));
        const auto* table = b.find<QTableWidget>("sidesTable");
        const std::pair<const char*, int> columns[] = {{"of_first", 1}, {"of_second", 2}, {"sum", 3}};
        for (const auto& [of, column] : columns) {
            const QJsonObject figures = told[of].toObject();
            int row = 0;
            for (const char* figure : {"attack_db", "low_db", "ringing_low_db", "crest_db"})
                QCOMPARE(table->item(row++, column)->text(),
                         QString::fromStdString(figureText(number(figures[figure]), 1)));
        }
        const auto refused = run({"sides", folder, "--part", "Nothing"});
        QCOMPARE(refused.code, 2);
        QVERIFY(refused.error.contains("no such part"));
    }
};

QTEST_MAIN(TestDoubleBench)
#include "test_double_bench.moc"
