#include "app/benches/level/check_page.h"
#include "app/benches/level/ledger_page.h"
#include "app/benches/level/level_bench.h"
#include "app/benches/log/log_bench.h"
#include "app/models/preferences.h"
#include "core/audio/audio_reader.h"
#include "core/audio/audio_writer.h"
#include "core/audio/take_writer.h"
#include "core/demo_session/demo_session.h"
#include "core/rig/circuit/guitar_circuit.h"
#include "core/session/gain_book.h"
#include "engine/standard_room.h"
#include "support/window_bench.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QTableWidget>
#include <csignal>
#include <sys/resource.h>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

/// The check and recording on the real window, with the simulated interface under a clock of its own.
class TestCapture : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;

    QString freshDemo()
    {
        static int n = 0;
        const QString path = dir_.filePath(QString("demo %1.gristle").arg(++n));
        std::filesystem::copy(dir_.filePath("first.gristle").toStdString(), path.toStdString(),
                              std::filesystem::copy_options::recursive);
        return path;
    }
    static engine::SimulatedRoom& room(WindowBench& b)
    {
        return *dynamic_cast<engine::SimulatedDevice*>(b.window.audition().device())->room();
    }
    static void open(WindowBench& b, const QString& session, const char* page)
    {
        b.window.openPaths({session});
        b.settle();
        b.window.capture().useTestClock();
        b.window.showBench(0);
        b.window.bench<LevelBench>()->showPage(page);
        b.settle();
    }
    /// A step of the check: begun by the key, for a while, ended by the key where it does not end by itself.
    static void step(WindowBench& b, double seconds)
    {
        GuidedCheck& check = b.window.bench<LevelBench>()->page<CheckPage>()->check();
        const auto which = check.step();
        room(b).setPlaying(which != GuidedCheck::Step::Rest && which != GuidedCheck::Step::Turn);
        QTest::keyClick(b.find<QPushButton>("checkGo"), Qt::Key_Return);
        QVERIFY(check.isRunning());
        for (double at = 0.0; at < seconds; at += 0.1) {
            if (which == GuidedCheck::Step::Turn) room(b).setAngleDeg(180.0 * at / seconds);
            b.window.capture().runFor(0.1);
        }
        if (check.isRunning() && check.step() == which) QTest::keyClick(b.find<QPushButton>("checkGo"), Qt::Key_Return);
        b.settle();
    }

private slots:
    void initTestCase()
    {
        qputenv("GRISTLE_HOME", dir_.filePath("home").toUtf8());
        QVERIFY(bool(makeDemoSession(dir_.filePath("first.gristle").toStdString())));
    }

    // The simulated player's hands and faults are in the window: a softer guitar reads softer, a lost block is told.
    void playersHandsAndFaults()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        const auto loudest = [&] {
            b.window.capture().clearClips();
            double most = -200.0;
            for (int i = 0; i < 60; ++i) {
                b.window.capture().runFor(0.1);
                most = std::max(most, b.window.capture().reading().peakDbfs);
            }
            return most;
        };
        b.find<QPushButton>("player")->click();
        const double full = loudest();
        b.find<QSlider>("playerVolume")->setValue(50); // 5 of 10
        QCOMPARE(room(b).guitar()->controls.volume, 5.0);
        const double half = loudest();
        // An audio taper leaves a tenth of the track at half its turn: 20 dB, and what the load takes.
        QVERIFY2(std::abs(full - half - 20.0) < 3.0, qPrintable(QString("%1, then %2").arg(full).arg(half)));
        b.find<QCheckBox>("playerPulled")->click();
        QVERIFY(loudest() < half - 20.0);
        b.find<QCheckBox>("playerPulled")->click();
        b.find<QPushButton>("record")->click();
        b.window.capture().runFor(1.0);
        b.find<QPushButton>("playerLose")->click();
        b.window.capture().runFor(1.0);
        QCOMPARE(b.window.capture().gaps(), std::size_t(1));
        b.find<QPushButton>("playerUnplug")->click();
        b.window.capture().runFor(0.2);
        b.settle();
        QVERIFY(!b.window.capture().isRecording() && !b.window.capture().isOpen());
        QVERIFY(!b.find<QSlider>("playerVolume")->isEnabled());            // nothing is left to turn
        QVERIFY(b.window.session().layer()->chosenTake()->frames > 48000); // the take is kept
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
        QCOMPARE(*b.window.capture().preampDb(), std::round(12.0 + std::round(*result.gainChangeDb)));
        QTest::keyClick(b.find<QPushButton>("checkGo"), Qt::Key_Return);
        for (int i = 0; i < 600 && check.isRunning(); ++i) b.window.capture().runFor(0.1);
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
        b.window.capture().runFor(12.0);
        b.find<QPushButton>("record")->click();
        b.settle();
        const Layer& layer = *b.window.session().layer();
        QCOMPARE(layer.takes.size(), before + 1);
        QCOMPARE(layer.chosen, before);
        const Take& take = *layer.chosenTake();
        QCOMPARE(take.frames, std::int64_t(12.0 * 48000.0));
        const auto average = b.window.session().averageDbfs(take);
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

    void theLiveReadingsAreThoseOfTheSignal()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        // A sine of known level instead of the player: 0.5 V at +12 dBu full scale.
        engine::SimulatedRoom::Setup setup;
        setup.humDbu = -200.0;
        setup.inputNoiseDbu = setup.converterNoiseDbfs = -200.0;
        setup.performanceV.resize(48000);
        for (std::size_t i = 0; i < setup.performanceV.size(); ++i)
            setup.performanceV[i] = 0.5f * float(std::sin(2.0 * std::numbers::pi * 200.0 * double(i) / 48000.0));
        b.window.audition().setDevice(std::make_unique<engine::SimulatedDevice>(
            48000.0, 256, engine::SimulatedDevice::Clock::Manual, std::make_shared<engine::SimulatedRoom>(setup)));
        b.window.capture().runFor(2.0);
        const double truth = amplitudeToDb(0.5 / Calibration{12.0, false}.fullScaleVolts());
        QVERIFY(std::abs(b.window.capture().reading().peakDbfs - truth) < 0.05);
        QVERIFY(std::abs(b.window.capture().reading().averageDbfs - truth) < 0.05);
        QVERIFY(std::abs(b.find<QLabel>("marginLeft")->text().toDouble() + truth) < 0.1);
        QCOMPARE(b.window.capture().reading().clipped, std::int64_t(0));
        b.window.capture().turnPreamp(20.0);
        b.window.capture().runFor(0.5);
        QVERIFY(b.window.capture().reading().clipped > 0);
        QVERIFY(b.find<QLabel>("liveWarning")->text().contains("Clipped"));
    }

    void aLostDeviceKeepsTheTakeAndSaysUpToWhere()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        const auto before = b.window.session().layer()->takes.size();
        b.window.capture().record();
        b.window.capture().runFor(3.0);
        room(b).unplugDevice();
        b.window.capture().poll();
        b.settle();
        QVERIFY(!b.window.capture().isRecording());
        QVERIFY2(b.window.notice().contains("3.0 s"), qPrintable(b.window.notice()));
        QCOMPARE(b.window.session().layer()->takes.size(), before + 1);
        QCOMPARE(b.window.session().take()->frames, std::int64_t(3 * 48000));
    }

    void anXrunIsMarkedInTheTake()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        b.window.capture().record();
        b.window.capture().runFor(1.0);
        const std::int64_t at = b.window.audition().recorder().frames();
        room(b).loseOnce();
        b.window.capture().runFor(1.0);
        b.window.capture().stop();
        b.settle();
        QCOMPARE(b.window.session().take()->gaps, std::vector<std::int64_t>{at});
        const auto found = b.window.session().levelFindings(*b.window.session().take());
        QVERIFY(std::ranges::find(found, std::string("take.gaps"), &Finding::code) != found.end());
        // It is in the file, too: the next one who opens the session knows.
        const QString path = QString::fromStdString(b.window.session().folder().path().string());
        b.window.session().close();
        b.window.openPaths({path});
        b.settle();
        QCOMPARE(b.window.session().take()->gaps, std::vector<std::int64_t>{at});
    }

    void countInDelaysTheTakeByItsBars()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        b.window.capture().setCountIn(1);
        b.window.capture().record();
        QVERIFY(b.window.capture().isCountingIn() && !b.window.capture().isRecording());
        const double bar = b.window.session().barSeconds();
        b.window.capture().runFor(bar - 0.1);
        QVERIFY(b.window.capture().isCountingIn());
        b.window.capture().runFor(0.2);
        QVERIFY(b.window.capture().isRecording());
        b.window.capture().stop();
        b.settle();
        QVERIFY(b.window.session().take()->frames < 48000);
    }

    void aTakeThatNobodyFinishedIsRecovered()
    {
        const QString session = freshDemo();
        std::string song, part, layer;
        {
            const auto folder = SessionFolder::open(session.toStdString(), Access::Read);
            song = folder->document().songs[0].name;
            part = folder->document().songs[0].parts[0].name;
            layer = folder->document().songs[0].parts[0].layers[0].name;
        }
        RecordingNote note;
        note.targets = {{song, part, layer, 0}};
        note.recorded = "2026-11-26T10:00:00";
        note.source = "an interface, input 1";
        note.input = {18.0, false};
        const auto file = beginRecording(session.toStdString(), note);
        QVERIFY(bool(file));
        {
            auto writer = TakeWriter::create(*file, {48000, 1, SampleFormat::Int24, "", ""});
            std::vector<float> x(48000, 0.25f);
            QVERIFY(bool(writer->write(x)));
            writer->sync();
        } // as if the program had ended here: no keepRecording
        WindowBench b;
        b.window.openPaths({session});
        b.settle();
        const Take* take = b.window.session().take();
        QVERIFY(take);
        QCOMPARE(take->frames, std::int64_t(48000));
        QCOMPARE(take->input, note.input);
        QVERIFY(take->file.starts_with("audio/") && !take->file.starts_with("audio/."));
        QVERIFY(unfinishedRecordings(session.toStdString()).empty());
    }

    void closingWhileRecordingKeepsTheTake()
    {
        const QString session = freshDemo();
        std::size_t before = 0;
        {
            WindowBench b;
            open(b, session, "record");
            before = b.window.session().layer()->takes.size();
            b.window.capture().record();
            b.window.capture().runFor(2.0);
        }
        const auto folder = SessionFolder::open(session.toStdString(), Access::Read);
        QCOMPARE(folder->document().songs[0].parts[0].layers[0].takes.size(), before + 1);
    }

    void onePerformanceServesTwoLayers()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        const Part part = *b.window.session().part();
        QVERIFY(part.layers.size() >= 2);
        b.window.capture().setAlso({{part.layers[1].name, 0}});
        b.window.capture().record();
        b.window.capture().runFor(2.0);
        b.window.capture().stop();
        b.settle();
        const Part& after = *b.window.session().part();
        QCOMPARE(after.layers[0].takes.size(), part.layers[0].takes.size() + 1);
        QCOMPARE(after.layers[1].takes.size(), part.layers[1].takes.size() + 1);
        QCOMPARE(after.layers[0].takes.back().file, after.layers[1].takes.back().file);
    }

    // A microphone and the DI at once: one file, a channel for each layer, and each is judged by its own.
    void twoInputsServeTwoLayers()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        const Part part = *b.window.session().part();
        auto* also = b.find<QPushButton>("alsoFor");
        emit also->menu()->aboutToShow();
        QAction* other = also->menu()->actions().front(); // the other layer, a menu of inputs
        QCOMPARE(other->text().toStdString(), part.layers[1].name);
        other->menu()->actions().at(3)->trigger(); // not now, input 1, input 2, input 3
        QCOMPARE(b.window.capture().also(), (std::vector<AlsoRecord>{{part.layers[1].name, 2}}));
        b.window.capture().record();
        b.window.capture().runFor(6.0);
        QVERIFY(b.find<QLabel>("liveReadings")->text().contains("input 3"));
        b.window.capture().stop();
        b.settle();
        const Part& after = *b.window.session().part();
        const Take &guitar = after.layers[0].takes.back(), &empty = after.layers[1].takes.back();
        QCOMPARE(guitar.file, empty.file);
        QCOMPARE(guitar.channel, 1);
        QCOMPARE(empty.channel, 2);
        const auto m = b.window.session().measurement(guitar);
        QVERIFY(m && m->channels.size() == 1 && m->channels[0].vuTypical);
        QTRY_VERIFY(b.window.session().measurement(empty));
        // Nobody is plugged in there: noise of the input only, far below the guitar.
        const auto silence = b.window.session().measurement(empty);
        QVERIFY(*silence->channels[0].level.peakDbfs < *m->channels[0].level.peakDbfs - 40.0);
    }

    void anotherRateIsToldAndTheTakeKept()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        QString said;
        connect(&b.window.capture(), &Capture::failed, this, [&](const QString& m, const QString&) { said = m; });
        const auto before = b.window.session().layer()->takes.size();
        b.window.capture().record();
        b.window.capture().runFor(2.0);
        room(b).changeRate(44100);
        b.window.capture().poll();
        b.settle();
        QVERIFY2(said.contains("44100 Hz") && said.contains("kept up to 2.0 s"), qPrintable(said));
        QCOMPARE(b.window.session().layer()->takes.size(), before + 1);
    }

    // A disk that fills up, as a limit on the size of files shows it: the take ends by itself and is kept.
    void aFullDiskEndsTheTakeAndKeepsIt()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        QString said;
        connect(&b.window.capture(), &Capture::failed, this, [&](const QString& m, const QString&) { said = m; });
        const auto before = b.window.session().layer()->takes.size();
        rlimit whole{};
        getrlimit(RLIMIT_FSIZE, &whole);
        const rlimit small{1'000'000, whole.rlim_max};
        std::signal(SIGXFSZ, SIG_IGN);
        b.window.capture().record();
        setrlimit(RLIMIT_FSIZE, &small);
        for (int i = 0; i < 300 && b.window.capture().isRecording(); ++i) {
            b.window.capture().runFor(0.1);
            QTest::qWait(10); // the writer has a thread of its own
        }
        setrlimit(RLIMIT_FSIZE, &whole);
        QVERIFY(!b.window.capture().isRecording());
        b.settle();
        QVERIFY2(said.contains("s were kept"), qPrintable(said));
        QCOMPARE(b.window.session().layer()->takes.size(), before + 1);
        const auto r = readRecording(b.window.session().folder().path() / b.window.session().take()->file);
        QVERIFY(r && r->audio.frames() > 200'000 && r->audio.frames() < 334'000); // 3 bytes a frame
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
        b.window.capture().runFor(1.0);
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

    void anEmptySessionGetsItsFirstLayer()
    {
        WindowBench b;
        b.window.session().create(dir_.filePath("empty.gristle"), "Empty").value();
        b.window.capture().useTestClock();
        b.window.showBench(0);
        b.window.bench<LevelBench>()->showPage("record");
        b.window.activateWindow();
        QVERIFY(QTest::qWaitForWindowActive(&b.window));
        QTest::keyClick(&b.window, Qt::Key_R); // the key does it, too
        QVERIFY(b.window.capture().isRecording());
        b.window.capture().runFor(2.0);
        b.find<QPushButton>("record")->click();
        b.settle();
        QVERIFY(b.window.session().take());
        QCOMPARE(b.window.session().take()->frames, std::int64_t(2 * 48000));
        QCOMPARE(b.window.session().document().sampleRateHz, 48000);
    }

    // The same performance at a gain 5 dB higher than the take that counts has: that is what has drifted.
    void driftAgainstTheTakeIsTold()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        room(b).setGainDb(8.0);
        b.window.capture().record();
        b.window.capture().runFor(16.0);
        b.window.capture().stop();
        b.settle();
        b.window.capture().turnPreamp(5.0);
        b.window.capture().record();
        b.window.capture().runFor(16.0);
        const auto drift = b.window.capture().driftDb();
        QVERIFY2(drift && std::abs(*drift - 5.0) < 1.5, qPrintable(QString::number(drift.value_or(-99))));
        QVERIFY(b.find<QLabel>("liveWarning")->text().contains("louder than the take"));
        b.window.capture().stop();
        b.settle();
    }

    // Two blocks of the device and what the limiter holds back, by what is heard of an impulse that is played.
    void theDelayThatIsShownIsTheDelayThatIsHeard()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        engine::SimulatedRoom::Setup setup;
        setup.humDbu = setup.inputNoiseDbu = setup.converterNoiseDbfs = -200.0;
        setup.performanceV.assign(48000, 0.0f);
        setup.performanceV[24000] = 0.5f;
        b.window.audition().setDevice(std::make_unique<engine::SimulatedDevice>(
            48000.0, 256, engine::SimulatedDevice::Clock::Manual, std::make_shared<engine::SimulatedRoom>(setup)));
        auto* device = dynamic_cast<engine::SimulatedDevice*>(b.window.audition().device());
        b.window.capture().setHear(Hear::Dry);
        device->advance(20000);
        device->forget();
        device->advance(12000);
        const auto& heard = device->heardLeft();
        const auto at = std::ranges::max_element(heard, {}, [](float x) { return std::abs(x); }) - heard.begin();
        QVERIFY(std::abs(heard[std::size_t(at)]) > 0.01f);
        const double own = double(at) - 4000.0; // frames from the plug to the output, besides the device's buffers
        const double shown = *b.window.capture().delayMs() * 48.0 - 2.0 * 256.0;
        QVERIFY2(std::abs(own - shown) < 2.0, qPrintable(QString("%1 heard, %2 shown").arg(own).arg(shown)));
    }

    // The cable of the simulated interface is 96 frames long, and its inputs hear what was played a block before.
    void thePingButtonMeasuresTheCable()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        b.window.capture().chooseDevice(b.window.capture().deviceId()); // in real time
        b.window.capture().setInput(1);                                 // where the cable comes back
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

    // Bytes that are free, over those that a second of 24-bit mono takes.
    void roomOnTheDiskIsTold()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        const auto minutes = [&](double channels) {
            const auto space = std::filesystem::space(b.window.session().folder().path());
            return double(space.available) / (48000.0 * 3.0 * channels) / 60.0;
        };
        QVERIFY(std::abs(*b.window.capture().minutesLeft() / minutes(1.0) - 1.0) < 0.02); // others write meanwhile
        b.window.capture().setAlso({{b.window.session().part()->layers[1].name, 2}});
        QVERIFY(std::abs(*b.window.capture().minutesLeft() / minutes(2.0) - 1.0) < 0.02);
    }

    // The ledger on the screen, by hand: full scale is +12 dBu, so dBu are dBFS and 12, and volts 0.7746 x 10^(dBu /
    // 20).
    void ledgerShowsWhatTheTakeSays()
    {
        WindowBench b;
        open(b, freshDemo(), "ledger");
        const double average = *b.window.session().averageDbfs(*b.window.session().take());
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

    void silenceIsToldWhileItLasts()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        room(b).setSilent(true);
        b.window.capture().runFor(6.0);
        QVERIFY(b.find<QLabel>("liveWarning")->text().contains("plugged in"));
        room(b).setSilent(false);
        b.window.capture().runFor(4.0); // the player strums again
        QVERIFY(!b.find<QLabel>("liveWarning")->text().contains("plugged in"));
    }

    void hearingOneselfFollowsTheChoice()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        auto* device = dynamic_cast<engine::SimulatedDevice*>(b.window.audition().device());
        const auto loudest = [&] {
            device->advance(96000); // two seconds; the player strums in each
            float most = 0.0f;
            for (const float x : device->heardLeft()) most = std::max(most, std::abs(x));
            device->forget();
            return most;
        };
        b.window.capture().runFor(2.0);
        QCOMPARE(loudest(), 0.0f);
        b.find<QComboBox>("hearMyself")->setCurrentIndex(1);
        emit b.find<QComboBox>("hearMyself")->activated(1);
        const float dry = loudest();
        QVERIFY(dry > 0.001f);
        b.window.capture().setHear(Hear::Rig);
        loudest(); // the swap is faded
        const float rig = loudest();
        QVERIFY(rig > 0.001f && std::abs(rig - dry) > 0.001f);
        b.window.capture().setHear(Hear::Nothing);
        loudest();
        QCOMPARE(loudest(), 0.0f);
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
        QCOMPARE(model.rig().chain.front().type, std::string("loading"));
        QCOMPARE(numberOf(model.rig().chain.front().values, "input"), 68.0);
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
        b.window.capture().runFor(14.0);
        b.window.capture().stop();
        b.window.bench<LevelBench>()->showPage("take");
        b.settle();
        QPushButton* remedy = nullptr;
        for (QPushButton* button : b.window.findChildren<QPushButton*>())
            if (button->text().startsWith("Comb it out")) remedy = button;
        QVERIFY(remedy);
        remedy->click();
        b.settle();
        const RigDocument rig = b.window.session().rig();
        QCOMPARE(rig.chain.front().type, std::string("humcomb"));
        QVERIFY(std::abs(numberOf(rig.chain.front().values, "mains") - 50.02) < 0.05);
        bool told = false;
        for (QLabel* label : b.window.findChildren<QLabel*>())
            told = told || label->text().contains("The cleaning is worth it") ||
                   label->text().contains("The cure costs more");
        QVERIFY(told);
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
                         qPrintable(QString("%1 %2").arg(page, w->objectName())));
            }
        }
    }
};

QTEST_MAIN(TestCapture)
#include "test_capture.moc"
