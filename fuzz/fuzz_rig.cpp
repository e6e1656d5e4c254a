// Rig files and recall lines: what parses must give the same line again, and every rig that compiles stays finite.

#include "core/rig/compiled_rig.h"
#include "core/rig/rig_document.h"
#include "fuzz/fuzz_target.h"

#include <cmath>
#include <cstdlib>
#include <nlohmann/json.hpp>

using namespace gristle::core;
using Json = nlohmann::ordered_json;

namespace gristle::fuzz {

std::vector<std::string> seeds()
{
    std::vector<std::string> out = {
        "gain db=6 | drive drive=20 | amplifier drive=8 | delay time=1/8d tempo=104 feedback=0.4 mix=0.2",
        "{ gain db=-3 | place at=-50 ; drive ; { gain ; gain db=1 } } | gain bypass=on",
        "impulse file=\"a b|c.wav\" level=matched"};
    for (std::size_t i = 0; i < 3; ++i) {
        RigDocument rig;
        rig.chain = *parseRecallLine(out[i]);
        out.push_back(rigToJson(rig).dump(1));
    }
    return out;
}

std::vector<std::string> words()
{
    return {"|",
            "{",
            "}",
            ";",
            "=",
            "\"",
            "\\",
            "gain",
            "drive",
            "delay time=",
            "1e308",
            "-1e308",
            "nan",
            "inf",
            "1/0",
            "1/16t",
            "433ms",
            "db=",
            "bypass=on",
            "null",
            "[]",
            "\"lanes\"",
            "{{{{{{{{{{{{{{{{"};
}

} // namespace gristle::fuzz

namespace {

void runThrough(const RigChain& chain)
{
    RigDocument rig;
    rig.chain = chain;
    CompileOptions options;
    options.maxBlock = 64;
    options.allowMissing = true;
    auto compiled = CompiledRig::compile(rig, options);
    if (!compiled) return;
    std::vector<float> left(64), right(64);
    for (int n = 0; n < 8; ++n) {
        for (std::size_t i = 0; i < 64; ++i) left[i] = float(n) * std::sin(float(i));
        AudioBlock block{{left.data(), right.data()}, 1, 64};
        compiled->process(block);
        for (std::size_t c = 0; c < block.channels; ++c)
            for (std::size_t i = 0; i < 64; ++i)
                if (!std::isfinite(block.channel[c][i])) std::abort();
    }
}

} // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size)
{
    const std::string text(reinterpret_cast<const char*>(data), size);
    if (const auto chain = parseRecallLine(text)) {
        const auto again = parseRecallLine(recallLine(*chain));
        if (!again || !(*again == *chain)) std::abort();
        runThrough(*chain);
    }
    const Json json = Json::parse(text, nullptr, false);
    if (json.is_discarded()) return 0;
    std::vector<std::string> warnings;
    if (const auto rig = rigFromJson(json, Unknown::Bypass, warnings)) runThrough(rig->chain);
    (void)rigFromJson(json, Unknown::Refuse, warnings);
    return 0;
}
