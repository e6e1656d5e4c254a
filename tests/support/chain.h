#pragma once

#include "core/rig/compiled_rig.h"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <string>
#include <vector>

namespace gristle::test {

using Sides = std::vector<std::vector<float>>;

/// What a chain makes of a mono signal in volts, its latency taken out.
inline Sides throughChain(const std::string& line, std::vector<float> x, double rate = 48000.0, double fullScaleV = 1.0)
{
    core::RigDocument rig;
    rig.chain = core::parseRecallLine(line).value();
    core::CompileOptions options;
    options.context.rateHz = rate;
    options.context.fullScaleV = fullScaleV;
    auto compiled = core::CompiledRig::compile(rig, options).value();
    const std::size_t late = compiled.latency();
    x.resize(x.size() + late);
    Sides out{x, std::vector<float>(x.size())};
    std::size_t channels = 1;
    for (std::size_t at = 0; at < x.size(); at += 1000) {
        core::AudioBlock b{{out[0].data() + at, out[1].data() + at}, 1, std::min<std::size_t>(1000, x.size() - at)};
        compiled.process(b);
        channels = b.channels;
    }
    out.resize(channels);
    for (auto& side : out) side.erase(side.begin(), side.begin() + long(late));
    return out;
}

/// Harmonics, second to nineteenth, that a chain adds to a tone of 480 Hz (a hundred samples a cycle), against the
/// tone.
inline double harmonicsOf(const std::string& line, double volts)
{
    constexpr double kTurn = 2.0 * std::numbers::pi / 100.0;
    std::vector<float> x(57600);
    for (std::size_t i = 0; i < x.size(); ++i) x[i] = float(volts * std::sin(kTurn * double(i % 100)));
    const auto y = throughChain(line, x)[0];
    double over = 0.0, first = 0.0;
    for (int k = 1; k < 20; ++k) {
        std::complex<double> sum = 0.0;
        for (std::size_t i = y.size() - 20000; i < y.size() - 10000; ++i)
            sum += double(y[i]) * std::polar(1.0, -kTurn * k * double(i % 100));
        (k == 1 ? first : over) += std::norm(sum);
    }
    return std::sqrt(over / first);
}

/// The response of a linear chain at a frequency, dB, from its impulse response.
inline double responseDb(const std::vector<float>& h, double hz, double rate)
{
    std::complex<double> sum = 0.0;
    for (std::size_t i = 0; i < h.size(); ++i)
        sum += double(h[i]) * std::polar(1.0, -2.0 * std::numbers::pi * hz * double(i) / rate);
    return 20.0 * std::log10(std::abs(sum));
}

} // namespace gristle::test
