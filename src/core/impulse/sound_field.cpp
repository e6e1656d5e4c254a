#include "core/impulse/sound_field.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

using Complex = std::complex<double>;
constexpr double kPi = std::numbers::pi;
constexpr Complex kJ(0.0, 1.0);
constexpr int kRings = 6;
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
    const double reaches = std::hypot(z, r + b) - std::hypot(z, r - b);
    const int least = z > 3.0 * b ? 10 : 24;
    const int n = least + int(std::ceil(0.8 * k * reaches)); // half of the rim; the other half is alike
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
    const Cone& cone = cabinet.cone;
    const double s = cabinet.spacingM;
    drivers_ = {{0.0, 0.0}};
    if (cabinet.drivers >= 2) drivers_.push_back({-s, 0.0}); // x points to the near side, away from its neighbours
    if (cabinet.drivers >= 4) drivers_.insert(drivers_.end(), {{0.0, -s}, {-s, -s}});
    const double middleX = cabinet.drivers >= 2 ? -0.5 * s : 0.0, middleY = cabinet.drivers >= 4 ? -0.5 * s : 0.0;
    left_ = middleX - 0.5 * cabinet.widthM, right_ = middleX + 0.5 * cabinet.widthM;
    bottom_ = middleY - 0.5 * cabinet.heightM, top_ = middleY + 0.5 * cabinet.heightM;

    // Rings: force over the mass that still follows gives the coil's acceleration.
    const double a = cone.radiusM;
    Complex mass = cone.coilShare;
    std::vector<Complex> follow;
    const double inner = std::min(cone.capRadiusM, a);
    const int rings = cone.breakUpHz > 0.0 ? kRings : 1;
    for (int i = 0; i < rings; ++i) {
        const double from = rings == 1 || i == 0 ? 0.0 : radii_.back();
        const double to = rings == 1 ? a : inner + (a - inner) * i / (rings - 1);
        radii_.push_back(to);
        Complex h = 1.0;
        if (cone.breakUpHz > 0.0) {
            const double leaves = cone.breakUpHz * std::pow(a / to, cone.breakUpSlope), x = hz / leaves;
            h = 1.0 / (1.0 - x * x + kJ * x / cone.breakUpQ);
        }
        follow.push_back(h);
        mass += (1.0 - cone.coilShare) * (to * to - from * from) / (a * a) * h;
    }
    const double x = cone.resonanceHz / hz;
    Complex coil = 1.0 / (1.0 - x * x - kJ * x / cone.resonanceQ) / mass; // Small 1972: a second-order high pass
    if (cone.breakUpHz > 0.0) coil *= falls(hz, cone.inductanceHz);
    for (const BreakUpMode& mode : cone.modes) coil *= bell(hz, mode);
    double before = 0.0;
    for (std::size_t i = 0; i < radii_.size(); ++i) {
        moves_.push_back(follow[i] * coil);
        const double b = radii_[i], area = (b * b - before * before) / (a * a);
        const double aside = (b * b * discPattern(k_ * b) - before * before * discPattern(k_ * before)) / (a * a);
        sideways_ += moves_.back() * aside;
        backward_ += moves_.back() * area;
        before = b;
    }
    // Behind an open back the magnet and the box stand in the way: dull. From there sound goes as from a small source.
    backward_ *= cabinet.isOpenBack ? -falls(hz, 900.0) * falls(hz, 2500.0) : Complex(0.0);
    // A floor and a wall send less back as frequency rises.
    floor_ = room.floorM > 0.0 ? room.floorReturns * falls(hz, 6000.0) : Complex(0.0);
    wall_ = room.wallM > 0.0 ? room.wallReturns * falls(hz, 4000.0) : Complex(0.0);
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
            Complex before = 0.0;
            for (std::size_t i = 0; i < radii_.size(); ++i) {
                const Complex disc = discPressure(radii_[i], r, place.z, k_);
                sum += moves_[i] * (disc - before) * (2.0 / a2);
                before = disc;
            }
        } else if (cabinet_.isOpenBack) {
            const double away = reach(dx, dy, place.z + cabinet_.depthM);
            sum += backward_ * wave(k_, away) / away;
        }
        if (cabinet_.widthM > 0.0) sum += edges(d, place); // none: an endless baffle
    }
    return sum;
}

std::complex<double> SoundField::at(const Place& place) const
{
    Complex sum = around(place);
    if (floor_ != 0.0) sum += floor_ * around({place.x, -2.0 * room_.floorM - place.y, place.z});
    if (wall_ != 0.0) sum += wall_ * around({place.x, place.y, -2.0 * (cabinet_.depthM + room_.wallM) - place.z});
    return sum;
}

double reverberantPower(const Room& room)
{
    if (room.reverberationS <= 0.0 || room.volumeM3 <= 0.0) return 0.0;
    return 16.0 * kPi * room.reverberationS / (0.161 * room.volumeM3);
}

} // namespace gristle::core
