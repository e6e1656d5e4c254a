#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace gristle::core {

/// Sum and sum of squares of one channel over hops of 10 ms, from which playing and rest are told.
class HopTrack {
public:
    static constexpr double kHopS = 0.01;
    explicit HopTrack(double rateHz) : rateHz_(rateHz) {}
    void push(std::span<const float> mono);
    void finish(); ///< closes the last, shorter hop where it holds at least half of one

    std::size_t hops() const noexcept { return sums_.size(); }
    double rateHz() const noexcept { return rateHz_; }
    std::int64_t hopStart(std::size_t hop) const noexcept;
    /// Mean square of each hop about the offset in the half second around it.
    std::vector<double> powers() const;
    /// Mean square of hops [first, first + count) about their own mean.
    double powerWithoutDc(std::size_t first, std::size_t count) const;

private:
    std::int64_t hopEnd() const noexcept { return hopStart(sums_.size() + 1); }

    double rateHz_;
    std::int64_t frames_ = 0;
    double sum_ = 0.0, squares_ = 0.0;
    std::vector<float> lengths_;
    std::vector<double> sums_, squaresOf_;
};

/// Hops [first, first + count).
struct Stretch {
    std::size_t first = 0;
    std::size_t count = 0;
    bool operator==(const Stretch&) const = default;
};

/// Stretches of at least 0.3 s in which nobody plays, by level alone. A stretch of 0.3 s is steady where its halves
/// agree within 1.2 dB and its 50 ms levels stay within 6 dB; digital silence is no rest. The quietest steady stretch
/// sets the floor; what is steady and within 2.5 dB of it rests. Stretches that fall by over 2 dB as a whole are dying
/// notes.
std::vector<Stretch> findRests(const std::vector<double>& hopPowers);

/// Hops in which somebody plays: their 50 ms level is over the larger of 10 dB above the floor (where one is known) and
/// 30 dB below the 95th percentile of all levels. None where nothing stands out of the floor; a steady tone has none,
/// and so it plays.
std::vector<bool> findPlaying(const std::vector<double>& hopPowers, std::optional<double> floorPower);

} // namespace gristle::core
