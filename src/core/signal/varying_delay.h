#pragma once

#include <array>
#include <cstddef>
#include <vector>

namespace gristle::core {

/// A delay line that is read at any place, which may move from sample to sample: a Kaiser-windowed sinc of 32 taps,
/// taken from a table of 512 parts of a sample with straight lines between them. Flat within 0.02 dB to 0.42 of the
/// rate, rests of the interpolation below -90 dB. For strings that slide, echoes and choruses that are modulated.
class VaryingDelay {
public:
    static constexpr std::size_t kTaps = 32;
    /// Allocates. @param longest  samples
    void prepare(double longest);
    void reset() noexcept;
    /// What went in `samples` ago, seen from the sample that is written next. @param samples  kTaps / 2 to `longest`;
    /// held to that
    double read(double samples) const noexcept;
    void write(float x) noexcept;
    void takeOver(const VaryingDelay& before) noexcept; ///< what another one has heard, as far back as this one reaches

private:
    std::vector<float> line_; ///< written twice, size_ apart, so that every stretch of kTaps lies in one piece
    std::size_t size_ = 0, at_ = 0;
    // The taps of the last place that was read at, as most are read at one place for long.
    mutable double taken_ = -1.0;
    mutable std::size_t whole_ = 0;
    mutable std::array<float, kTaps> taps_{};
    double longest_ = 0.0;
};

} // namespace gristle::core
