#include "core/rig/nodes/nodes.h"

#include "core/audio/audio_reader.h"
#include "core/audio/file_place.h"
#include "core/audio/resampler.h"
#include "core/signal/fft.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kWindowS = 0.0427; // 2048 at 48 kHz
constexpr std::size_t kOverlap = 4;
constexpr double kSmooth = 0.98; // of the a-priori ratio, decision-directed
constexpr double kLongestProfileS = 60.0;

/// Even and a multiple of the overlap, so that the windows add up.
std::size_t windowFrames(double rateHz) { return fastFftSize(std::size_t(kWindowS * rateHz / kOverlap)) * kOverlap; }

/// Root of the periodic Hann window; with four-fold overlap its squares add up to two.
std::vector<float> rootHann(std::size_t n)
{
    std::vector<float> w(n);
    for (std::size_t i = 0; i < n; ++i) w[i] = float(std::sin(std::numbers::pi * double(i) / double(n)));
    return w;
}

/// Mean power of each bin over a recording of the noise alone, windowed as the node's own frames are.
std::vector<float> noisePower(std::span<const float> rest, std::size_t window)
{
    RealFft fft(window);
    const auto shape = rootHann(window);
    std::vector<double> sum(window / 2 + 1, 0.0);
    std::size_t frames = 0;
    for (std::size_t at = 0; at + window <= rest.size(); at += window / 2, ++frames) {
        for (std::size_t i = 0; i < window; ++i) fft.time()[i] = rest[at + i] * shape[i];
        fft.forward();
        for (std::size_t k = 0; k < sum.size(); ++k) sum[k] += double(std::norm(fft.spectrum()[k]));
    }
    std::vector<float> out(sum.size());
    for (std::size_t k = 0; k < sum.size(); ++k) out[k] = float(sum[k] / double(std::max<std::size_t>(1, frames)));
    return out;
}

/// Spectral reduction: each bin is turned down by the Wiener gain of its signal-to-noise ratio, the ratio estimated
/// decision-directed, which keeps it from fluttering. Source: Ephraim and Malah 1984 (the ratio); Scalart and Filho
/// 1996 (with the Wiener gain). Late by one window.
class Reduction {
public:
    Reduction(const std::vector<float>& noise, std::size_t window, double leastGain)
        : window_(window), hop_(window / kOverlap), noise_(noise), least_(float(leastGain)), shape_(rootHann(window)),
          fft_(window), input_(window, 0.0f), output_(window + hop_, 0.0f), gained_(noise.size(), 0.0f)
    {}
    void reset() noexcept
    {
        std::ranges::fill(input_, 0.0f);
        std::ranges::fill(output_, 0.0f);
        std::ranges::fill(gained_, 0.0f);
        filled_ = 0;
    }
    float step(float x) noexcept
    {
        input_[window_ - hop_ + filled_] = x;
        const float y = output_[filled_];
        if (++filled_ == hop_) transform();
        return y;
    }
    std::size_t latency() const noexcept { return window_; }

private:
    void transform() noexcept
    {
        filled_ = 0;
        std::copy(output_.begin() + long(hop_), output_.end(), output_.begin());
        std::fill(output_.end() - long(hop_), output_.end(), 0.0f);
        for (std::size_t i = 0; i < window_; ++i) fft_.time()[i] = input_[i] * shape_[i];
        fft_.forward();
        for (std::size_t k = 0; k < noise_.size(); ++k) {
            const float power = std::norm(fft_.spectrum()[k]), noise = std::max(noise_[k], 1e-20f);
            const float posterior = power / noise;
            const float prior =
                float(kSmooth) * gained_[k] / noise + float(1.0 - kSmooth) * std::max(0.0f, posterior - 1.0f);
            const float gain = std::max(least_, prior / (1.0f + prior));
            gained_[k] = gain * gain * power;
            fft_.spectrum()[k] *= gain;
        }
        fft_.inverse();
        const float scale = 1.0f / (float(window_) * float(kOverlap) / 2.0f);
        for (std::size_t i = 0; i < window_; ++i) output_[i] += fft_.time()[i] * shape_[i] * scale;
        std::copy(input_.begin() + long(hop_), input_.end(), input_.begin());
    }

    std::size_t window_, hop_;
    std::vector<float> noise_;
    float least_;
    std::vector<float> shape_;
    RealFft fft_;
    std::vector<float> input_, output_, gained_;
    std::size_t filled_ = 0;
};

class Hiss final : public NodeProcessor {
public:
    Hiss(Recording rest, double reduceDb, bool removed) : rest_(std::move(rest)), reduceDb_(reduceDb), removed_(removed)
    {}
    void prepare(const PrepareSpec& spec) override
    {
        const std::size_t window = windowFrames(spec.rateHz);
        const auto noise = noisePower(std::as_const(rest_.audio).channel(0), window);
        sides_.clear();
        dry_.assign(spec.channels, std::vector<float>(window, 0.0f));
        for (std::size_t c = 0; c < spec.channels; ++c) sides_.emplace_back(noise, window, dbToAmplitude(-reduceDb_));
        at_ = 0;
    }
    void reset() noexcept override
    {
        for (auto& side : sides_) side.reset();
        for (auto& line : dry_) std::ranges::fill(line, 0.0f);
        at_ = 0;
    }
    std::size_t latency() const noexcept override { return sides_.empty() ? 0 : sides_[0].latency(); }
    double tailSeconds() const noexcept override { return 0.0; }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t i = 0; i < block.frames; ++i) {
            for (std::size_t c = 0; c < block.channels; ++c) {
                const float x = block.channel[c][i], clean = sides_[c].step(x), late = std::exchange(dry_[c][at_], x);
                block.channel[c][i] = removed_ ? late - clean : clean;
            }
            at_ = at_ + 1 == dry_[0].size() ? 0 : at_ + 1;
        }
    }

private:
    Recording rest_;
    double reduceDb_;
    bool removed_;
    std::vector<Reduction> sides_;
    std::vector<std::vector<float>> dry_; ///< the input, as late as the output
    std::size_t at_ = 0;
};

Result<std::unique_ptr<NodeProcessor>> makeHiss(const ParameterValues& v, const NodeContext& context)
{
    const std::string& name = textOf(v, "profile");
    if (name.empty())
        return Error{ErrorCode::Usage, "hiss: no profile is named",
                     "name a recording of the noise alone: hiss profile=rest.wav"};
    if (!context.boundary.empty() && !liesInside(context.folder / name, context.boundary))
        return Error{ErrorCode::BadDocument, "hiss profile=" + name + ": it lies outside the session's folder",
                     "bring it into the session"};
    const auto reader = AudioReader::open(context.folder / name);
    if (!reader) return reader.error();
    if (reader->info().durationS() > kLongestProfileS)
        return Error{ErrorCode::Unsupported, name + ": a profile lasts at most a minute",
                     "shorten it to the noise alone"};
    const auto recording = readRecording(context.folder / name);
    if (!recording) return recording.error();
    Recording rest = resampled(*recording, int(context.rateHz));
    if (rest.audio.frames() < 4 * windowFrames(context.rateHz))
        return Error{ErrorCode::Unsupported, name + ": it is too short for a profile",
                     "take a quarter of a second of noise or more"};
    // Noise stands in volts inside a rig; the profile is in the scale of its file.
    for (float& x : rest.audio.channel(0)) x *= float(context.fullScaleV);
    return std::unique_ptr<NodeProcessor>(
        std::make_unique<Hiss>(std::move(rest), numberOf(v, "reduce"), textOf(v, "hear") == "removed"));
}

} // namespace

NodeType hissNode()
{
    return {.type = "hiss",
            .title = "Hiss reduction",
            .about = "Turns down what does not stand out of a noise that was recorded alone (the rest step): a last "
                     "resort. Late by a "
                     "window of 43 ms, so not for playing live.",
            .channels = "any",
            .parameters = {{.key = "profile",
                            .label = "noise alone",
                            .kind = ParameterKind::File,
                            .about = "a recording of the noise, taken through the same input at the same gain"},
                           {.key = "reduce",
                            .label = "reduce by",
                            .unit = "dB",
                            .min = 0.0,
                            .max = 30.0,
                            .initial = "10",
                            .about = "at most; more takes more of the guitar"},
                           {.key = "hear",
                            .label = "hear",
                            .kind = ParameterKind::Choice,
                            .initial = "cleaned",
                            .choices = {"cleaned", "removed"},
                            .about = "removed: only what is taken away"}},
            .make = makeHiss};
}

} // namespace gristle::core
