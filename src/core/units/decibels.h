#pragma once

#include <cmath>
#include <compare>
#include <limits>
#include <optional>

namespace gristle::core {

/// A ratio or level in decibels of amplitude: 20 lg. Zero amplitude is minus infinity.
class Decibels {
public:
    constexpr explicit Decibels(double value) noexcept : value_(value) {}
    static Decibels fromAmplitude(double a) noexcept { return Decibels(20.0 * std::log10(std::abs(a))); }
    static Decibels fromPower(double p) noexcept { return Decibels(10.0 * std::log10(p)); }
    double toAmplitude() const noexcept { return std::pow(10.0, value_ / 20.0); }
    constexpr double value() const noexcept { return value_; }
    bool isSilence() const noexcept { return value_ == -std::numeric_limits<double>::infinity(); }
    constexpr auto operator<=>(const Decibels&) const = default;

private:
    double value_;
};

inline double amplitudeToDb(double a) noexcept { return Decibels::fromAmplitude(a).value(); }
inline double dbToAmplitude(double db) noexcept { return Decibels(db).toAmplitude(); }
inline double dbToPower(double db) noexcept { return dbToAmplitude(db) * dbToAmplitude(db); }
inline double powerToDb(double p) noexcept { return Decibels::fromPower(p).value(); }

/// AES17: a full-scale sine reads 0 dBFS, which is 3.01 dB above the plain RMS re full scale 1.0.
/// @param meanSquare  mean of x squared, full scale 1.0; 0 gives no value (digital silence has no level)
inline std::optional<double> aes17Dbfs(double meanSquare) noexcept
{
    if (!(meanSquare > 0.0)) return std::nullopt;
    return powerToDb(2.0 * meanSquare);
}

} // namespace gristle::core
