#include "core/audio/audio_reader.h"
#include "core/audio/take_writer.h"
#include "support/capture_bench.h"

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QMenu>
#include <csignal>
#include <sys/resource.h>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;
using gristle::test::WindowBench;

/// Recording: what is played becomes a take, whatever happens.
class TestCapture : public gristle::test::CaptureBench {
    Q_OBJECT
private slots:
    void initTestCase() { makeDemo(); }

    // The simulated player's hands and faults are in the window: a softer guitar reads softer, a lost block is told.
    void playersHandsAndFaults()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        const auto loudest = [&] {
            b.window.capture().clearClips();
            double most = -200.0;
            for (int i = 0; i < 60; ++i) {
                b.window.capture().player().runFor(0.1);
                most = std::max(most, b.window.capture().meters().reading().peakDbfs);
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
        b.window.capture().player().runFor(1.0);
        b.find<QPushButton>("playerLose")->click();
        b.window.capture().player().runFor(1.0);
        QCOMPARE(b.window.capture().gaps(), std::size_t(1));
        b.find<QPushButton>("playerUnplug")->click();
        b.window.capture().player().runFor(0.2);
        b.settle();
        QVERIFY(!b.window.capture().isRecording() && !b.window.capture().isOpen());
        QVERIFY(!b.find<QSlider>("playerVolume")->isEnabled());            // nothing is left to turn
        QVERIFY(b.window.session().layer()->chosenTake()->frames > 48000); // the take is kept
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
        b.window.capture().player().runFor(2.0);
        const double truth = amplitudeToDb(0.5 / Calibration{12.0, false}.fullScaleVolts());
        QVERIFY(std::abs(b.window.capture().meters().reading().peakDbfs - truth) < 0.05);
        QVERIFY(std::abs(b.window.capture().meters().reading().averageDbfs - truth) < 0.05);
        QVERIFY(std::abs(b.find<QLabel>("marginLeft")->text().toDouble() + truth) < 0.1);
        QCOMPARE(b.window.capture().meters().reading().clipped, std::int64_t(0));
        b.window.capture().player().turnPreamp(20.0);
        b.window.capture().player().runFor(0.5);
        QVERIFY(b.window.capture().meters().reading().clipped > 0);
        QVERIFY(b.find<QLabel>("liveWarning")->text().contains("Clipped"));
    }

    void aLostDeviceKeepsTheTakeAndSaysUpToWhere()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        const auto before = b.window.session().layer()->takes.size();
        b.window.capture().record();
        b.window.capture().player().runFor(3.0);
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
        b.window.capture().player().runFor(1.0);
        const std::int64_t at = b.window.audition().recorder().frames();
        room(b).loseOnce();
        b.window.capture().player().runFor(1.0);
        b.window.capture().stop();
        b.settle();
        QCOMPARE(b.window.session().take()->gaps, std::vector<std::int64_t>{at});
        const auto found = b.window.session().measurements().levelFindings(*b.window.session().take());
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
        const double bar = b.window.session().loop().barSeconds();
        b.window.capture().player().runFor(bar - 0.1);
        QVERIFY(b.window.capture().isCountingIn());
        b.window.capture().player().runFor(0.2);
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
            (void)writer->sync();
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
            b.window.capture().player().runFor(2.0);
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
        b.window.capture().player().runFor(2.0);
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
        b.window.capture().player().runFor(6.0);
        QVERIFY(b.find<QLabel>("liveReadings")->text().contains("input 3"));
        b.window.capture().stop();
        b.settle();
        const Part& after = *b.window.session().part();
        const Take &guitar = after.layers[0].takes.back(), &empty = after.layers[1].takes.back();
        QCOMPARE(guitar.file, empty.file);
        QCOMPARE(guitar.channel, 1);
        QCOMPARE(empty.channel, 2);
        const auto m = b.window.session().measurements().of(guitar);
        QVERIFY(m && m->channels.size() == 1 && m->channels[0].vuTypical);
        QTRY_VERIFY(b.window.session().measurements().of(empty));
        // Nobody is plugged in there: noise of the input only, far below the guitar.
        const auto silence = b.window.session().measurements().of(empty);
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
        b.window.capture().player().runFor(2.0);
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
            b.window.capture().player().runFor(0.1);
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

    void anEmptySessionGetsItsFirstLayer()
    {
        WindowBench b;
        b.window.session().create(dir_.filePath("empty.gristle"), "Empty").value();
        b.window.capture().useTestClock();
        b.window.showBench("Level");
        b.window.bench<LevelBench>()->showPage("record");
        b.window.activateWindow();
        QVERIFY(QTest::qWaitForWindowActive(&b.window));
        QTest::keyClick(&b.window, Qt::Key_R); // the key does it, too
        QVERIFY(b.window.capture().isRecording());
        b.window.capture().player().runFor(2.0);
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
        b.window.capture().player().runFor(16.0);
        b.window.capture().stop();
        b.settle();
        b.window.capture().player().turnPreamp(5.0);
        b.window.capture().record();
        b.window.capture().player().runFor(16.0);
        const auto drift = b.window.capture().driftDb();
        QVERIFY2(drift && std::abs(*drift - 5.0) < 1.5, qPrintable(QString::number(drift.value_or(-99))));
        QVERIFY(b.find<QLabel>("liveWarning")->text().contains("louder than the take"));
        b.window.capture().stop();
        b.settle();
    }

    // What the device says of itself and what the limiter holds back, by what is heard of an impulse that is played.
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
        const double shown = *b.window.capture().delayMs() * 48.0 - double(device->latencyFrames());
        QVERIFY2(std::abs(own - shown) < 2.0, qPrintable(QString("%1 heard, %2 shown").arg(own).arg(shown)));
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

    void silenceIsToldWhileItLasts()
    {
        WindowBench b;
        open(b, freshDemo(), "record");
        room(b).setSilent(true);
        b.window.capture().player().runFor(6.0);
        QVERIFY(b.find<QLabel>("liveWarning")->text().contains("plugged in"));
        room(b).setSilent(false);
        b.window.capture().player().runFor(4.0); // the player strums again
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
        b.window.capture().player().runFor(2.0);
        QCOMPARE(loudest(), 0.0f);
        b.find<QComboBox>("hearMyself")->setCurrentIndex(1);
        emit b.find<QComboBox>("hearMyself")->activated(1);
        const float dry = loudest();
        QVERIFY(dry > 0.001f);
        // Through the layer's rig: one that is known.
        RigDocument known;
        known.chain = *parseRecallLine("gain db=-20");
        b.window.session().rigs().set(known, "A tenth as loud");
        b.window.capture().setHear(Hear::Rig);
        b.settle();
        loudest(); // the swap is faded
        const float rig = loudest();
        QVERIFY2(std::abs(rig / dry - 0.1f) < 0.03f, // his strokes are not all alike
                 qPrintable(QString::number(rig / dry)));
        b.window.capture().setHear(Hear::Nothing);
        loudest();
        QCOMPARE(loudest(), 0.0f);
    }
};

QTEST_MAIN(TestCapture)
#include "test_capture.moc"
