#include "core/impulse/sound_field.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

using Complex = std::complex<double>;
constexpr double kPi = std::numbers::pi;
constexpr Complex kJ(0.0, 1.0);
constexpr int kRings = 10;
constexpr std::size_t kModes = 7;
/// Of J1: there the slope of J0 is 0.
constexpr std::array<double, kModes> kRingZeros{3.8317, 7.0156, 10.1735, 13.3237, 16.4706, 19.6159, 22.7601};
constexpr int kRimPoints = 48;
constexpr double kLeastHz = 1.0;
constexpr double kRound = 0.03; // m: rims are no lines

/// 2 J1(x) / x: how a disc's far pressure falls to the side.
double discPattern(double x) { return x < 1e-6 ? 1.0 : 2.0 * std::cyl_bessel_j(1.0, x) / x; }

/// First-order low pass.
Complex falls(double hz, double fromHz) { return 1.0 / (1.0 + kJ * (hz / fromHz)); }

/// An analog bell: its gain at its frequency, 1 far from it.
Complex bell(double hz, const BreakUpMode& m)
{
    const double x = hz / m.hz, a = std::pow(10.0, m.db / 40.0);
    return (1.0 - x * x + kJ * (x * a / m.q)) / (1.0 - x * x + kJ * (x / (a * m.q)));
}

Complex wave(double k, double path) { return std::polar(1.0, -k * path); }

double reach(double a, double b, double c) { return std::sqrt(a * a + b * b + c * c); }

} // namespace

std::complex<double> discPressure(double b, double r, double z, double k)
{
    // With the projection of the place onto the plane at distance r from the centre and s(psi) from the rim's point:
    // p = 1 / (2 pi j k) integral (exp(-jkz) - exp(-jkL)) (b^2 - b r cos psi) / s^2 dpsi, L^2 = z^2 + s^2.
    // Half of the rim; the other half is alike. Equal steps around a circle converge as exp(-2 n eta), where cosh eta
    // tells how near the place is to the rim, once they follow the phase.
    constexpr double kExact = 6.0, kFollows = 0.4;
    const double reaches = std::hypot(z, r + b) - std::hypot(z, r - b);
    const double near = r > 0.0 ? std::acosh(std::max(1.0001, (b * b + r * r + z * z) / (2.0 * b * r))) : kExact;
    const int n = int(std::ceil(std::clamp(kExact / near, 3.0, 40.0) + kFollows * k * reaches));
    const Complex straight = wave(k, z);
    Complex sum = 0.0;
    for (int i = 0; i < n; ++i) {
        const double c = std::cos(kPi * (i + 0.5) / n);
        const double s2 = b * b + r * r - 2.0 * b * r * c;
        if (s2 < 1e-18) continue; // both differences vanish there
        sum += (straight - wave(k, std::sqrt(z * z + s2))) * ((b * b - b * r * c) / s2);
    }
    return sum / (double(n) * kJ * k);
}

SoundField::SoundField(const Cabinet& cabinet, const Room& room, double hz)
    : cabinet_(cabinet), room_(room), k_(2.0 * kPi * std::max(hz, kLeastHz) / kSpeedOfSound)
{
    hz = std::max(hz, kLeastHz);
    const double s = cabinet.spacingM;
    drivers_ = {{0.0, 0.0}};
    if (cabinet.drivers >= 2) drivers_.push_back({-s, 0.0}); // x points to the near side, away from its neighbours
    if (cabinet.drivers >= 4) drivers_.insert(drivers_.end(), {{0.0, -s}, {-s, -s}});
    const double middleX = cabinet.drivers >= 2 ? -0.5 * s : 0.0, middleY = cabinet.drivers >= 4 ? -0.5 * s : 0.0;
    left_ = middleX - 0.5 * cabinet.widthM, right_ = middleX + 0.5 * cabinet.widthM;
    bottom_ = middleY - 0.5 * cabinet.heightM, top_ = middleY + 0.5 * cabinet.heightM;

    shapeCone(hz);
    // Behind an open back the magnet and the box stand in the way: dull. From there sound goes as from a small source.
    backward_ *= cabinet.isOpenBack ? -falls(hz, 900.0) * falls(hz, 2500.0) : Complex(0.0);
    // A floor and a wall send less back as frequency rises.
    returns_[0] = 1.0;
    returns_[1] = room.floorM > 0.0 ? room.floorReturns * falls(hz, 6000.0) : Complex(0.0);
    returns_[2] = room.wallM > 0.0 ? room.wallReturns * falls(hz, 4000.0) : Complex(0.0);
}

/// What the coil does to each ring. A cone is a shell: below its break-up it moves as one, above it its rings turn
/// against each other. By its modes: that of the whole, and those of rings whose edge is free (J0, as of a membrane,
/// without an area of their own), each as strong as the coil moves it where the coil is. Their frequencies are those of
/// a shell, which is stiff at once and bends the more the finer its rings are; all of them together leave, as frequency
/// rises, less and less but the place where the coil pushes.
void SoundField::shapeCone(double hz)
{
    const Cone& cone = cabinet_.cone;
    const double a = cone.radiusM, inner = std::min(cone.capRadiusM, a);
    const bool isRigid = cone.breakUpHz <= 0.0;
    std::array<Complex, kModes> takes{}; // each mode's part
    Complex atCoil = 1.0;
    if (!isRigid)
        for (std::size_t n = 0; n < kModes; ++n) {
            const double bends = cone.bendingHz * std::pow(kRingZeros[n] / kRingZeros[0], 2.0),
                         x = hz / std::hypot(cone.breakUpHz, bends);
            const double there = std::cyl_bessel_j(0.0, kRingZeros[n] * inner / a),
                         whole = std::cyl_bessel_j(0.0, kRingZeros[n]);
            takes[n] = there / (whole * whole) * -x * x / (1.0 - x * x + kJ * x / cone.modeQ);
            atCoil += takes[n] * there;
        }
    const double x = cone.resonanceHz / hz;
    Complex push = 1.0 / (1.0 - x * x - kJ * x / cone.resonanceQ); // Small 1972: a second-order high pass
    push /= (1.0 - cone.coilShare) + cone.coilShare * atCoil;
    if (!isRigid) {
        const double n = hz / cone.neckHz;
        push *= falls(hz, cone.inductanceHz) / (1.0 - n * n + kJ * n / cone.neckQ);
    }
    for (const BreakUpMode& mode : cone.modes) push *= bell(hz, mode);
    const auto add = [&](double from, double to, double depth, Complex moves) {
        rings_.push_back({from, to, depth, moves * push});
        const double aside = to * to * discPattern(k_ * to) - from * from * discPattern(k_ * from);
        sideways_ += moves * push * aside / (a * a);
        backward_ += moves * push * (to * to - from * from) / (a * a);
    };
    if (isRigid) return add(0.0, a, 0.0, 1.0);
    add(0.0, inner, cone.depthM - cone.capHeightM, atCoil);
    for (int i = 0; i < kRings; ++i) {
        const double from = inner + (a - inner) * i / kRings, to = inner + (a - inner) * (i + 1) / kRings;
        Complex moves = 1.0;
        for (std::size_t n = 0; n < kModes; ++n) { // its mean over the ring
            const double k = kRingZeros[n] / a;
            const double mean = to * std::cyl_bessel_j(1.0, k * to) - from * std::cyl_bessel_j(1.0, k * from);
            moves += takes[n] * 2.0 * mean / (k * (to * to - from * from));
        }
        add(from, to, cone.depthM * (a - 0.5 * (from + to)) / (a - inner), moves);
    }
}

/// Half of what goes along the baffle turns around its edge: to the front it takes away, to the back it is all there
/// is. By the angles under which the driver sees the rim.
std::complex<double> SoundField::edges(const Driver& d, const Place& place) const
{
    const bool behind = place.z < 0.0;
    Complex front = 0.0, back = 0.0;
    for (int i = 0; i < kRimPoints; ++i) {
        const double phi = 2.0 * kPi * (i + 0.5) / kRimPoints, c = std::cos(phi), s = std::sin(phi);
        const double toX = c > 0 ? (right_ - d.x) / c : (left_ - d.x) / c,
                     toY = s > 0 ? (top_ - d.y) / s : (bottom_ - d.y) / s;
        const double along = std::min(toX, toY);
        const double ex = d.x + along * c, ey = d.y + along * s;
        const double toFront = std::max(kRound, reach(place.x - ex, place.y - ey, place.z)),
                     toBack = std::max(kRound, reach(place.x - ex, place.y - ey, place.z + cabinet_.depthM));
        // The front's wave bends around the front rim; behind, along the side and around the back one.
        const double ahead = behind ? along + cabinet_.depthM + toBack : along + toFront;
        front += wave(k_, ahead) / (behind ? cabinet_.depthM + toBack : toFront);
        if (!cabinet_.isOpenBack) continue;
        const double rear = behind ? along + toBack : along + cabinet_.depthM + toFront;
        back += wave(k_, rear) / (behind ? toBack : cabinet_.depthM + toFront);
    }
    constexpr double kHalf = 0.5 / kRimPoints;
    return kHalf * (sideways_ * (behind ? 1.0 : -1.0) * front + backward_ * (behind ? -1.0 : 1.0) * back);
}

std::complex<double> SoundField::around(const Place& place) const
{
    Complex sum = 0.0;
    const double a2 = cabinet_.cone.radiusM * cabinet_.cone.radiusM;
    for (const Driver& d : drivers_) {
        const double dx = place.x - d.x, dy = place.y - d.y, r = std::hypot(dx, dy);
        if (place.z > 0.0) {
            for (const Ring& ring : rings_) {
                const double z = place.z + ring.depth;
                const Complex hole = ring.from > 0.0 ? discPressure(ring.from, r, z, k_) : Complex(0.0);
                sum += ring.moves * (discPressure(ring.to, r, z, k_) - hole) * (2.0 / a2);
            }
        } else if (cabinet_.isOpenBack) {
            const double away = reach(dx, dy, place.z + cabinet_.depthM);
            sum += backward_ * wave(k_, away) / away;
        }
        if (cabinet_.widthM > 0.0) sum += edges(d, place); // none: an endless baffle
    }
    return sum;
}

Place SoundField::mirrored(const Cabinet& cabinet, const Room& room, std::size_t way, const Place& place)
{
    if (way == 1) return {place.x, -2.0 * room.floorM - place.y, place.z};
    if (way == 2) return {place.x, place.y, -2.0 * (cabinet.depthM + room.wallM) - place.z};
    return place;
}

std::complex<double> SoundField::by(std::size_t way, const Place& place) const
{
    if (returns_[way] == 0.0) return 0.0;
    return returns_[way] * around(mirrored(cabinet_, room_, way, place));
}

std::complex<double> SoundField::at(const Place& place) const
{
    Complex sum = 0.0;
    for (std::size_t way = 0; way < kWays; ++way) sum += by(way, place);
    return sum;
}

double reverberantPower(const Room& room)
{
    if (room.reverberationS <= 0.0 || room.volumeM3 <= 0.0) return 0.0;
    return 16.0 * kPi * room.reverberationS / (0.161 * room.volumeM3);
}

} // namespace gristle::core
