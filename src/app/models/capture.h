#pragma once

#include "app/models/audition.h"
#include "app/models/live_hearing.h"
#include "app/models/session_model.h"
#include "app/models/take_run.h"
#include "core/measure/loop_latency.h"
#include "core/measure/tuner.h"
#include "engine/simulated_room.h"

#include <map>

namespace gristle::app {

/// What a meter shows of one input since the last look.
struct InputReading {
    double peakDbfs = -200.0;
    double averageDbfs = -200.0; ///< as a VU meter weighs it, 99 % in 300 ms
    std::int64_t clipped = 0;    ///< samples since the meters were cleared
};

/// The highest of one input since the peaks were cleared.
struct HeldLevel {
    double peakDbfs = -200.0;
    std::int64_t clipped = 0; ///< samples
};

/// The interface and what is recorded over it: takes for the layer in hand, and the short recordings of the check.
/// GUI thread.
class Capture : public QObject {
    Q_OBJECT
public:
    Capture(SessionModel& session, Audition& audition, QObject* parent = nullptr);
    ~Capture() override;

    // the interface
    const std::vector<engine::DeviceInfo>& devices() const { return devices_; }
    /// Lists the devices on a worker, as systems take their time; then opens one where none runs.
    void lookForDevices();
    bool isLooking() const { return look_.isBusy(); }
    QString deviceId() const { return wish_.id.empty() ? QString() : QString::fromStdString(wish_.id); }
    void chooseDevice(const QString& id); ///< opens it; failed() says why not
    void chooseBuffer(std::size_t frames);
    bool isOpen() const; ///< a device with inputs runs
    bool isOpening() const { return audition_.isOpening(); }
    void ensureOpen(); ///< the chosen one, else the default, else the simulated one
    std::size_t inputs() const;
    double rateHz() const;
    std::size_t input() const { return input_; }
    void setInput(std::size_t input);
    bool isSimulated() const;
    engine::SimulatedRoom* room() const; ///< of the simulated interface; none of a real one
    /// Sets the simulated interface's preamp, as the hand would turn a real one's knob. Nothing on a real one.
    void turnPreamp(double byDb);
    std::optional<double> preampDb() const; ///< only of the simulated one
    /// The bar that the simulated player drags in, for the findings to find; 0: none.
    void setPlayerDrag(int bar);
    int playerDrag() const { return playerDrag_; }
    /// What the simulated player plays of the part in hand, in volts, its first bar a rest. Each seed is another try.
    std::function<std::vector<float>()> playersPart(std::uint32_t seed) const;

    // what the guitarist hears of himself
    void setHear(Hear hear);
    Hear hear() const { return hear_; }
    void setHearLevelDb(double db);
    double hearLevelDb() const { return hearDb_; }
    /// Input to ear by what the system says, with what Gristle adds; measured where a ping was made.
    std::optional<double> delayMs() const;
    bool isDelayMeasured() const { return roundTrip_.has_value(); }
    /// Works with the device itself, stopped, on a worker; nothing else is played or recorded meanwhile. Then the
    /// device runs as before, and what the work returned is called on the GUI thread.
    using DeviceWork = std::function<std::function<void()>(engine::AudioDevice&, const core::Progress&)>;
    bool withDevice(const QString& title, DeviceWork work); ///< false where it cannot: nothing is open, or it records
    void stopDeviceWork() { deviceStop_.request_stop(); }   ///< it ends early, and says so itself
    TaskRunner& deviceTask() { return device_; }
    void ping(); ///< over a cable from an output to the chosen input; pinged() or failed()

    void setTone(bool on); ///< the test tone of the calibration
    bool isTone() const { return tone_; }

    // takes
    TakeRun& run() { return run_; } ///< how takes are recorded
    const TakeRun& run() const { return run_; }
    void setCountIn(int bars);
    int countIn() const { return run_.wish().shape.countInBars; }
    /// For the layer in hand; where there is none yet, for a first one. @param once  how, this time
    void record(const std::optional<RunWish>& once = std::nullopt);
    std::int64_t roundTripFrames() const; ///< from what is played to what comes in for it: measured, told, or assumed
    /// Other layers of the part that the same performance is for; each hears its input through its own rig.
    void setAlso(const std::vector<AlsoRecord>& also);
    const std::vector<AlsoRecord>& also() const { return also_; }
    std::vector<std::size_t> recordedInputs() const; ///< the chosen one first, each once
    void stop();
    bool isRecording() const { return run_.isRunning() && !run_.isCountingIn(); }
    bool isCountingIn() const { return run_.isCountingIn(); }
    bool isBusy() const { return run_.isRunning() || run_.isWaiting(); }
    double countInLeftS() const { return run_.countInLeftS(); }
    double recordedS() const { return run_.recordedS(); }
    std::size_t gaps() const;
    std::optional<double> minutesLeft() const; ///< of disk
    /// Against the take that counts for the layer, while playing: how far the accents are off; none before 3 s of
    /// playing, and none without such a take.
    std::optional<double> driftDb() const { return drift_; }

    /// Records the chosen input into a file of its own, as the check does, with its neighbour where there is one, so
    /// that a guitar on the other of the two is found. False where it cannot; failed() says why.
    bool recordStep(const std::filesystem::path& file);
    engine::RecordReport finishStep();
    std::size_t stepChannel() const { return stepInputs().size() > 1 ? input_ % 2 : 0; } ///< the chosen input's, in it
    bool isInStep() const { return inStep_; }
    double silentS() const { return silentS_; } ///< for how long nothing but the input's own noise has come in

    /// The note that sounds on the chosen input, a few times a second, while somebody listens for it.
    void setListening(bool on);
    const std::optional<core::Pitch>& pitch() const { return pitch_; }
    const InputReading& reading() const { return reading_; }
    const std::map<std::size_t, HeldLevel>& others() const { return others_; } ///< recorded besides the chosen input
    double lookS() const { return lookS_; }                                    ///< of audio, since the look before
    void clearClips();
    void poll(); ///< looks at the meters; called by a timer while a device is open
    /// Puts the simulated interface under a clock of its own, and runs it as fast as it can: for tests and the tour.
    void useTestClock();
    void runFor(double seconds);

signals:
    void changed(); ///< device, input, recording, hearing
    void metered(); ///< about 30 times a second
    void pinged(double samples);
    void failed(const QString& message, const QString& remedy);

private:
    void open();
    std::vector<std::size_t> stepInputs() const;
    void applyHearing();
    void meterOthers();
    void teachPlayer();
    void watchDrift();
    void listenForNote();

    SessionModel& session_;
    Audition& audition_;
    std::vector<engine::DeviceInfo> devices_;
    engine::DeviceWish wish_;
    std::size_t input_ = 0;
    Hear hear_ = Hear::Nothing;
    double hearDb_ = -6.0;
    std::optional<core::LoopLatency> roundTrip_;
    LiveHearing hearing_;
    TaskRunner device_, look_, practice_;
    std::stop_source deviceStop_; ///< of who has the device
    TakeRun run_;
    int playerDrag_ = 0;
    bool inStep_ = false;
    InputReading reading_;
    double lookS_ = 0.0;
    bool tone_ = false;
    double silentS_ = 0.0;
    std::vector<AlsoRecord> also_;
    std::map<std::size_t, HeldLevel> others_;
    std::map<std::size_t, std::int64_t> othersClippedBefore_;
    double needle_ = 0.0; ///< rectified mean, smoothed
    std::int64_t clipsBefore_ = 0;
    std::deque<float> played_; ///< powers of the readings of the last while, of those that play
    std::optional<double> drift_;
    bool isListening_ = false;
    std::vector<float> sounding_; ///< the last of the chosen input
    std::size_t sinceNote_ = 0;   ///< samples since a note was looked for
    std::optional<core::Pitch> pitch_;
    QTimer timer_;
};

} // namespace gristle::app
