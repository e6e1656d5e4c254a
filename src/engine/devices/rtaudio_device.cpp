#include "engine/devices/audio_device.h"
#include "engine/simulated/simulated_device.h"
#include "engine/simulated/standard_room.h"

#include <RtAudio.h>
#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdlib>
#include <dlfcn.h>
#include <exception>
#include <jack/jack.h>
#include <optional>
#include <thread>
#include <utility>
#if defined(__SSE__)
#include <xmmintrin.h>
#endif

namespace gristle::engine {

void flushDenormals() noexcept
{
#if defined(__SSE__)
    _mm_setcsr(_mm_getcsr() | 0x8040); // flush to zero, denormals are zero
#endif
}

namespace {

constexpr unsigned kBlockFrames = 512;
constexpr std::size_t kMostInputs = 32;
constexpr auto kStandstill = std::chrono::seconds(3); // many times the longest block of any device
constexpr const char* kSimulatedId = "simulated:";

struct System {
    RtAudio::Api api;
    const char* name;
};
constexpr System kSystems[] = {
    {RtAudio::UNIX_JACK, "JACK"}, {RtAudio::LINUX_PULSE, "PulseAudio"}, {RtAudio::LINUX_ALSA, "ALSA"}};

std::string idOf(const char* system, const std::string& name) { return std::string(system) + ":" + name; }

void sayNothing(const char*, int, const char*, int, const char*, ...) {}

/// The sound library below writes to standard error about every card that is not there; what matters is said by us.
void quietTheSoundLibrary()
{
    using Handler = void (*)(const char*, int, const char*, int, const char*, ...);
    using SetHandler = int (*)(Handler);
    static const bool once = [] {
        if (const auto set = reinterpret_cast<SetHandler>(dlsym(RTLD_DEFAULT, "snd_lib_error_set_handler")))
            set(&sayNothing);
        return true;
    }();
    (void)once;
}

bool hardwareIsAskedFor() { return std::getenv("GRISTLE_NO_DEVICE") == nullptr; }

/// The server's own count of frames. An xrun is told by the server when it comes to it, under load long after; what its
/// count jumped by between two blocks is known at once, and is exact.
class JackClock {
public:
    JackClock() : client_(jack_client_open("Gristle clock", JackNoStartServer, nullptr)) {}
    ~JackClock()
    {
        if (client_) jack_client_close(client_);
    }
    JackClock(const JackClock&) = delete;
    JackClock& operator=(const JackClock&) = delete;
    /// True where the block of now does not follow the one of the last call. Audio thread.
    bool skipped(std::uint32_t frames) noexcept
    {
        const std::uint32_t now = jack_last_frame_time(client_), before = std::exchange(last_, now);
        return std::exchange(started_, true) && now - before != frames;
    }
    bool isThere() const noexcept { return client_ != nullptr; }

private:
    jack_client_t* client_;
    std::uint32_t last_ = 0;
    bool started_ = false;
};

/// What the audio thread has in hand. It outlives its device where the system does not give the stream back.
struct Stream {
    explicit Stream(RtAudio::Api api) : audio(api)
    {
        audio.showWarnings(false);
        if (api == RtAudio::UNIX_JACK) clock = std::make_unique<JackClock>();
    }

    static int pull(void* out, void* in, unsigned frames, double, RtAudioStreamStatus status, void* self) noexcept
    {
        auto& me = *static_cast<Stream*>(self);
        if (std::exchange(me.first, false)) flushDenormals();
        AudioSink* const sink = me.sink.load();
        if (in && sink) {
            const float* channels[kMostInputs];
            for (std::size_t c = 0; c < me.inputs; ++c) channels[c] = static_cast<const float*>(in) + c * frames;
            const bool lost =
                me.clock && me.clock->isThere() ? me.clock->skipped(frames) : (status & RTAUDIO_INPUT_OVERFLOW) != 0;
            sink->take(channels, me.inputs, frames, lost);
        }
        auto* const left = out ? static_cast<float*>(out) : me.spare.data();
        float* const right = out && me.outputs < 2 ? me.spare.data() : left + frames; // one output: the left side
        if (AudioSource* const source = me.source.load())
            source->fill(left, right, frames);
        else
            std::fill_n(left, (out && me.outputs < 2 ? 1 : 2) * std::size_t(frames), 0.0f);
        me.blocks.fetch_add(1, std::memory_order_relaxed);
        return 0;
    }

    RtAudio audio;
    std::unique_ptr<JackClock> clock;
    std::atomic<AudioSource*> source{nullptr};
    std::atomic<AudioSink*> sink{nullptr};
    std::atomic<std::uint64_t> blocks{0};
    std::size_t inputs = 0, outputs = 0;
    std::vector<float> spare;
    bool first = true;
};

class RtAudioDevice final : public AudioDevice {
public:
    RtAudioDevice(RtAudio::Api api, unsigned device, std::string name, double rateHz, unsigned frames,
                  std::size_t inputs, std::size_t outputs)
        : api_(api), device_(device), name_(std::move(name)), rateHz_(rateHz), frames_(frames), inputs_(inputs),
          outputs_(outputs)
    {}
    ~RtAudioDevice() override { stop(); }

    core::Outcome start(AudioSource& player, AudioSink* sink) override
    {
        stop();
        stream_ = std::make_unique<Stream>(api_);
        stream_->source = &player;
        stream_->sink = sink;
        stream_->inputs = inputs_;
        stream_->outputs = outputs_;
        RtAudio::StreamParameters out, in;
        out.deviceId = in.deviceId = device_;
        out.nChannels = static_cast<unsigned>(outputs_);
        in.nChannels = static_cast<unsigned>(inputs_);
        RtAudio::StreamOptions options;
        options.flags = RTAUDIO_NONINTERLEAVED;
        options.streamName = "Gristle";
        try {
            stream_->audio.openStream(outputs_ > 0 ? &out : nullptr, inputs_ > 0 ? &in : nullptr, RTAUDIO_FLOAT32,
                                      static_cast<unsigned>(rateHz_), &frames_, &Stream::pull, stream_.get(), &options,
                                      [](RtAudioError::Type, const std::string&) {});
            stream_->spare.assign(2 * std::size_t(frames_), 0.0f);
            stream_->audio.startStream();
        } catch (const std::exception& failure) {
            stream_.reset(); // closes it
            return core::Error{core::ErrorCode::WriteFailed, name_ + ": it does not start (" + failure.what() + ")",
                               "close what else uses it, then try again"};
        }
        seen_ = 0;
        seenAt_ = Clock::now();
        return core::Done{};
    }

    /// Closing waits for the callback. A sound server that was killed is waited for in vain: then the stream is left to
    /// a thread of its own, without us in it.
    void stop() override
    {
        if (!stream_) return;
        if (standsStill()) {
            stream_->sink = nullptr;
            stream_->source = nullptr;
            std::thread([left = std::move(stream_)]() mutable { left.reset(); }).detach();
        }
        stream_.reset();
    }
    double rateHz() const noexcept override { return rateHz_; }
    std::string name() const override { return name_; }
    std::size_t inputs() const noexcept override { return inputs_; }
    std::size_t bufferFrames() const noexcept override { return frames_; }
    std::size_t latencyFrames() const noexcept override
    {
        return stream_ && stream_->audio.isStreamOpen()
                   ? static_cast<std::size_t>(std::max(0L, stream_->audio.getStreamLatency()))
                   : 0;
    }
    bool isRunning() const noexcept override
    {
        return stream_ && stream_->audio.isStreamOpen() && stream_->audio.isStreamRunning() && !standsStill();
    }

private:
    using Clock = std::chrono::steady_clock;

    /// No block has come between two looks that are far apart.
    bool standsStill() const noexcept
    {
        const std::uint64_t blocks = stream_->blocks.load(std::memory_order_relaxed);
        if (std::exchange(seen_, blocks) != blocks) {
            seenAt_ = Clock::now();
            return false;
        }
        return Clock::now() - seenAt_ > kStandstill;
    }

    RtAudio::Api api_;
    unsigned device_;
    std::string name_;
    double rateHz_;
    unsigned frames_;
    std::size_t inputs_, outputs_;
    std::unique_ptr<Stream> stream_;
    mutable std::uint64_t seen_ = 0;
    mutable Clock::time_point seenAt_;
};

/// Calls `look(system, index, info)` for every device until it returns true.
template<typename Look> void eachDevice(Look look)
{
    quietTheSoundLibrary();
    for (const System& system : kSystems) {
        try {
            RtAudio audio(system.api);
            audio.showWarnings(false);
            if (audio.getCurrentApi() != system.api) continue; // not built in: another was taken
            for (unsigned i = 0; i < audio.getDeviceCount(); ++i) {
                const auto info = audio.getDeviceInfo(i);
                if (info.probed && (info.inputChannels > 0 || info.outputChannels > 0) && look(system, i, info)) return;
            }
        } catch (const std::exception&) {
            continue; // a system that does not answer has no devices
        }
    }
}

DeviceInfo simulatedInfo()
{
    return {kSimulatedId,
            "a modelled player",
            "simulated",
            kStandardInputs,
            2,
            {44100, 48000, 88200, 96000, 176400, 192000},
            48000,
            false};
}

} // namespace

std::vector<DeviceInfo> listDevices()
{
    std::vector<DeviceInfo> out;
    if (hardwareIsAskedFor())
        eachDevice([&](const System& system, unsigned, const RtAudio::DeviceInfo& info) {
            out.push_back({idOf(system.name, info.name), info.name, system.name, info.inputChannels,
                           info.outputChannels, info.sampleRates, info.preferredSampleRate,
                           info.isDefaultInput || info.isDefaultOutput});
            return false;
        });
    out.push_back(simulatedInfo());
    return out;
}

bool isHardware(const DeviceWish& wish) { return hardwareIsAskedFor() && wish.id != kSimulatedId; }

core::Result<std::unique_ptr<AudioDevice>> openDevice(const DeviceWish& wish)
{
    std::unique_ptr<AudioDevice> device;
    std::optional<core::Error> failure;
    const auto fits = [&](const DeviceInfo& info) {
        if (wish.inputs > info.inputs || wish.inputs > kMostInputs)
            failure = core::Error{core::ErrorCode::OutOfRange,
                                  info.name + ": it has " + std::to_string(info.inputs) + " inputs, not " +
                                      std::to_string(wish.inputs),
                                  "choose fewer channels or another device"};
        else if (std::ranges::find(info.ratesHz, static_cast<unsigned>(wish.rateHz)) == info.ratesHz.end()) {
            std::string rates;
            for (const unsigned r : info.ratesHz) rates += (rates.empty() ? "" : ", ") + std::to_string(r);
            failure = core::Error{core::ErrorCode::OutOfRange,
                                  info.name + ": it does not run at " + std::to_string(int(wish.rateHz)) + " Hz",
                                  rates.empty() ? "set its rate where it is set up" : "choose one of " + rates + " Hz"};
        } else
            return true;
        return false;
    };
    const bool anyWill = wish.id.empty();
    if (isHardware(wish))
        eachDevice([&](const System& system, unsigned index, const RtAudio::DeviceInfo& found) {
            const std::string id = idOf(system.name, found.name);
            if (anyWill ? found.inputChannels < wish.inputs : id != wish.id) return false;
            const DeviceInfo info{id,
                                  found.name,
                                  system.name,
                                  found.inputChannels,
                                  found.outputChannels,
                                  found.sampleRates,
                                  found.preferredSampleRate,
                                  false};
            if (fits(info))
                device = std::make_unique<RtAudioDevice>(system.api, index, found.name, wish.rateHz,
                                                         static_cast<unsigned>(wish.bufferFrames), wish.inputs,
                                                         std::min<std::size_t>(2, found.outputChannels));
            return true;
        });
    if (device) return device;
    if (failure) return *failure;
    if (!anyWill && wish.id != kSimulatedId)
        return core::Error{core::ErrorCode::FileMissing, "device " + wish.id + ": it is not there",
                           "plug it in, or choose one that `devices` lists"};
    if (!fits(simulatedInfo())) return *failure;
    return std::unique_ptr<AudioDevice>(std::make_unique<SimulatedDevice>(
        wish.rateHz, wish.bufferFrames, SimulatedDevice::Clock::RealTime, standardRoom(wish.rateHz)));
}

std::unique_ptr<AudioDevice> openDefaultOutput(double wantedRateHz, std::string& told)
{
    const auto simulated = [&](std::string why) {
        told = std::move(why);
        return std::make_unique<SimulatedDevice>(wantedRateHz, kBlockFrames, SimulatedDevice::Clock::RealTime);
    };
    // Set by the tests and by runs without hardware, so that nothing waits for a sound server.
    if (!hardwareIsAskedFor()) return simulated("no audio device was asked for: playing silently");
    quietTheSoundLibrary();
    try {
        RtAudio audio;
        audio.showWarnings(false);
        if (audio.getDeviceCount() == 0) return simulated("there is no audio device: playing silently");
        const unsigned device = audio.getDefaultOutputDevice();
        const auto info = audio.getDeviceInfo(device);
        if (!info.probed || info.outputChannels < 2)
            return simulated("the default output has no two channels: playing silently");
        const auto wanted = static_cast<unsigned>(wantedRateHz);
        const bool has = std::ranges::find(info.sampleRates, wanted) != info.sampleRates.end();
        const double rate = has ? wantedRateHz : double(info.preferredSampleRate);
        return std::make_unique<RtAudioDevice>(audio.getCurrentApi(), device, info.name, rate, kBlockFrames, 0, 2);
    } catch (const std::exception& failure) {
        return simulated(std::string("the audio device cannot be used (") + failure.what() + "): playing silently");
    }
}

} // namespace gristle::engine
