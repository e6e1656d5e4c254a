#include "core/audio/resampler.h"

#include <new>
#include <soxr.h>

namespace gristle::core {

struct Resampler::State {
    soxr_t soxr = nullptr;
    double ratio = 1.0;
    ~State() { soxr_delete(soxr); }
};

Resampler::Resampler(int inRateHz, int outRateHz) : state_(std::make_unique<State>())
{
    const soxr_quality_spec_t quality = soxr_quality_spec(SOXR_VHQ, 0);
    const soxr_io_spec_t io = soxr_io_spec(SOXR_FLOAT32_I, SOXR_FLOAT32_I);
    state_->ratio = double(outRateHz) / inRateHz;
    state_->soxr = soxr_create(inRateHz, outRateHz, 1, nullptr, &io, &quality, nullptr);
    if (!state_->soxr) throw std::bad_alloc();
}

Resampler::Resampler(Resampler&&) noexcept = default;
Resampler& Resampler::operator=(Resampler&&) noexcept = default;
Resampler::~Resampler() = default;

void Resampler::push(std::span<const float> in, std::vector<float>& out)
{
    while (!in.empty()) {
        const std::size_t at = out.size();
        const auto room = static_cast<std::size_t>(double(in.size()) * state_->ratio) + 4096;
        out.resize(at + room);
        std::size_t used = 0;
        std::size_t made = 0;
        soxr_process(state_->soxr, in.data(), in.size(), &used, out.data() + at, room, &made);
        out.resize(at + made);
        in = in.subspan(used);
    }
}

void Resampler::finish(std::vector<float>& out)
{
    constexpr std::size_t kRoom = 16384;
    for (std::size_t made = 1; made > 0;) {
        const std::size_t at = out.size();
        out.resize(at + kRoom);
        soxr_process(state_->soxr, nullptr, 0, nullptr, out.data() + at, kRoom, &made);
        out.resize(at + made);
    }
}

Recording resampled(const Recording& recording, int rateHz)
{
    if (rateHz == recording.sampleRateHz) return recording;
    std::vector<std::vector<float>> channels(recording.audio.channels());
    std::size_t frames = 0;
    for (std::size_t c = 0; c < channels.size(); ++c) {
        Resampler resampler(recording.sampleRateHz, rateHz);
        resampler.push(recording.audio.channel(c), channels[c]);
        resampler.finish(channels[c]);
        frames = channels[c].size();
    }
    Recording out{rateHz, AudioBuffer(channels.size(), frames)};
    for (std::size_t c = 0; c < channels.size(); ++c)
        std::copy(channels[c].begin(), channels[c].end(), out.audio.channel(c).begin());
    return out;
}

} // namespace gristle::core
