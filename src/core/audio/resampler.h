#pragma once

#include "core/audio/audio_buffer.h"
#include "core/units/result.h"

#include <memory>

namespace gristle::core {

/// Streams one channel from one rate to another at very high quality (linear phase, pass band to 0.91 of Nyquist,
/// libsoxr's VHQ recipe), without delay: output frame k is the input at time k / outRate. One thread at a time.
class Resampler {
public:
    Resampler(int inRateHz, int outRateHz);
    Resampler(Resampler&&) noexcept;
    Resampler& operator=(Resampler&&) noexcept;
    ~Resampler();

    /// Takes all of `in` and appends what comes out of it to `out`.
    void push(std::span<const float> in, std::vector<float>& out);
    /// Appends the rest after the last input.
    void finish(std::vector<float>& out);

private:
    struct State;
    std::unique_ptr<State> state_;
};

/// A whole recording at another rate; itself where the rates are equal.
Recording resampled(const Recording& recording, int rateHz);

} // namespace gristle::core
