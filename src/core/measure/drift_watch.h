#pragma once

#include <cstddef>
#include <deque>
#include <optional>

namespace gristle::core {

/// Whether one plays as loud as before: what the accents of the last 30 s reach (loudReadingDbfs), against what those
/// of a take reach. Fed with readings of a meter at even intervals; those in which nobody plays do not count.
class DriftWatch {
public:
    /// @param intervalS  between two readings
    explicit DriftWatch(double intervalS) : intervalS_(intervalS) {}
    void start(); ///< of a take: forgets what was played before
    /// @param referenceDbfs  what the accents of the other take reach
    void look(double readingDbfs, double referenceDbfs);
    std::optional<double> driftDb() const noexcept { return driftDb_; } ///< none before 3 s of playing

private:
    double intervalS_;
    std::deque<float> played_; ///< powers of the readings that play
    std::optional<double> driftDb_;
};

} // namespace gristle::core
