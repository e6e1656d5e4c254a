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

/// The response of a linear chain at a frequency, dB, from its impulse response.
inline double responseDb(const std::vector<float>& h, double hz, double rate)
{
    std::complex<double> sum = 0.0;
    for (std::size_t i = 0; i < h.size(); ++i)
        sum += double(h[i]) * std::polar(1.0, -2.0 * std::numbers::pi * hz * double(i) / rate);
    return 20.0 * std::log10(std::abs(sum));
}

} // namespace gristle::test
