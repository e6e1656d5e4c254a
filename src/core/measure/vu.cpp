#include "core/measure/vu.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kOvershoot = 0.0125; // middle of IEC 60268-17's 1 to 1.5 %
constexpr double kRiseS = 0.3;        // to 99 % of a step
constexpr double kDcCornerHz = 0.5;
constexpr double kHeadS = 0.5;
constexpr double kSineScale = std::numbers::pi / 2.0; // the rectified mean of a sine is 2/pi of its peak

/// Damping of a second-order system with that overshoot: exp(-pi z / sqrt(1 - z^2)) = overshoot.
double damping()
{
    const double l = std::log(kOvershoot);
    return -l / std::sqrt(std::numbers::pi * std::numbers::pi + l * l);
}

/// Step response at time t of a second-order system of natural frequency 1.
double stepResponse(double z, double t)
{
    const double w = std::sqrt(1.0 - z * z);
    return 1.0 - std::exp(-z * t) * (std::cos(w * t) + z / w * std::sin(w * t));
}

/// The time at which the step response first reaches 99 %, for natural frequency 1; by bisection.
double timeTo99(double z)
{
    double low = 0.0, high = std::numbers::pi / std::sqrt(1.0 - z * z); // the peak is there
    for (int i = 0; i < 60; ++i) {
        const double middle = 0.5 * (low + high);
        (stepResponse(z, middle) < 0.99 ? low : high) = middle;
    }
    return high;
}

std::int64_t hopEnd(std::int64_t hop, double rateHz) { return std::llround(double(hop + 1) * rateHz * VuMeter::kHopS); }

} // namespace

VuMeter::VuMeter(double rateHz) : rateHz_(rateHz), nextHop_(hopEnd(0, rateHz))
{
    const double z = damping();
    const double omega = timeTo99(z) / kRiseS / rateHz; // natural frequency a sample
    const double decay = std::exp(-z * omega);
    a1_ = -2.0 * decay * std::cos(omega * std::sqrt(1.0 - z * z));
    a2_ = decay * decay;
    b_ = 1.0 + a1_ + a2_;
    dcPull_ = 1.0 - std::exp(-2.0 * std::numbers::pi * kDcCornerHz / rateHz);
}

double VuMeter::maxDbfs() const noexcept { return amplitudeToDb(highest_ * kSineScale); }

void VuMeter::push(std::span<const float> mono)
{
    if (settled_) return run(mono);
    head_.insert(head_.end(), mono.begin(), mono.end());
    if (double(head_.size()) >= kHeadS * rateHz_) finish();
}

void VuMeter::finish()
{
    if (settled_) return;
    settled_ = true;
    double sum = 0.0;
    for (const float x : head_) sum += double(x);
    if (!head_.empty()) dc_ = sum / double(head_.size());
    run(head_);
    head_ = {};
}

void VuMeter::run(std::span<const float> mono)
{
    double y1 = y1_, y2 = y2_, dc = dc_, highest = highest_;
    while (!mono.empty()) {
        const auto take =
            static_cast<std::size_t>(std::min<std::int64_t>(std::int64_t(mono.size()), nextHop_ - frames_));
        for (const float sample : mono.first(take)) {
            const double x = double(sample);
            const double y = b_ * std::abs(x - dc) - a1_ * y1 - a2_ * y2;
            dc += dcPull_ * (x - dc);
            y2 = y1;
            y1 = y;
            highest = std::max(highest, y);
        }
        frames_ += std::int64_t(take);
        mono = mono.subspan(take);
        if (frames_ == nextHop_) {
            const double amplitude = std::max(0.0, y1) * kSineScale;
            readings_.push_back(static_cast<float>(amplitude * amplitude));
            nextHop_ = hopEnd(++hops_, rateHz_);
        }
    }
    y1_ = y1;
    y2_ = y2;
    dc_ = dc;
    highest_ = highest;
}

std::optional<double> loudReadingDbfs(std::vector<float> powers)
{
    if (powers.empty()) return std::nullopt;
    const auto at = powers.begin() + long(powers.size() * 95 / 100);
    std::ranges::nth_element(powers, at);
    return *at > 0.0f ? std::optional(powerToDb(double(*at))) : std::nullopt;
}

} // namespace gristle::core
