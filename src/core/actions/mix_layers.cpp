#include "core/actions/mix_layers.h"

#include "core/advice/mix_findings.h"
#include "core/mix/render/session_mix.h"
#include "core/session/bus_edit.h"
#include "core/session/layer_role.h"
#include "core/session/section_edit.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

/// A song's buses and its sum, the rigs read. @error as SessionFolder::loadRig, and as checkBuses
Outcome planBuses(const SessionFolder& session, const Song& song, bool allowMissing, MixPlan& plan)
{
    if (const auto good = checkBuses(song); !good) return good.error();
    const auto planned = [&](const std::string& name, const std::string& rig, double gainDb) -> Result<MixBus> {
        MixBus out{name, {}, {}, session.document().interface, allowMissing, gainDb};
        out.context.folder = out.context.boundary = session.path();
        if (rig.empty()) return out;
        auto loaded = session.loadRig(rig, allowMissing ? Unknown::Bypass : Unknown::Refuse, plan.warnings);
        if (!loaded) return loaded.error();
        out.rig = std::move(*loaded);
        return out;
    };
    for (const Bus& bus : song.buses) {
        auto made = planned(bus.name, bus.rig, bus.gainDb);
        if (!made) return made.error();
        plan.options.buses.push_back(std::move(*made));
    }
    auto sum = planned(song.name, song.rig, song.gainDb);
    if (!sum) return sum.error();
    plan.options.sum = std::move(*sum);
    return Done{};
}

/// The numbers of buses, from their names; one that is not there is the sum, and told.
class BusNumbers {
public:
    BusNumbers(const Song& song, std::vector<std::string>& warnings) : song_(song), warnings_(warnings) {}
    std::size_t of(const std::string& name, const std::string& who) const
    {
        const auto at = std::ranges::find(song_.buses, name, &Bus::name);
        if (at != song_.buses.end()) return std::size_t(at - song_.buses.begin());
        if (!name.empty())
            warnings_.push_back(fmt::format("{}: bus \"{}\" is not there; it goes straight into the song", who, name));
        return kIntoSum;
    }
    std::vector<MixSend> of(const std::vector<Send>& sends, const std::string& who) const
    {
        std::vector<MixSend> out;
        for (const Send& send : sends)
            if (std::ranges::find(song_.buses, send.to, &Bus::name) != song_.buses.end())
                out.push_back({of(send.to, who), send.gainDb});
            else
                warnings_.push_back(fmt::format("{}: bus \"{}\" is not there; nothing is sent", who, send.to));
        return out;
    }

private:
    const Song& song_;
    std::vector<std::string>& warnings_;
};

using IsWanted = bool (*)(LayerRole);

Result<MixPlan> planned(const SessionFolder& session, const Song& song, const std::vector<const Part*>& parts,
                        bool allowMissing, IsWanted isWanted = isInMix)
{
    MixPlan out;
    out.song = song.name;
    out.options = mixOptions(session.document());
    out.options.stampFrames = std::llround(song.stampS * session.document().sampleRateHz);
    out.options.spans = spansOf(song, endOf(song));
    if (const auto buses = planBuses(session, song, allowMissing, out); !buses) return buses.error();
    const BusNumbers numbers(song, out.warnings);
    for (std::size_t i = 0; i < song.buses.size(); ++i) {
        out.options.buses[i].into = numbers.of(song.buses[i].into, song.buses[i].name);
        out.options.buses[i].sends = numbers.of(song.buses[i].sends, song.buses[i].name);
    }
    for (const Part* part : parts)
        for (const Layer& layer : part->layers) {
            if (layer.takes.empty() || !isWanted(layer.role)) continue;
            auto recipe = layerRecipe(session, layer, allowMissing, out.warnings);
            if (!recipe) return recipe.error();
            out.layers.push_back({std::move(*recipe), layer.place, layer.gainDb, numbers.of(layer.bus, layer.name),
                                  numbers.of(layer.sends, layer.name)});
            out.origins.push_back({part->name, layer.role});
        }
    if (out.layers.empty())
        return Error{ErrorCode::FileMissing, "mix: there is no take to mix", "add takes to the session"};
    return out;
}

std::vector<const Part*> allParts(const Song& song)
{
    std::vector<const Part*> out;
    for (const Part& part : song.parts) out.push_back(&part);
    return out;
}

} // namespace

Result<MixPlan> planMix(const SessionFolder& session, const Song& song, const Part& part, bool allowMissing)
{
    return planned(session, song, {&part}, allowMissing);
}

Result<MixPlan> planMix(const SessionFolder& session, const Song& song, bool allowMissing)
{
    return planned(session, song, allParts(song), allowMissing);
}

Result<MixPlan> planBand(const SessionFolder& session, const Song& song, bool allowMissing)
{
    return planned(session, song, allParts(song), allowMissing,
                   [](LayerRole role) { return isInMix(role) && isOfTheBand(role); });
}

Result<MixPlan> planMix(const SessionFolder& session, const std::string& songName, const std::string& partName,
                        bool allowMissing)
{
    bool isSongThere = songName.empty();
    for (const Song& song : session.document().songs) {
        if (!songName.empty() && song.name != songName) continue;
        isSongThere = true;
        if (partName.empty()) return planMix(session, song, allowMissing);
        const auto part = std::ranges::find(song.parts, partName, &Part::name);
        if (part != song.parts.end()) return planMix(session, song, *part, allowMissing);
    }
    if (!isSongThere)
        return Error{ErrorCode::Usage, "song \"" + songName + "\": there is no such song", "see session info"};
    if (!partName.empty())
        return Error{ErrorCode::Usage, "part \"" + partName + "\": there is no such part", "see session info"};
    return Error{ErrorCode::FileMissing, "mix: there is no take to mix", "add takes to the session"};
}

Result<MixAnswer> writeMix(const std::filesystem::path& out, const MixPlan& plan, SampleFormat format,
                           const std::string& subject, const Progress& progress, RenderCache* cache)
{
    auto report = mixToFile(out, plan.layers, plan.options, format, progress, cache);
    if (!report) return report.error();
    auto findings = mixFindings(*report, plan.warnings, subject);
    return MixAnswer{std::move(*report), std::move(findings)};
}

} // namespace gristle::core
