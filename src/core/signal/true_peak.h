#pragma once

#include <array>
#include <cstddef>

namespace gristle::core {

/// Follows how high a signal goes between its samples: eight phases of a Kaiser-windowed sinc of 24 taps, and what may
/// be missing of that near the upper end of the band. Never far under the true value, a little over it at worst there.
class TruePeak {
public:
    static constexpr std::size_t kTaps = 24;
    static constexpr std::size_t kLate = kTaps / 2; ///< samples by which a peak is known after it came in

    TruePeak() noexcept; ///< makes its table at the first call in the program
    void reset() noexcept { history_ = {}; }
    /// Takes the next sample. @return the highest magnitude between the sample kLate ago and the one behind it, both
    /// among it. Where nothing in sight can pass `ceiling` it is the highest sample instead.
    float next(float x, float ceiling) noexcept;

private:
    std::array<float, 2 * kTaps> history_{}; ///< written twice, so that a window is contiguous
    std::size_t at_ = 0;
};

} // namespace gristle::core
