#include "engine/audio_device.h"
#include "engine/simulated_device.h"

#include <RtAudio.h>
#include <algorithm>
#include <cstdlib>
#include <exception>
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

class RtAudioOutput final : public AudioDevice {
public:
    RtAudioOutput(unsigned device, double rateHz, std::string name)
        : device_(device), rateHz_(rateHz), name_(std::move(name))
    {}
    ~RtAudioOutput() override { stop(); }

    core::Outcome start(AudioSource& source) override
    {
        stop();
        source_ = &source;
        RtAudio::StreamParameters out;
        out.deviceId = device_;
        out.nChannels = 2;
        unsigned frames = kBlockFrames;
        RtAudio::StreamOptions options;
        options.flags = RTAUDIO_NONINTERLEAVED;
        options.streamName = "Gristle";
        try {
            audio_.openStream(&out, nullptr, RTAUDIO_FLOAT32, static_cast<unsigned>(rateHz_), &frames, &pull, this,
                              &options);
            audio_.startStream();
        } catch (const std::exception& failure) {
            if (audio_.isStreamOpen()) audio_.closeStream();
            return core::Error{core::ErrorCode::WriteFailed, name_ + ": it does not start (" + failure.what() + ")",
                               "close what else uses it, then try again"};
        }
        return core::Done{};
    }
    void stop() override
    {
        if (audio_.isStreamOpen()) audio_.closeStream(); // waits for the callback
        source_ = nullptr;
        first_ = true;
    }
    double rateHz() const noexcept override { return rateHz_; }
    std::string name() const override { return name_; }

private:
    static int pull(void* out, void*, unsigned frames, double, RtAudioStreamStatus, void* self)
    {
        auto& me = *static_cast<RtAudioOutput*>(self);
        if (me.first_) {
            flushDenormals();
            me.first_ = false;
        }
        auto* const left = static_cast<float*>(out);
        me.source_->fill(left, left + frames, frames);
        return 0;
    }

    RtAudio audio_;
    unsigned device_;
    double rateHz_;
    std::string name_;
    AudioSource* source_ = nullptr;
    bool first_ = true;
};

} // namespace

std::unique_ptr<AudioDevice> openDefaultOutput(double wantedRateHz, std::string& told)
{
    const auto simulated = [&](std::string why) {
        told = std::move(why);
        return std::make_unique<SimulatedDevice>(wantedRateHz, kBlockFrames, SimulatedDevice::Clock::RealTime);
    };
    // Set by the tests and by runs without hardware, so that nothing waits for a sound server.
    if (std::getenv("GRISTLE_NO_DEVICE")) return simulated("no audio device was asked for: playing silently");
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
        return std::make_unique<RtAudioOutput>(device, rate, info.name);
    } catch (const std::exception& failure) {
        return simulated(std::string("the audio device cannot be used (") + failure.what() + "): playing silently");
    }
}

} // namespace gristle::engine
