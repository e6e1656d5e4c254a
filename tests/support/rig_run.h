#pragma once

#include "core/rig/compiled_rig.h"

#include <QtTest/QtTest>

namespace gristle::test {

/// Runs a chain over mono volts and returns the first channel with the latency taken out, and the second where there is
/// one.
inline std::vector<std::vector<float>> run(const std::string& line, std::vector<float> x, double rate = 48000.0,
                                           std::size_t block = 512, const std::filesystem::path& folder = {})
{
    core::RigDocument rig;
    auto chain = core::parseRecallLine(line);
    if (!chain) qFatal("%s", chain.error().line().c_str());
    rig.chain = *chain;
    core::CompileOptions options;
    options.context.rateHz = rate;
    options.context.folder = folder;
    auto compiled = core::CompiledRig::compile(rig, options);
    if (!compiled) qFatal("%s", compiled.error().line().c_str());
    const std::size_t late = compiled->latency();
    x.resize(x.size() + late, 0.0f);
    std::vector<std::vector<float>> out{x, std::vector<float>(x.size())};
    std::size_t channels = 1;
    for (std::size_t at = 0, n = 0; at < x.size(); at += n) {
        n = block > 0 ? std::min(block, x.size() - at) : std::min<std::size_t>(1 + at % 997, x.size() - at);
        core::AudioBlock b{{out[0].data() + at, out[1].data() + at}, 1, n};
        compiled->process(b);
        channels = b.channels;
    }
    out.resize(channels);
    for (auto& side : out) side.erase(side.begin(), side.begin() + long(late));
    return out;
}

} // namespace gristle::test
