// Take and Double on the real window: two layers recorded from the simulated player, a bar that drags found, played
// again by the remedy, and tight in the end; loops, punches, comps and moves, by keys.

#include "app/benches/double/copies_page.h"
#include "app/benches/double/double_bench.h"
#include "app/benches/double/offsets_page.h"
#include "app/benches/double/pairs_page.h"
#include "app/benches/take/take_bench.h"
#include "app/benches/take/take_strips.h"
#include "app/widgets/figure_table.h"
#include "core/audio/audio_reader.h"
#include "core/demo_session/demo_session.h"
#include "core/mix/render/render.h"
#include "core/mix/render/session_mix.h"
#include "core/session/take_import.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "support/capture_bench.h"
#include "support/natural_guitar.h"
#include "support/run_cli.h"
#include "support/signals.h"

#include <QComboBox>
#include <QDialog>
#include <QJsonArray>
#include <QLabel>
#include <QLineEdit>
#include <QTableWidget>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using namespace gristle::test;

namespace {

constexpr double kTempo = 112.0;
constexpr int kBars = 8;

/// An empty session with two layers of one part, one a side.
QString freshSession(const QString& folder)
{
    SessionDocument d;
    d.name = "Take";
    d.sampleRateHz = 48000;
    Song song;
    song.name = "Tide Table";
    song.tempoBpm = kTempo;
    Layer left, right;
    left.name = "Left", left.place = -100.0;
    right.name = "Right", right.place = 100.0;
    song.parts = {{"Rhythm", {left, right}}};
    d.songs = {song};
    static int n = 0;
    const QString path = QString("%1/take %2.gristle").arg(folder).arg(++n);
    auto made = SessionFolder::create(path.toStdString(), d, "2026-11-27T10:00:00");
    return made ? path : QString();
}

} // namespace

class TestTakeBench : public CaptureBench {
    Q_OBJECT

    /// He plays the riff from bar 1 on, his way.
    static void teach(WindowBench& b, const PlayingStyle& hand,
                      const std::vector<WrittenNote>& part = rhythmRiff(kBars))
    {
        PlayingStyle style = hand;
        style.leadInS = 0.0;
        style.pickupHz = 0.0;
        auto volts = perform(part, kTempo, standardTuning(), style, 48000.0).volts;
        volts.resize(std::size_t(60.0 * 48000.0)); // and then he rests
        room(b).setPerformance(std::move(volts));
    }
    static PlayingStyle hand(unsigned seed, double lateBar = 0.0)
    {
        PlayingStyle out;
        out.seed = seed;
        out.timingSdMs = 4.0;
        if (lateBar > 0.0) out.lateFromBeat = 4.0 * (lateBar - 1.0), out.lateToBeat = 4.0 * lateBar, out.lateMs = 24.0;
        return out;
    }
    static double bars(WindowBench& b, double count) { return count * b.window.session().loop().barSeconds(); }
    static void openFresh(WindowBench& b, const QString& folder)
    {
        b.window.openPaths({freshSession(folder)});
        b.settle();
        b.window.capture().useTestClock();
        b.window.showBench("Take");
        b.settle();
    }
    static void choose(WindowBench& b, std::size_t layer)
    {
        b.window.session().setPath({0, 0, layer});
        b.settle();
    }
    /// By the key, with a bar counted in.
    static void recordThrough(WindowBench& b)
    {
        b.window.capture().setCountIn(1);
        QTest::keyClick(&b.window, Qt::Key_R);
        b.settle();
        b.window.capture().player().runFor(bars(b, kBars + 1.5));
        QTest::keyClick(&b.window, Qt::Key_R);
        b.settle();
    }
    static void recordBoth(WindowBench& b, const PlayingStyle& left, const PlayingStyle& right,
                           const std::vector<WrittenNote>& part = rhythmRiff(kBars))
    {
        teach(b, left, part);
        recordThrough(b);
        choose(b, 1);
        teach(b, right, part);
        recordThrough(b);
    }
    static std::vector<float> heard(WindowBench& b, std::size_t layer)
    {
        const auto& l = b.window.session().document().songs[0].parts[0].layers[layer];
        LayerRecipe recipe = layerRecipe(b.window.session().folder(), l, RigDocument{});
        RenderReport report;
        const auto out = renderToMemory(recipe, report);
        const auto x = std::as_const(out->audio).channel(0);
        return {x.begin(), x.end()};
    }

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
        QVERIFY(makeDemoSession(folder.toStdString()));
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

    void theCommandLineJudgesTheSame()
    {
        const QString session = dir_.filePath("judged twice.gristle");
        QVERIFY(makeDemoSession(session.toStdString()));
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
