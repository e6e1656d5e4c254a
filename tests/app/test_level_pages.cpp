#include "app/benches/level/ledger_page.h"
#include "app/benches/take/take_bench.h"
#include "app/models/preferences.h"
#include "core/audio/audio_reader.h"
#include "core/audio/take_writer.h"
#include "core/rig/circuit/guitar_circuit.h"
#include "core/session/gain_book.h"
#include "core/sim/plucked_string.h"
#include "support/capture_bench.h"
#include "support/signals.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QLabel>
#include <QLineEdit>
#include <QTableWidget>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

/// The pages of Level: check, gains, ledger, loading, the interface.
class TestLevelPages : public gristle::test::CaptureBench {
    Q_OBJECT
private slots:
    void initTestCase() { makeDemo(); }

    /// An input's noise is brought in: the page says that nobody plays, and offers no gain.
    void nobodyPlays()
    {
        WindowBench b;
        open(b, freshDemo(), "take");
        test::writeWav(dir_, "Only noise.wav", {test::whiteNoise(3e-4, 48000 * 3, 5)}, 48000, SampleFormat::Int24);
        b.window.bringIn({dir_.filePath("Only noise.wav")});
        b.settle();
        QCOMPARE(b.find<QLabel>("gainChange")->text(), QString(QChar(0x2013)));
        QCOMPARE(b.find<QLabel>("gainUnit")->text(), QString("nobody plays here"));
        const auto labels = b.window.findChildren<QLabel*>();
        QVERIFY(std::ranges::any_of(
            labels, [](const QLabel* l) { return l->isVisible() && l->text() == "Nobody plays here"; }));
        QCOMPARE(b.window.bench<TakeBench>()->state().line, QString("nobody plays"));
    }

    void checkAdviseRecordAndFindItInTheLog()
    {
        WindowBench b;
        open(b, freshDemo(), "check");
        GuidedCheck& check = b.window.bench<LevelBench>()->page<CheckPage>()->check();
        room(b).setGainDb(12.0);
        using Step = GuidedCheck::Step;
        step(b, 5.2);
        QCOMPARE(check.step(), Step::Turn); // hum stands out in the room
        step(b, 15.2);
        QVERIFY(!check.humTrace().empty());
        const HumTurn turn = humTurn(check.humTrace());
        // The room's hum falls by 20 dB towards its quiet angle of 70 degrees: at 70 / 180 of the turn.
        QVERIFY2(std::abs(turn.best.timeS - 15.0 * 70.0 / 180.0) < 1.0, qPrintable(QString::number(turn.best.timeS)));
        QVERIFY2(std::abs(turn.differenceDb - 20.0) < 1.5, qPrintable(QString::number(turn.differenceDb)));
        step(b, 12.0);
        step(b, 8.0);
        QVERIFY(check.isOver());
        const CaptureCheck result = check.judged()->check;
        QVERIFY(result.gainChangeDb && std::abs(*result.gainChangeDb) > 2.0); // there is something to turn
        QVERIFY(std::abs(result.hum->mainsHz - 50.02) < 0.05);

        // The advice is applied at the simulated preamp, and the needle agrees after three bars.
        b.find<QPushButton>("turnSimulated")->click();
        QCOMPARE(*b.window.capture().player().preampDb(), std::round(12.0 + std::round(*result.gainChangeDb)));
        QTest::keyClick(b.find<QPushButton>("checkGo"), Qt::Key_Return);
        for (int i = 0; i < 600 && check.isRunning(); ++i) b.window.capture().player().runFor(0.1);
        QVERIFY(!check.isRunning());
        QCOMPARE(check.barsThatAgree(), GuidedCheck::kBarsToAgree);
        QVERIFY(std::abs(*check.remainingDb()) <= GuidedCheck::kAgreeDb);

        // Kept in the gain book, and told the next time.
        b.find<QLineEdit>("gainNow")->setText("34");
        b.find<QPushButton>("keepGain")->click();
        QVERIFY(b.find<QLabel>("gainBookLine")->text().contains("gain at 34"));

        // A take with this gain is right, and stands in the log.
        const auto before = b.window.session().layer()->takes.size();
        b.window.bench<LevelBench>()->showPage("record");
        b.find<QPushButton>("record")->click();
        QVERIFY(b.window.capture().isRecording());
        b.window.capture().player().runFor(12.0);
        b.find<QPushButton>("record")->click();
        b.settle();
        const Layer& layer = *b.window.session().layer();
        QCOMPARE(layer.takes.size(), before + 1);
        QCOMPARE(layer.chosen, before);
        const Take& take = *layer.chosenTake();
        QCOMPARE(take.frames, std::int64_t(12.0 * 48000.0));
        const auto average = b.window.session().measurements().averageDbfs(take);
        QVERIFY(average && std::abs(*average - b.window.session().document().referenceDbfs) < 2.0);
        bool logged = false;
        for (const LogEntry& e : b.window.session().folder().readLog())
            logged = logged || e.text.starts_with("Take recorded");
        QVERIFY(logged);
        // The file is what the interface gave: BWF, 24 bit, and nothing is left behind in audio/.
        const auto reader = AudioReader::open(b.window.session().folder().path() / take.file);
        QVERIFY(bool(reader) && reader->info().bits == 24);
        QVERIFY(unfinishedRecordings(b.window.session().folder().path()).empty());
        // One step of undo takes the take out again; its file stays.
        b.window.session().undoStack().undo();
        QCOMPARE(b.window.session().layer()->takes.size(), before);
    }

    void aGuitarOnTheOtherInputIsFound()
    {
        WindowBench b;
        open(b, freshDemo(), "check");
        GuidedCheck& check = b.window.bench<LevelBench>()->page<CheckPage>()->check();
        room(b).setGainDb(17.0);
        room(b).setSwapped(true); // the plug is in input 2, input 1 is chosen
        step(b, 5.2);
        if (check.step() == GuidedCheck::Step::Turn) step(b, 15.2);
        step(b, 10.0);
        step(b, 6.0);
        QVERIFY(check.isOver());
        const auto& found = check.judged()->findings;
        const auto at = std::ranges::find(found, std::string("check.wrong_channel"), &Finding::code);
        QVERIFY(at != found.end());
        QVERIFY(at->severity == Severity::Stop);
    }

    void directMonitorIsRememberedByInterface()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        auto* hear = b.find<QComboBox>("hearMyself");
        hear->setCurrentIndex(3);
        emit hear->activated(3);
        QVERIFY(!b.window.capture().delayMs());
        QVERIFY(b.find<QLabel>("delayText")->text().contains("past Gristle"));
        const QString id = b.window.capture().deviceId();
        b.window.capture().chooseDevice(id); // opened anew, as at the next start
        QCOMPARE(b.window.capture().hear(), Hear::Direct);
        b.window.capture().useTestClock();
        b.window.capture().record();
        b.window.capture().player().runFor(1.0);
        b.window.capture().stop();
        b.settle();
        QVERIFY(b.window.session().take()->source.find("direct monitor") != std::string::npos);
        b.window.capture().setHear(Hear::Nothing);
        QVERIFY(!hasDirectMonitor(id));
    }

    // The book of all sessions: what is kept stands in it, the fields are filled from it, and what is different now is
    // said when the level has moved.
    void theGainBookIsShownAndUsed()
    {
        WindowBench b;
        open(b, freshDemo(), "check");
        b.window.session().edit("Guitar", "guitar", [](SessionDocument& d) { // that the book does not know yet
            d.songs[0].parts[0].layers[0].guitar = "the third one";
        });
        b.settle();
        GainEntry old;
        old.when = "2026-09-01T10:00:00";
        old.guitar = b.window.session().layer()->guitar;
        old.pickup = b.window.session().layer()->pickup;
        old.interface = b.window.audition().device()->name();
        old.gain = "21";
        old.averageDbfs = -25.5;
        old.why = "new strings";
        old.with.strings = "ten to forty-six, new";
        old.with.tone = "4";
        GuidedCheck& check = b.window.bench<LevelBench>()->page<CheckPage>()->check();
        check.keep(old);
        QCOMPARE(b.find<QLineEdit>("madeStrings")->text(), QString("ten to forty-six, new"));
        QCOMPARE(b.find<QLineEdit>("madeTone")->text(), QString("4"));
        b.find<QLineEdit>("madeTone")->setText("10");
        emit b.find<QLineEdit>("madeTone")->editingFinished();
        QCOMPARE(changedSince(old.with, check.entry("21").with), (std::vector<std::string>{"tone 4, now 10"}));

        b.window.bench<LevelBench>()->showPage("gains");
        auto* table = b.find<QTableWidget>("gainsTable");
        b.find<QCheckBox>("gainsOnlyThis")->setChecked(true);
        QVERIFY(table->rowCount() >= 1);
        const int row = table->rowCount() - 1; // the newest stand first, and this one is old
        QCOMPARE(table->item(row, 0)->text(), QString("2026-09-01"));
        QCOMPARE(table->item(row, 4)->text(), QString("21"));
        QCOMPARE(table->item(row, 5)->text(), QString::fromUtf8("\u221225.5"));
        QVERIFY(table->item(row, 9)->text().contains("tone 4"));
        QCOMPARE(table->item(row, 8)->text(), QString("new strings"));
    }

    // The cable of the simulated interface is 96 frames long, and its inputs hear what was played a block before.
    void thePingButtonMeasuresTheCable()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        b.window.capture().chooseDevice(b.window.capture().deviceId()); // in real time
        QTRY_VERIFY_WITH_TIMEOUT(b.window.capture().isOpen() && b.window.capture().inputs() > 1, 20000);
        b.window.capture().setInput(1); // where the cable comes back
        double found = -1.0;
        connect(&b.window.capture(), &Capture::pinged, this, [&](double samples) { found = samples; });
        b.find<QPushButton>("ping")->click();
        QTRY_VERIFY_WITH_TIMEOUT(found >= 0.0, 20000);
        const double block = double(b.window.audition().device()->bufferFrames());
        QVERIFY2(std::abs(found - (96.0 + block)) < 0.05, qPrintable(QString::number(found)));
        QVERIFY(b.find<QLabel>("delayText")->text().contains("measured"));
        bool logged = false;
        for (const LogEntry& e : b.window.session().folder().readLog())
            logged = logged || e.text.find("Round trip measured") != std::string::npos;
        QVERIFY(logged);
    }

    // The ledger on the screen, by hand: full scale is +12 dBu, so dBu are dBFS and 12, and volts 0.7746 x 10^(dBu /
    // 20).
    void ledgerShowsWhatTheTakeSays()
    {
        WindowBench b;
        open(b, freshDemo(), "ledger");
        const double average = *b.window.session().measurements().averageDbfs(*b.window.session().take());
        const QString told = b.find<QWidget>("ledgerPicture")->accessibleDescription();
        const auto has = [&](const char* rung) {
            const auto at = told.indexOf(rung);
            const QString figure = told.mid(at + int(strlen(rung)) + 1).section(' ', 0, 0).replace(QChar(0x2212), '-');
            return at >= 0 && std::abs(figure.toDouble() - (average + 12.0)) < 0.06;
        };
        QVERIFY2(has("interface input") && has("amplifier input"), qPrintable(told));
        // Two assumed calibrations of 6 dB each: 8.5 dB.
        QVERIFY(b.find<QLabel>("ledgerSentence")->text().contains(QString::fromUtf8("\u00b18.5 dB")));
    }

    void loadingShowsWhatTheCircuitGives()
    {
        WindowBench b;
        open(b, freshDemo(), "loading");
        auto& model = b.window.session();
        // The initial set-up, then one whose input is 68 kilohms: both numbers as core computes them.
        b.find<QPushButton>("addSetup")->click();
        b.settle();
        QCOMPARE(model.document().loadings.size(), std::size_t(2));
        auto* input = b.find<QWidget>("page.loading")->findChild<QLineEdit*>("control.input");
        QVERIFY(input);
        input->setFocus();
        input->setText("68");
        QTest::keyClick(input, Qt::Key_Return);
        b.settle();
        QCOMPARE(model.document().loadings[1], std::string("input=68"));
        GuitarCircuit g;
        for (const PickupKind& kind : pickupKinds())
            if (std::string(kind.key) == "narrow") g.pickup = kind.pickup;
        g.input.ohm = 68e3;
        const QString told = b.find<QLabel>("loadingSentence")->text();
        QVERIFY2(told.contains(QString("costs %1 dB").arg(insertionLossDb(g, 4000.0), 0, 'f', 1)), qPrintable(told));
        const QString table = b.find<QLabel>("loadingFigures")->text();
        for (const double hz : {1000.0, 3000.0, 5000.0})
            QVERIFY(table.contains(">" + numberLabel(insertionLossDb(g, hz), 1) + "</span>"));
        const auto r = resonanceOf(g);
        QVERIFY(b.find<QLabel>("loadingFigures")->text().contains(QString::number(*r.q, 'f', 1)));
        // It is heard against the take as it is, and goes first into the rig.
        QCOMPARE(b.window.audition().current().slots_.size(), std::size_t(3));
        QVERIFY(b.window.audition().matchingGainDb(2).has_value());
        b.find<QPushButton>("loadingIntoRig")->click();
        b.settle();
        QCOMPARE(model.rigs().inHand().chain.front().type, std::string("loading"));
        QCOMPARE(numberOf(model.rigs().inHand().chain.front().values, "input"), 68.0);
        // Undo takes it out again; the set-ups are still there after closing and opening.
        const QString path = QString::fromStdString(model.folder().path().string());
        model.close();
        b.window.openPaths({path});
        b.settle();
        QCOMPARE(model.document().loadings.size(), std::size_t(2));
    }

    void theLedgerIsThatOfTheTake()
    {
        WindowBench b;
        open(b, freshDemo(), "ledger");
        auto& model = b.window.session();
        b.find<QDoubleSpinBox>("outputDbu")->setValue(18.0);
        emit b.find<QDoubleSpinBox>("outputDbu")->editingFinished();
        b.find<QDoubleSpinBox>("boxDb")->setValue(-12.0);
        emit b.find<QDoubleSpinBox>("boxDb")->editingFinished();
        b.settle();
        const double trim = model.take()->input.dbuAtFullScale - 18.0 + 12.0;
        const QString told = b.find<QLabel>("ledgerSentence")->text();
        QVERIFY2(told.contains(QString::fromStdString(signedText(trim)) + " dB of trim"), qPrintable(told));
        // A return that is 3 dB too loud is told as such.
        auto copy = readRecording(model.folder().path() / model.take()->file);
        for (float& x : copy->audio.channel(0)) x *= float(dbToAmplitude(3.0));
        const QString file = dir_.filePath("return.wav");
        QVERIFY(bool(writeRecording(file.toStdString(), *copy)));
        auto* page = qobject_cast<LedgerPage*>(b.find<QWidget>("page.ledger"));
        page->askReturn = [file] { return file; };
        b.find<QPushButton>("checkReturn")->click();
        b.settle();
        QVERIFY2(b.find<QLabel>("ledgerSentence")->text().contains("3.0 dB off"),
                 qPrintable(b.find<QLabel>("ledgerSentence")->text()));
        // A voltmeter at the output: 0.7746 V of a tone at -20 dBFS is +20 dBu at full scale.
        b.find<QDoubleSpinBox>("voltsRead")->setValue(0.7746);
        b.find<QPushButton>("fromVolts")->click();
        QCOMPARE(std::round(10.0 * model.document().reamp.output.dbuAtFullScale), 200.0);
        QVERIFY(!model.document().reamp.output.assumed);
        QVERIFY(b.find<QLabel>("calibrationArithmetic")->text().contains("+20.0 dBu"));
    }

    // Hum in a take: one click on the finding's remedy puts the comb first, and its damage is told.
    void aHummingTakeIsCombed()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        engine::SimulatedRoom::Setup loud;
        loud.performanceV = engine::simulatedPerformance({}, 48000.0);
        loud.humDbu = -40.0;
        b.window.audition().setDevice(std::make_unique<engine::SimulatedDevice>(
            48000.0, 256, engine::SimulatedDevice::Clock::Manual, std::make_shared<engine::SimulatedRoom>(loud)));
        room(b).setAngleDeg(250.0); // the worst
        room(b).setGainDb(17.0);
        b.window.capture().record();
        b.window.capture().player().runFor(14.0);
        b.window.capture().stop();
        b.window.bench<LevelBench>()->showPage("take");
        b.settle();
        QPushButton* remedy = nullptr;
        for (QPushButton* button : b.window.findChildren<QPushButton*>())
            if (button->text().startsWith("Comb it out")) remedy = button;
        QVERIFY(remedy);
        remedy->click();
        b.settle();
        const RigDocument rig = b.window.session().rigs().inHand();
        QCOMPARE(rig.chain.front().type, std::string("humcomb"));
        QVERIFY(std::abs(numberOf(rig.chain.front().values, "mains") - 50.02) < 0.05);
        bool told = false;
        for (QLabel* label : b.window.findChildren<QLabel*>())
            told = told || label->text().contains("The cleaning is worth it") ||
                   label->text().contains("The cure costs more");
        QVERIFY(told);
    }

    // The tuner beside the meters: a string that is twelve cents flat, then one that is in tune, then silence.
    void theNoteThatSounds()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        const auto listen = [&] { // the note is found beside: each look waits for the one before
            for (int look = 0; look < 10; ++look) {
                b.window.capture().player().runFor(0.1);
                QTRY_VERIFY_WITH_TIMEOUT(!b.window.capture().tuner().isBusy(), 60000);
            }
        };
        const auto play = [&](double hz) {
            engine::SimulatedRoom::Setup plucked;
            core::PluckedNote note;
            note.hz = hz;
            note.seconds = 3.0;
            plucked.performanceV = core::pluck(note, 48000.0);
            for (float& v : plucked.performanceV) v *= 0.2f;
            b.window.audition().setDevice(
                std::make_unique<engine::SimulatedDevice>(48000.0, 256, engine::SimulatedDevice::Clock::Manual,
                                                          std::make_shared<engine::SimulatedRoom>(plucked)));
            room(b).setPlaying(true);
            listen();
            return b.find<QLabel>("liveNote")->text();
        };
        const QString flat = play(110.0 * std::exp2(-12.0 / 1200.0));
        QVERIFY2(flat.startsWith("A2 ") && flat.endsWith(" cents flat"), qPrintable(flat));
        QVERIFY2(std::abs(flat.section(' ', 1, 1).toDouble() - 12.0) < 0.5, qPrintable(flat));
        QCOMPARE(play(196.0), QString("G3 in tune"));
        room(b).setSilent(true);
        listen();
        QVERIFY(b.find<QLabel>("liveNote")->text().isEmpty());
    }

    void everyPageFitsAndNamesItsControls()
    {
        WindowBench b;
        open(b, freshDemo(), "check");
        b.window.resize(1024, 700);
        for (const char* page : {"take", "check", "record", "ledger", "loading"}) {
            b.window.bench<LevelBench>()->showPage(page);
            QTest::qWait(30);
            auto* shown = b.find<QWidget>((std::string("page.") + page).c_str());
            for (QWidget* w : shown->findChildren<QWidget*>()) {
                if (!w->isVisible()) continue;
                if (qobject_cast<QPushButton*>(w) || qobject_cast<QComboBox*>(w) || qobject_cast<QLineEdit*>(w))
                    if (!w->objectName().startsWith("qt_"))
                        QVERIFY2(!w->accessibleName().isEmpty(), qPrintable(w->objectName()));
                const QRect r(w->mapTo(shown, QPoint(0, 0)), w->size());
                QVERIFY2(shown->rect().adjusted(-1, -1, 1, 1).contains(r),
                         qPrintable(QString("%1 %2 from %3 to %4 of %5")
                                        .arg(page, w->objectName())
                                        .arg(r.left())
                                        .arg(r.right())
                                        .arg(shown->width())));
            }
        }
    }
};

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    TestLevelPages test;
    return QTest::qExec(&test, argc, argv);
}

#include "test_level_pages.moc"
