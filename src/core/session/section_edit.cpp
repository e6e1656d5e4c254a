#include "core/session/section_edit.h"

#include "core/units/text.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kSameQuarter = 1e-6;

} // namespace

std::vector<SectionSpan> spansOf(const Song& song, double endS)
{
    const BarGrid grid = song.grid();
    std::vector<SectionSpan> out;
    for (const Section& section : song.sections) {
        const double fromS = grid.secondsOfQuarter(section.quarter);
        if (fromS >= endS) break;
        if (!out.empty()) out.back().toS = fromS;
        out.push_back({section.name, fromS, endS});
    }
    return out;
}

double endOf(const Song& song)
{
    double out = 0.0;
    for (const Part& part : song.parts)
        for (const Layer& layer : part.layers)
            for (const Take& take : layer.takes) out = std::max(out, take.endS());
    return out;
}

Outcome addSection(Song& song, const std::string& wanted, double bar)
{
    const std::string name = validText(wanted);
    if (name.find_first_not_of(' ') == std::string::npos)
        return Error{ErrorCode::Usage, "a section without a name", "give it one"};
    if (!(bar >= 1.0)) return Error{ErrorCode::Usage, name + ": a section begins at bar 1 or later", "name its bar"};
    const double quarter = song.grid().quarterOfBar(bar);
    std::erase_if(song.sections, [&](const Section& s) { return std::abs(s.quarter - quarter) < kSameQuarter; });
    song.sections.push_back({name, quarter});
    std::ranges::sort(song.sections, {}, &Section::quarter);
    return Done{};
}

Outcome removeSection(Song& song, const std::string& name, std::optional<double> bar)
{
    const auto isMeant = [&](const Section& s) {
        return s.name == name && (!bar || std::abs(s.quarter - song.grid().quarterOfBar(*bar)) < kSameQuarter);
    };
    const auto count = std::ranges::count_if(song.sections, isMeant);
    if (count == 0)
        return Error{ErrorCode::Usage, fmt::format("section \"{}\": there is none of that name there", name),
                     "see session info"};
    if (count > 1)
        return Error{ErrorCode::Usage, fmt::format("section \"{}\": there are {} of that name", name, count),
                     "say at which bar it begins with --bar"};
    std::erase_if(song.sections, isMeant);
    return Done{};
}

} // namespace gristle::core
