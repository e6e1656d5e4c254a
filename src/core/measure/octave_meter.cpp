#include "core/measure/octave_meter.h"

#include "core/signal/window.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kWindowS = 0.08;
constexpr double kFloorDb = -100.0;

} // namespace

OctaveMeter::OctaveMeter(double rateHz)
    : rateHz_(rateHz), fft_(fastFftSize(static_cast<std::size_t>(kWindowS * rateHz))), window_(hannWindow(fft_.size()))
{
    held_.reserve(fft_.size());
}

void OctaveMeter::push(std::span<const float> mono)
{
    while (!mono.empty()) {
        const std::size_t n = std::min(mono.size(), fft_.size() - held_.size());
        held_.insert(held_.end(), mono.begin(), mono.begin() + long(n));
        mono = mono.subspan(n);
        if (held_.size() == fft_.size()) take();
    }
}

void OctaveMeter::take()
{
    for (std::size_t i = 0; i < held_.size(); ++i) fft_.time()[i] = static_cast<float>(window_[i] * double(held_[i]));
    held_.clear();
    fft_.forward();
    const double line = double(fft_.size()) / rateHz_;
    for (std::size_t b = 0; b < power_.size(); ++b) {
        const auto edge = [&](double hz) {
            return std::min(fft_.size() / 2, static_cast<std::size_t>(std::ceil(hz * line)));
        };
        for (std::size_t k = edge(kOctaveHz[b] / std::numbers::sqrt2); k < edge(kOctaveHz[b] * std::numbers::sqrt2);
             ++k)
            power_[b] += double(std::norm(fft_.spectrum()[k]));
    }
}

Octaves OctaveMeter::result() const
{
    double whole = 0.0;
    for (const double p : power_) whole += p;
    Octaves out;
    for (std::size_t b = 0; b < out.size(); ++b)
        out[b] = power_[b] > 0.0 ? std::max(kFloorDb, powerToDb(power_[b] / whole)) : kFloorDb;
    return out;
}

double bodyDb(const Octaves& octaves)
{
    double sum = 1e-10;
    for (std::size_t b = 0; b < octaves.size(); ++b)
        if (kOctaveHz[b] == 125.0 || kOctaveHz[b] == 250.0) sum += std::pow(10.0, 0.1 * octaves[b]);
    return 10.0 * std::log10(sum);
}

} // namespace gristle::core
