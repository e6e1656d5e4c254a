#pragma once

#include "app/tasks/task_runner.h"
#include "core/audio/audio_buffer.h"
#include "core/mix/render/sound.h"
#include "core/units/result.h"
#include "engine/devices/audio_device.h"
#include "engine/rt/live_chain.h"

#include <QObject>
#include <QTimer>
#include <deque>

namespace gristle::app {

/// One of the things being compared, as a value.
struct SlotRequest {
    QString title;
    core::Sound sound;
    /// Heard live: the DI goes through this rig as it plays. Rendered all the same, for its loudness.
    std::optional<core::LayerRecipe> live{};
    bool operator==(const SlotRequest&) const = default;
};

struct AuditionRequest {
    QString kind;    ///< of what is compared: with another kind the first choice is heard again
    QString subject; ///< "Take 3, dry DI"
    std::vector<SlotRequest> slots_;
    std::size_t active = 0;
};

/// What is heard now.
struct OutputReading {
    double peakDbfs[2] = {-100.0, -100.0}; ///< of the last 30 ms
    double rmsDbfs[2] = {-100.0, -100.0};  ///< AES17, 400 ms
    std::optional<double> momentaryLufs;
    std::optional<double> correlation;
    double limiterDb = 0.0;
    double positionS = 0.0;
};

/// A device that runs, and what it calls.
struct Line {
    std::unique_ptr<engine::Player> player;
    std::unique_ptr<engine::LiveChain> chain;
    std::unique_ptr<engine::AudioDevice> device; ///< stopped before what it calls goes
};

/// Prepares what a bench wants to hear in the background and plays it in a loop, all slots at the same loudness (the
/// louder ones turned down, by a gain that is shown). GUI thread.
class Audition : public QObject {
    Q_OBJECT
public:
    /// @param cache  what was rendered, for all benches
    explicit Audition(std::shared_ptr<core::RenderCache> cache, QObject* parent = nullptr);
    ~Audition() override;
    /// Replaces the device; in tests one with a manual clock.
    void setDevice(std::unique_ptr<engine::AudioDevice> device);
    engine::AudioDevice* device() { return line_.device.get(); }
    /// Opens a device for recording too, at the session's rate; what is heard goes on over it. A real one is opened by
    /// a worker, as systems take their time. @param done  on the GUI thread; @error as engine::openDevice
    void openDevice(engine::DeviceWish wish, std::function<void(core::Outcome)> done);
    double rateHz() const { return line_.device ? line_.device->rateHz() : wantedRate_; }
    bool isOpening() const { return opening_.isBusy(); }
    /// Lets go of the device, to be closed by whoever gets it: for a worker that wants it for itself.
    std::shared_ptr<Line> takeLine();
    engine::Recorder& recorder() { return recorder_; }       ///< takes what comes in while a device runs
    engine::LiveChain* chain() { return line_.chain.get(); } ///< of the device that runs; none before
    std::size_t latency() const { return line_.player ? line_.player->latency() : 0; } ///< frames, what playing adds
    QString deviceNote() const { return deviceNote_; }

    void setRate(double rateHz); ///< of the session: opens the default output at it
    void request(AuditionRequest request, double fromS, double toS);
    const AuditionRequest& current() const { return request_; }
    void clear();

    void setPlaying(bool on);
    bool isPlaying() const { return playing_; }
    void setSlot(std::size_t index);
    std::size_t slot() const { return slot_; }
    /// What the slot is turned by so that all are equally loud; none before it is rendered.
    std::optional<double> matchingGainDb(std::size_t index) const;
    void setMono(bool on);
    bool isMono() const { return mono_; }
    TaskRunner& task() { return task_; }
    bool isChangingLive() const { return swap_.isBusy(); } ///< a changed rig is being compiled, to be heard at once
    bool isReady() const { return !gains_.empty(); }
    const OutputReading& reading() const { return reading_; }
    void poll(); ///< reads the meters; called by a timer while something is open

signals:
    void changed(); ///< slots, playing, gains
    void deviceChanged();
    void metered();
    void failed(const QString& message, const QString& remedy);

private:
    void ensureDevice();
    void use(core::Result<Line> line);
    void prepare();
    void changeLive();
    struct Prepared;
    /// The DI of the slot that is heard live, and the rig that it goes through.
    struct LivePart {
        core::LayerRecipe recipe;
        double fromS = 0.0, toS = 0.0, rateHz = 0.0;
        std::shared_ptr<const core::Recording> di;
        std::shared_ptr<engine::RigSwap> rig;

        bool fits(const core::LayerRecipe& other, double from, double to, double rate) const;
        /// Reads the DI and compiles the rig. In a worker.
        static core::Result<std::shared_ptr<LivePart>> make(const core::LayerRecipe& recipe, double fromS, double toS,
                                                            double rateHz);
        core::Result<std::shared_ptr<core::CompiledRig>> compiled(const core::RigDocument& rig) const;
    };

    std::shared_ptr<core::RenderCache> cache_;
    double wantedRate_ = 48000.0, rateHz_ = 0.0;
    engine::Recorder recorder_;
    Line line_;
    QString deviceNote_;
    AuditionRequest request_;
    double fromS_ = 0.0, toS_ = 0.0;
    std::vector<double> gains_;
    std::size_t slot_ = 0;
    bool playing_ = false, mono_ = false;
    TaskRunner task_;
    TaskRunner opening_, swap_;
    std::shared_ptr<LivePart> live_;
    QTimer timer_;
    std::deque<engine::MeterFrame> frames_;
    OutputReading reading_;
};

} // namespace gristle::app
