#pragma once

#include "core/signal/fft.h"
#include "core/units/octaves.h"

#include <span>
#include <vector>

namespace gristle::core {

/// How the power of a sound is spread over octaves. Hann windows of some 85 ms, one behind the other; constant memory.
class OctaveMeter {
public:
    explicit OctaveMeter(double rateHz);
    void push(std::span<const float> mono);
    const Octaves& powers() const noexcept { return power_; } ///< on a scale of the meter's own
    Octaves result() const; ///< dB of the power in all bands together; -100 for a band with nothing in it

private:
    void take();
    double rateHz_;
    RealFft fft_;
    std::vector<double> window_;
    std::vector<float> held_;
    Octaves power_{};
};

/// How thick a sound is: power of the octaves of 125 and 250 Hz over that of all, dB; -100 where there is none.
double bodyDb(const Octaves& octaves);

} // namespace gristle::core
