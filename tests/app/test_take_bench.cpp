// The Take bench: recorded to the click, judged bar by bar, joined; and what else is heard meanwhile.

#include "app/benches/double/double_bench.h"
#include "app/benches/double/offsets_page.h"
#include "app/benches/take/take_bench.h"
#include "app/benches/take/take_strips.h"
#include "app/widgets/figure_table.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "support/demo_copy.h"
#include "support/run_cli.h"
#include "support/take_window.h"

#include <QDialog>
#include <QJsonArray>
#include <QLabel>
#include <QLineEdit>
#include <QTableWidget>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using namespace gristle::test;

class TestTakeBench : public TakeWindow {
    Q_OBJECT

private slots:
    void initTestCase() { makeDemo(); }

    void aTakeLiesWhereItWasPlayedAlongTo()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        PlayingStyle exact = hand(1);
        exact.timingSdMs = exact.dynamicsSdDb = 0.0;
        teach(b, exact);
        recordThrough(b);
        QCOMPARE(b.window.session().layer()->takes.size(), std::size_t(1));
        const Take& take = b.window.session().layer()->takes[0];
        // A beat of what came before is kept; the rest of the count-in is not.
        QVERIFY(std::abs(take.atS + 60.0 / kTempo) < 1e-3);
        // He plays to the click with what the round trip takes: to the sample, it lies on the bar lines.
        const auto x = heard(b, 0);
        PlayingStyle truth = exact;
        truth.leadInS = 0.0, truth.pickupHz = 0.0;
        const auto played = perform(rhythmRiff(kBars), kTempo, standardTuning(), truth, 48000.0);
        const auto onsets = findOnsets(x, 48000.0);
        QVERIFY(onsets.size() > 40);
        for (std::size_t i = 0; i < 12; ++i) {
            double nearest = 1.0;
            for (const double t : played.onsetS) nearest = std::min(nearest, std::abs(onsets[i].timeS - t));
            QVERIFY2(nearest < 0.012, qPrintable(QString::number(nearest)));
        }
        QVERIFY(b.find<QLabel>("takeSentence")->text().contains("Clean"));
        // The riff's single notes are on the lowest string alone, and it is in tune.
        const auto& strings = b.window.bench<TakeBench>()->book().takes()[0].judgement.strings;
        QVERIFY(strings.size() == 1 && strings[0].name == "low E" && std::abs(strings[0].cents) < 1.5);
        QVERIFY(b.find<QLabel>("takeAbout")->text().contains("Strings, cents: low E"));
    }

    void aLoopGivesATakeEachPassAndTheBestBarsAreJoined()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        teach(b, hand(3, 3.0));
        RunWish wish;
        wish.shape.kind = engine::RunKind::Loop;
        wish.shape.countInBars = 1;
        wish.shape.fromBar = 1.0, wish.shape.toBar = 5.0;
        b.window.capture().run().setWish(wish);
        QTest::keyClick(&b.window, Qt::Key_R);
        b.settle();
        b.window.capture().player().runFor(bars(b, 5.6)); // the first pass with its margin
        teach(b, hand(4, 2.0));                           // another way of playing, from its own beginning
        b.settle();
        QCOMPARE(b.window.session().layer()->takes.size(), std::size_t(1)); // while the second is recorded
        b.window.capture().player().runFor(bars(b, 4.0));
        b.window.capture().stop();
        b.settle();
        const Layer* layer = b.window.session().layer();
        QCOMPARE(layer->takes.size(), std::size_t(2));
        for (const Take& t : layer->takes) {
            QVERIFY(t.isPunch());
            QVERIFY(std::abs(t.spanFromS) < 1e-6 && std::abs(t.spanToS - 4.0 * 240.0 / kTempo) < 1e-3);
            QVERIFY(std::filesystem::exists(b.window.session().folder().path() / t.file));
        }
        QVERIFY(unfinishedRecordings(b.window.session().folder().path()).empty());
        TakeBook& book = b.window.bench<TakeBench>()->book();
        QCOMPARE(book.takes().size(), std::size_t(2));
        QVERIFY2(book.takes()[0].judgement.bars[2].isBad, book.takes()[0].judgement.sentence.c_str());
        QVERIFY2(book.takes()[1].judgement.bars[1].isBad, book.takes()[1].judgement.sentence.c_str());
        // The proposal avoids both.
        QVERIFY(b.find<QPushButton>("joinBest")->isEnabled());
        QTest::keyClick(&b.window, Qt::Key_P);
        b.settle();
        const auto joined = book.heardBars();
        QCOMPARE(joined.size(), std::size_t(4));
        QVERIFY(joined[2] == 1 && joined[1] == 0);
        // By the keys, a bar from the other take: and undone.
        auto* strips = b.find<TakeStrips>("takeStrips");
        strips->setFocus();
        QTest::keyClick(strips, Qt::Key_Up);
        QTest::keyClick(strips, Qt::Key_Right);
        const int bar = strips->bar(), take = strips->take();
        QTest::keyClick(strips, Qt::Key_Return);
        b.settle();
        QCOMPARE(book.heardBars()[std::size_t(bar) - 1], take);
        QTest::keyClick(&b.window, Qt::Key_B);
        b.settle();
        QVERIFY(b.window.session().layer()->pieces.empty());
        QCOMPARE(b.window.session().layer()->chosen, std::size_t(take));
        // What is rendered ends with its bars: the pass that follows is not heard.
        const auto x = heard(b, 0);
        const auto end = std::size_t(4.0 * 240.0 / kTempo * 48000.0);
        QVERIFY(x.size() < end + 4800);
    }

    void earlierLayersAndClicksAreHeardWhileRecording()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        teach(b, hand(1));
        recordThrough(b);
        choose(b, 1);
        auto* device = dynamic_cast<engine::SimulatedDevice*>(b.window.audition().device());
        const auto energy = [&](bool layers, bool clicks) {
            RunWish wish;
            wish.layers = layers ? HeardLayers::Part : HeardLayers::None;
            wish.shape.hasClicks = clicks;
            b.window.capture().run().setWish(wish);
            b.window.capture().record();
            b.settle();
            device->forget();
            device->advance(3 * 48000);
            double left = 0.0, right = 0.0;
            for (const float v : device->heardLeft()) left += double(v) * double(v);
            for (const float v : device->heardRight()) right += double(v) * double(v);
            b.window.capture().stop();
            b.settle();
            return std::pair(left, right);
        };
        const auto nothing = energy(false, false), clicks = energy(false, true), layers = energy(true, false);
        QCOMPARE(nothing, std::pair(0.0, 0.0));
        QVERIFY(clicks.first > 0.0 && std::abs(clicks.first - clicks.second) < 1e-6 * clicks.first);
        QVERIFY2(layers.first > 100.0 * layers.second, "the left layer is heard on the left");
    }

    void playingNotesTravelWithTheTake()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        QTest::mouseClick(b.find<QPushButton>("playingNotes"), Qt::LeftButton);
        auto* dialog = b.window.findChild<QDialog*>("playingDialog");
        QVERIFY(dialog);
        dialog->findChild<QLineEdit*>("playing.cloth")->setText("at the nut");
        dialog->accept();
        b.window.activateWindow();
        QVERIFY(QTest::qWaitForWindowActive(&b.window));
        b.settle();
        teach(b, hand(1));
        recordThrough(b);
        QCOMPARE(b.window.session().layer()->takes.size(), std::size_t(1));
        QCOMPARE(b.window.session().layer()->takes[0].playing.cloth, std::string("at the nut"));
        const QString path = QString::fromStdString(b.window.session().folder().path().string());
        b.window.session().close();
        b.window.openPaths({path});
        b.settle();
        QCOMPARE(b.window.session().layer()->takes[0].playing.cloth, std::string("at the nut"));
    }

    void theCommandLineJudgesTheSame()
    {
        const QString session = dir_.filePath("judged twice.gristle");
        QVERIFY(copyDemo(session.toStdString()));
        WindowBench b;
        b.window.openPaths({session});
        b.settle();
        b.window.showBench("Take");
        for (const char* layer : {"Left 1", "Right 1"}) {
            choose(b, QString(layer) == "Left 1" ? 0 : 1);
            b.settle();
            const auto& takes = b.window.bench<TakeBench>()->book().takes();
            const auto ran = run({"take", "judge", session, "--part", "Rhythm A", "--layer", layer, "--json"});
            QVERIFY2(ran.code == 0, ran.error);
            const auto rows = ran.json()["take"].toArray();
            QCOMPARE(std::size_t(rows.size()), takes.size());
            QCOMPARE(ran.json()["best"].toInt(), 1);
            QStringList said, found;
            for (std::size_t i = 0; i < takes.size(); ++i) {
                const auto row = rows[int(i)].toObject();
                const TakeJudgement& judged = takes[i].judgement;
                QCOMPARE(number(row["cost"]), judged.cost);
                QCOMPARE(std::size_t(row["bar"].toArray().size()), judged.bars.size());
                for (std::size_t k = 0; k < judged.bars.size(); ++k) {
                    const auto bar = row["bar"].toArray()[int(k)].toObject();
                    QCOMPARE(bar["bar"].toInt(), judged.bars[k].bar);
                    QCOMPARE(number(bar["cost"]), judged.bars[k].cost);
                }
                for (const Finding& f : judged.findings) found << QString::fromStdString(f.code);
            }
            for (const auto& f : ran.json()["findings"].toArray()) said << f.toObject()["code"].toString();
            said.sort(), found.sort();
            QCOMPARE(said, found);
        }
        b.window.showBench("Double");
        b.window.bench<DoubleBench>()->showPage("pairs");
        b.settle();
        const auto ran = run({"pairs", session, "--part", "Rhythm A", "--json"});
        QVERIFY2(ran.code == 0, ran.error);
        const auto pairs = ran.json()["pair"].toArray();
        auto* table = b.find<QTableWidget>("pairTable");
        QVERIFY(pairs.size() > 0 && pairs.size() == table->rowCount());
        for (int row = 0; row < table->rowCount(); ++row) {
            const auto pair = pairs[row].toObject();
            QCOMPARE(table->item(row, 2)->text(), shownFigure(number(pair["offset_sd_ms"]), 1));
            QCOMPARE(table->item(row, 6)->text(), pair["heard_as"].toString());
            QCOMPARE(table->item(row, 7)->text(), shownFigure(number(pair["cost"]), 2));
        }
    }

    void againKeepsWhatThereIsAndStartsOver()
    {
        WindowBench b;
        openFresh(b, dir_.path());
        teach(b, hand(1));
        b.window.capture().setCountIn(0);
        QTest::keyClick(&b.window, Qt::Key_R);
        b.window.capture().player().runFor(3.0);
        QTest::keyClick(&b.window, Qt::Key_A);
        b.window.capture().player().runFor(0.1); // with the next look
        QVERIFY(b.window.capture().isBusy());
        b.window.capture().player().runFor(3.0);
        QTest::keyClick(&b.window, Qt::Key_R);
        b.settle();
        QCOMPARE(b.window.session().layer()->takes.size(), std::size_t(2));
        // No layer with two takes on each side: the other bench says what it takes.
        b.window.showBench("Double");
        b.settle();
        QVERIFY(b.window.bench<DoubleBench>()->page<OffsetsPage>()->verdict().contains("two layers"));
    }
};

QTEST_MAIN(TestTakeBench)
#include "test_take_bench.moc"
