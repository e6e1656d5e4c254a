#pragma once

#include "app/models/audition.h"
#include "app/models/live_hearing.h"
#include "app/models/session_model.h"
#include "app/models/simulated_player.h"
#include "app/models/take_run.h"
#include "app/models/tuner_ear.h"
#include "core/measure/drift_watch.h"
#include "core/measure/loop_latency.h"
#include "engine/runs/input_meters.h"

namespace gristle::app {

using engine::HeldLevel;
using engine::InputReading;

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
    SimulatedPlayer& player() { return player_; } ///< of the simulated interface
    const SimulatedPlayer& player() const { return player_; }
    /// Puts the simulated interface in the place of whatever runs, under a clock that player().runFor() moves: for
    /// tests and the tour.
    void useTestClock();

    // what the guitarist hears of himself
    void setHear(Hear hear);
    Hear hear() const { return hear_; }
    bool isPreparingToHear() const { return hearing_.isPreparing(); }
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
    std::optional<double> driftDb() const { return drift_.driftDb(); }

    /// Records the chosen input into a file of its own, as the check does, with its neighbour where there is one, so
    /// that a guitar on the other of the two is found. False where it cannot; failed() says why.
    bool recordStep(const std::filesystem::path& file);
    engine::RecordReport finishStep();
    std::size_t stepChannel() const { return stepInputs().size() > 1 ? input_ % 2 : 0; } ///< the chosen input's, in it
    bool isInStep() const { return inStep_; }
    const engine::InputMeters& meters() const { return meters_; }
    void clearClips() { meters_.clear(input_); }
    TunerEar& tuner() { return tuner_; }
    void poll(); ///< looks at the meters; called by a timer while a device is open

signals:
    void changed(); ///< device, input, recording, hearing
    void metered(); ///< about 30 times a second
    void pinged(double samples);
    void failed(const QString& message, const QString& remedy);

private:
    void open();
    std::vector<std::size_t> stepInputs() const;
    void applyHearing();

    static constexpr int kLookEveryMs = 30;
    SessionModel& session_;
    Audition& audition_;
    std::vector<engine::DeviceInfo> devices_;
    engine::DeviceWish wish_;
    std::size_t input_ = 0;
    Hear hear_ = Hear::Nothing;
    double hearDb_ = -6.0;
    std::optional<core::LoopLatency> roundTrip_;
    LiveHearing hearing_;
    TaskRunner device_, look_;
    std::stop_source deviceStop_; ///< of who has the device
    TakeRun run_;
    SimulatedPlayer player_;
    TunerEar tuner_;
    engine::InputMeters meters_;
    core::DriftWatch drift_{0.001 * kLookEveryMs};
    bool inStep_ = false;
    bool tone_ = false;
    std::vector<AlsoRecord> also_;
    QTimer timer_;
};

} // namespace gristle::app
