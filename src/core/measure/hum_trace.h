#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

struct HumPoint {
    double timeS = 0.0;     ///< middle of the window
    double levelDbfs = 0.0; ///< power sum of the harmonics, AES17
};

/// The level of a mains series over time, while somebody turns with the guitar: sines at harmonics 1 to 8 fitted by
/// least squares over windows of ten mains periods, every half window. Noise within the window's resolution of the
/// harmonics counts in: it sets the least level that can be told.
/// @param mono    at least ten periods, else nothing comes back
/// @param mainsHz measured, 45 to 65
std::vector<HumPoint> humTrace(std::span<const float> mono, double rateHz, double mainsHz);

/// Best and worst of a trace, each as the mean of the lowest and highest tenth, so that one window does not decide.
struct HumTurn {
    HumPoint best, worst;
    double differenceDb = 0.0;
};
HumTurn humTurn(const std::vector<HumPoint>& trace); ///< not for empty traces

} // namespace gristle::core
