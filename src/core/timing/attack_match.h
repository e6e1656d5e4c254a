#pragma once

#include "core/timing/onsets.h"

#include <memory>

namespace gristle::core {

/// How the attacks of a pair fit onto each other.
struct AttackMatch {
    double shiftS = 0.0; ///< brings the second's attack onto the first's, beyond the difference of their onsets
    double alike = 0.0;  ///< of the two there: 1 where they rise the same way
};

/// Fits pairs of attacks: by the correlation of the power that a linear prediction does not foretell, a value each
/// 0.25 ms. Near the releases, or the scrapes where these say something else and fit better; attacks that rise alike
/// are told by their likeness; of soft ones the whole rise of 16 bands may say that one was told elsewhere.
class AttackMatcher {
public:
    explicit AttackMatcher(double rateHz);
    ~AttackMatcher();
    /// @param a, b  the recordings that the onsets are of
    AttackMatch match(std::span<const float> a, const Onset& first, std::span<const float> b, const Onset& second);

private:
    class Rise;
    double rate_;
    std::unique_ptr<Rise> rise_;
};

/// Standard error of a pair's offset, ms: half of what 95 in 100 pairs of sampled guitars, clean and driven, the same
/// and others, were off by at most, fitted to how alike attacks and sounds are. Each at most 1.
double offsetDoubtMs(double attacksAlike, double soundsAlike);

} // namespace gristle::core
