#pragma once

#include <array>

namespace gristle::core {

/// Where the three controls of the tone stack stand, 0 to 1 of their electrical travel.
struct ToneControls {
    double bass = 0.5;
    double middle = 0.5;
    double treble = 0.5;
};

/// Component values of the three-control passive network between two stages, from our own choice of corner frequencies
/// (docs/voices.md): ohms and farads.
struct ToneStackParts {
    double source = 38e3, slope = 68e3, treblePot = 250e3, bassPot = 500e3, middlePot = 20e3, load = 1e6;
    double trebleCap = 330e-12, bassCap = 33e-9, middleCap = 22e-9;
};

/// The passive tone stack as its network, solved by nodal analysis with each capacitor as the companion of the
/// trapezoidal rule: every interaction of the controls is there. Source of the method: Ho, Ruehli, Brennan 1975
/// (modified nodal analysis). Trapezoidal is the bilinear transform, so run it oversampled: at 384 kHz the response is
/// right within 0.05 dB to 20 kHz.
///
/// Network: source resistance into node 0. Treble capacitor 0-1; treble pot from 1 to 3, its wiper 2 is the output,
/// loaded. Slope resistor 0-4; bass capacitor 4-3; bass pot as a rheostat 3-5; middle capacitor 4-5 ; middle pot 5 to
/// ground.
class ToneStack {
public:
    ToneStack(const ToneStackParts& parts, const ToneControls& controls, double rateHz);
    void reset() noexcept { state_ = {}; }
    double step(double in) noexcept
    {
        const double x = state_[0], y = state_[1], z = state_[2];
        const auto row = [&](const Row& w) { return (w[3] * in + w[0] * x) + (w[1] * y + w[2] * z); };
        state_[0] = row(next_[0]);
        state_[1] = row(next_[1]);
        state_[2] = row(next_[2]);
        return row(out_);
    }

private:
    using Row = std::array<double, 4>; ///< weights of the three states and the input
    std::array<double, 3> state_{};    ///< history current of each capacitor's companion, amperes
    std::array<Row, 3> next_{};
    Row out_{};
};

} // namespace gristle::core
