#pragma once

#include <array>
#include <cstddef>
#include <vector>

namespace gristle::core {

/// A delay line of a fixed length that need not be whole: a Kaiser-windowed sinc of 32 taps places the part of a
/// sample, flat within 0.01 dB to 0.42 of the rate; whole lengths pass unfiltered. Feedback is the caller's.
class FractionalDelay {
public:
    static constexpr std::size_t kTaps = 32;
    /// @param samples  at least kTaps / 2
    void prepare(double samples);
    void reset() noexcept;
    double read() const noexcept; ///< what went in `samples` ago, seen from the sample that is written next
    void write(float x) noexcept;
    void
    takeOver(const FractionalDelay& before) noexcept; ///< what another one has heard, as far back as this one reaches

private:
    std::vector<float> line_; ///< written twice, size_ apart, so that every stretch of kTaps lies in one piece
    std::size_t size_ = 0, at_ = 0;
    std::size_t whole_ = kTaps;
    bool isWhole_ = true;
    std::array<double, kTaps> taps_{};
};

} // namespace gristle::core
