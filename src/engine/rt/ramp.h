#pragma once

#include <algorithm>
#include <cmath>

namespace gristle::engine {

/// A gain between 0 and 1 that opens at 6 dB in 11 ms once above -60 dB (a little slower than the 6 dB in 10 ms that
/// ears are promised) and closes in a straight line over 15 ms.
class SafeRamp {
public:
    void prepare(double rateHz) noexcept
    {
        up_ = std::pow(10.0, 6.0 / 20.0 / (0.011 * rateHz));
        down_ = 1.0 / (0.015 * rateHz);
    }
    void set(bool open) noexcept { open_ = open; }
    void jump(bool open) noexcept { open_ = open, gain_ = open ? 1.0 : 0.0; }
    double step() noexcept
    {
        if (open_)
            gain_ = gain_ < kLeast ? kLeast : std::min(1.0, gain_ * up_);
        else
            gain_ = std::max(0.0, gain_ - down_);
        return gain_;
    }
    bool isClosed() const noexcept { return gain_ == 0.0; }
    bool isSettled() const noexcept { return gain_ == (open_ ? 1.0 : 0.0); }

private:
    static constexpr double kLeast = 0.001; // -60 dB
    double gain_ = 0.0, up_ = 1.0, down_ = 1.0;
    bool open_ = false;
};

} // namespace gristle::engine
