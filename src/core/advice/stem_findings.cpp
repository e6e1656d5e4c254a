#include "core/advice/stem_findings.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace gristle::core {

namespace {

constexpr double kLosesDb = 2.0; // what unrelated signals never lose over seconds
constexpr double kBandLosesDb = 3.0;

/// The band that loses most, of those that lose.
std::string whereMost(const JoinFigures& join)
{
    const auto most = std::ranges::max_element(join.octaveLossDb);
    if (*most < kBandLosesDb) return {};
    return fmt::format(", most in the octave around {:.0f} Hz ({} dB)",
                       kOctaveHz[std::size_t(most - join.octaveLossDb.begin())], figureText(*most));
}

} // namespace

std::vector<Finding> stemFindings(const std::vector<std::string>& shared, bool doSum, double residualDbfs)
{
    if (doSum) return {};
    const std::string why =
        shared.empty()
            ? "a sample of the mix or of a stem passed full scale and was held there"
            : fmt::format("the rig of {} hears them together in the mix, and one by one here", fmt::join(shared, ", "));
    Finding f = makeFinding(
        Severity::Fix, "stems.apart", shared.empty() ? "stems" : shared.front(), "The stems do not sum to the mix",
        fmt::format("Up to {} dBFS is left between the mix and their sum: {}.", figureText(residualDbfs), why),
        shared.empty() ? "Turn the mix down, or write 32-bit float"
                       : "Take stems by bus, or write the mix without that rig");
    f.measured = residualDbfs;
    f.unit = "dBFS";
    return {std::move(f)};
}

std::vector<Finding> joinFindings(const std::vector<JoinFigures>& joins)
{
    std::vector<Finding> out;
    for (const JoinFigures& join : joins) {
        if (join.count < 2 || join.lossDb < kLosesDb) continue;
        Finding f = makeFinding(
            Severity::Fix, "mix.join_loses", join.name,
            fmt::format("{} dB are lost where signals meet", figureText(join.lossDb)),
            fmt::format("In \"{}\" {} signals meet whose sum is {} dB weaker than they are apart{}.", join.name,
                        join.count, figureText(join.lossDb), whereMost(join)),
            "Find the two that fight: bring them together where one is late, invert one where it is inverted");
        f.measured = join.lossDb;
        f.unit = "dB";
        out.push_back(std::move(f));
    }
    return out;
}

} // namespace gristle::core
