#include "core/actions/write_stems.h"

#include "core/advice/stem_findings.h"
#include "core/advice/stereo_findings.h"
#include "core/audio/file_place.h"
#include "core/session/take_import.h"
#include "core/units/decibels.h"
#include "core/units/text.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <set>

namespace gristle::core {

namespace {

constexpr std::array<const char*, 4> kNames{"layer", "part", "side", "bus"};
constexpr std::size_t kBlock = 65536;

std::string named(const std::string& first, const std::string& second)
{
    return first.empty() || second.empty() ? first + second : first + ", " + second;
}

std::string groupOf(const MixPlan& plan, std::size_t i, StemsBy by)
{
    const MixLayer& layer = plan.layers[i];
    switch (by) {
    case StemsBy::Layer: return named(plan.origins[i].part, layer.recipe.name);
    case StemsBy::Part: return plan.origins[i].part;
    case StemsBy::Side: return layer.place < 0.0 ? "left" : layer.place > 0.0 ? "right" : "middle";
    case StemsBy::Bus: break;
    }
    return {};
}

/// Each group with all else left out.
std::vector<Stem> byGroup(const MixPlan& plan, StemsBy by)
{
    std::vector<Stem> out;
    for (std::size_t i = 0; i < plan.layers.size(); ++i) {
        const std::string name = named(plan.song, groupOf(plan, i, by));
        auto at = std::ranges::find(out, name, &Stem::name);
        if (at == out.end() || by == StemsBy::Layer) {
            at = out.insert(out.end(), Stem{name, plan});
            at->plan.layers.clear(), at->plan.origins.clear();
        }
        at->plan.layers.push_back(plan.layers[i]);
        at->plan.origins.push_back(plan.origins[i]);
    }
    return out;
}

std::vector<Stem> byBus(const MixPlan& plan)
{
    std::vector<Stem> out;
    for (std::size_t b = 0; b < plan.options.buses.size(); ++b)
        if (plan.options.buses[b].into == kIntoSum)
            out.push_back({named(plan.song, plan.options.buses[b].name), onlyThrough(plan, b)});
    if (std::ranges::any_of(plan.layers, [](const MixLayer& l) { return l.bus == kIntoSum && l.isHeard; }))
        out.push_back({named(plan.song, "without a bus"), onlyThrough(plan, kIntoSum)});
    return out;
}

/// Rigs that several of the groups go through together: what they do to a sum is not what they do to its parts.
std::vector<std::string> sharedRigs(const MixPlan& plan, StemsBy by)
{
    std::vector<std::string> out;
    const auto& [buses, sum] = std::tie(plan.options.buses, plan.options.sum);
    if (!sum.rig.chain.empty()) out.push_back(sum.name);
    if (by == StemsBy::Bus) return out;
    std::vector<std::set<std::string>> groups(buses.size());
    const auto reach = [&](const auto& self, std::size_t bus, const std::string& group) -> void {
        if (bus == kIntoSum) return;
        groups[bus].insert(group);
        self(self, buses[bus].into, group);
        for (const MixSend& send : buses[bus].sends) self(self, send.to, group);
    };
    for (std::size_t i = 0; i < plan.layers.size(); ++i) {
        const std::string group = groupOf(plan, i, by) + (by == StemsBy::Layer ? std::to_string(i) : "");
        reach(reach, plan.layers[i].bus, group);
        for (const MixSend& send : plan.layers[i].sends) reach(reach, send.to, group);
    }
    for (std::size_t b = 0; b < buses.size(); ++b)
        if (groups[b].size() > 1 && !buses[b].rig.chain.empty()) out.push_back(buses[b].name);
    return out;
}

/// The highest sample of a mix less the sum of its stems. @error as AudioReader
Result<double> residual(const std::filesystem::path& mix, const std::vector<StemsAnswer::One>& stems)
{
    auto whole = AudioReader::open(mix);
    if (!whole) return whole.error();
    std::vector<AudioReader> readers;
    for (const auto& stem : stems) {
        auto reader = AudioReader::open(stem.file);
        if (!reader) return reader.error();
        readers.push_back(std::move(*reader));
    }
    double highest = 0.0;
    std::vector<double> rest;
    while (true) {
        const auto block = whole->readInterleaved(kBlock);
        if (!block) return block.error();
        if (block->empty()) return highest;
        rest.assign(block->begin(), block->end());
        for (AudioReader& reader : readers) {
            const auto part = reader.readInterleaved(kBlock);
            if (!part) return part.error();
            for (std::size_t i = 0; i < std::min(part->size(), rest.size()); ++i) rest[i] -= double((*part)[i]);
        }
        for (const double x : rest) highest = std::max(highest, std::abs(x));
    }
}

/// What rounding to the format may leave between a mix and the sum of so many stems: half a step each.
double roundingOf(SampleFormat format, std::size_t stems)
{
    const double step = std::ldexp(1.0, format == SampleFormat::Int16 ? -15 : -23);
    return 0.5 * step * double(stems + 1) * 1.01;
}

} // namespace

std::string nameOf(StemsBy by) { return kNames[static_cast<std::size_t>(by)]; }

std::optional<StemsBy> parseStemsBy(const std::string& name)
{
    const auto at = std::ranges::find(kNames, name);
    return at == kNames.end() ? std::nullopt : std::optional(static_cast<StemsBy>(at - kNames.begin()));
}

std::vector<Stem> stemsOf(const MixPlan& plan, StemsBy by)
{
    return by == StemsBy::Bus ? byBus(plan) : byGroup(plan, by);
}

MixPlan onlyThrough(const MixPlan& plan, std::size_t bus)
{
    MixPlan out = plan;
    auto& buses = out.options.buses;
    const auto leadsTo = [&](std::size_t from, std::size_t to) {
        while (from != kIntoSum && from != to) from = plan.options.buses[from].into;
        return from == to;
    };
    const auto isBehind = [&](std::size_t b) { return bus != kIntoSum && b != bus && leadsTo(bus, b); };
    // Closed is what reaches the sum by another way; what feeds its sends stays open, up to there.
    const auto isElsewhere = [&](std::size_t into) { return into == kIntoSum || isBehind(into); };
    for (std::size_t b = 0; b < buses.size(); ++b) {
        const bool isBefore = bus != kIntoSum && leadsTo(b, bus);
        if (!isBefore && !isBehind(b) && isElsewhere(buses[b].into)) buses[b].isHeard = false;
        if (!isBefore) std::erase_if(buses[b].sends, [&](const MixSend& s) { return isBehind(s.to); });
    }
    for (MixLayer& layer : out.layers) {
        if (bus != kIntoSum && isElsewhere(layer.bus)) layer.isHeard = false;
        if (bus == kIntoSum || !leadsTo(layer.bus, bus))
            std::erase_if(layer.sends, [&](const MixSend& s) { return isBehind(s.to); });
    }
    return out;
}

Outcome checkStemsFolder(const std::filesystem::path& folder)
{
    std::error_code ignored;
    if (isThere(folder) && !std::filesystem::is_directory(folder, ignored))
        return Error{ErrorCode::Usage, shownName(folder) + ": it is a file, and stems go into a folder",
                     "name a folder, or one that is not there yet"};
    const auto whole = std::filesystem::weakly_canonical(folder, ignored);
    for (auto above = whole; above.has_relative_path(); above = above.parent_path())
        for (const char* own : {"audio", "impulses", "rigs", "cache"})
            if (isThere(above / "session.json") && liesInside(whole / "stem.wav", above / own))
                return Error{ErrorCode::Usage, shownName(folder) + ": it belongs to the session " + shownName(above),
                             "name another folder"};
    return Done{};
}

Result<StemsAnswer> writeStems(const std::filesystem::path& folder, const MixPlan& plan, StemsBy by,
                               const std::filesystem::path& mix, SampleFormat format, const Progress& progress,
                               RenderCache* cache)
{
    if (const auto may = checkStemsFolder(folder); !may) return may.error();
    std::error_code failed;
    std::filesystem::create_directories(folder, failed);
    if (failed) return writeError(folder, failed.value());
    const auto whole = AudioReader::open(mix);
    if (!whole) return whole.error();
    const auto stems = stemsOf(plan, by);
    StemsAnswer out;
    for (std::size_t i = 0; i < stems.size(); ++i) {
        const Progress part{progress.stop, [&](double p) { progress.at((double(i) + p) / double(stems.size())); }};
        MixPlan own = stems[i].plan;
        own.options.frames = whole->info().frames;
        const auto file = folder / freeName(folder, ".", safeStem(stems[i].name));
        auto report = mixToFile(file.lexically_normal(), own.layers, own.options, format, part, cache);
        if (!report) return report.error();
        out.stems.push_back({file.lexically_normal(), std::move(*report)});
    }
    const auto left = residual(mix, out.stems);
    if (!left) return left.error();
    if (*left > 0.0) out.residualDbfs = amplitudeToDb(*left);
    const bool doSum = *left <= roundingOf(format, stems.size());
    out.findings = stemFindings(doSum ? std::vector<std::string>{} : sharedRigs(plan, by), doSum, out.residualDbfs);
    for (const auto& stem : out.stems)
        if (stem.report.clippedSamples > 0) {
            auto more = sumFindings(stem.report.truePeakDbtp, stem.report.clippedSamples, shownName(stem.file));
            std::ranges::move(more, std::back_inserter(out.findings));
        }
    rank(out.findings);
    return out;
}

} // namespace gristle::core
