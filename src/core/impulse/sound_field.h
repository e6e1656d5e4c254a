#pragma once

#include "core/impulse/cabinet.h"

#include <array>
#include <complex>
#include <numbers>
#include <vector>

namespace gristle::core {

inline constexpr double kSpeedOfSound = 343.0; ///< m/s, dry air of 20 degrees

/// Metres from the centre of the driver in hand: x to the cabinet's near side, y up, z out of the front.
struct Place {
    double x = 0.0, y = 0.0, z = 0.0;
};

/// The pressure before a flat disc in an endless baffle that moves with an acceleration of 1, in units in which its far
/// pressure on the axis at r is b^2 / (2 r); to be taken with exp(+j omega t), time zero when it moves. Exact at any
/// distance. Source: Schoch 1941, Betrachtungen ueber das Schallfeld einer Kolbenmembran: one integral along the rim.
/// @param b  radius @param r  from its axis @param z  from its plane, over 0 @param k  wave number, over 0
std::complex<double> discPressure(double b, double r, double z, double k);

/// The pressure around a cabinet in its room at one frequency, 1 at 1 m before a driver that is flat in an endless
/// baffle. Front waves by the rings of each driver; the cabinet's edges send a part on, also behind it, so that low
/// frequencies go all around (Vanderkooy 1991); the back of an open one radiates inverted; floor and wall by images.
class SoundField {
public:
    SoundField(const Cabinet& cabinet, const Room& room, double hz);
    std::complex<double> at(const Place& place) const;
    /// What comes straight, by the floor, and by the wall behind: their sum is at(). @param way  under kWays
    std::complex<double> by(std::size_t way, const Place& place) const;
    static constexpr std::size_t kWays = 3;
    /// Where a microphone would stand for the room's mirror: as far away as that way is long.
    static Place mirrored(const Cabinet& cabinet, const Room& room, std::size_t way, const Place& place);
    double waveNumber() const noexcept { return k_; }
    double hz() const noexcept { return k_ * kSpeedOfSound / (2.0 * std::numbers::pi); }

private:
    struct Driver {
        double x, y;
    };
    struct Ring {
        double from, to, depth;     ///< radii; behind the rim's plane
        std::complex<double> moves; ///< its acceleration
    };
    void shapeCone(double hz);
    std::complex<double> around(const Place& place) const; ///< without the room
    std::complex<double> edges(const Driver& d, const Place& place) const;

    Cabinet cabinet_;
    Room room_;
    double k_;
    std::vector<Driver> drivers_;
    std::vector<Ring> rings_;
    std::complex<double> sideways_, backward_; ///< volume accelerations towards the edges, and of the open back
    std::complex<double> returns_[kWays];      ///< of each way
    double left_, right_, top_, bottom_;       ///< of the front
};

/// What the reverberant room adds: mean square pressure over that at 1 m of a source that radiates the same everywhere.
/// Source: Kuttruff, Room Acoustics, ch. 5: 16 pi / A, with A = 0.161 V / T.
double reverberantPower(const Room& room);

} // namespace gristle::core
