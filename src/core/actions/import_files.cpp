#include "core/actions/import_files.h"

#include "core/session/layer_role.h"
#include "core/session/section_edit.h"
#include "core/units/text.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <regex>

namespace gristle::core {

namespace {

constexpr double kHourS = 3600.0;

/// "bar 17", "bar_5.5" or "12.5s" in a name.
std::optional<double> placeInName(const std::string& stem, const BarGrid& grid)
{
    static const std::regex bar(R"((?:^|[^A-Za-z])bar[ _-]?(\d{1,4}(?:\.\d+)?)(?:[^\d]|$))", std::regex::icase);
    static const std::regex seconds(R"((?:^|[ _-])(\d{1,6}(?:\.\d+)?) ?s(?:ec)?(?:[^A-Za-z0-9]|$))", std::regex::icase);
    std::smatch found;
    if (std::regex_search(stem, found, bar))
        if (const double at = std::stod(found[1]); at >= 1.0) return grid.secondsOfBar(at);
    if (std::regex_search(stem, found, seconds)) return std::stod(found[1]);
    return std::nullopt;
}

Song songOf(const SessionDocument& document, const std::string& name)
{
    const auto at = std::ranges::find(document.songs, name, &Song::name);
    return at != document.songs.end() ? *at : Song{};
}

} // namespace

Result<SaidPlace> saidPlace(const std::filesystem::path& file, const BarGrid& grid)
{
    const auto reader = AudioReader::open(file);
    if (!reader) return reader.error();
    SaidPlace out;
    const AudioInfo& info = reader->info();
    if (info.stampFrames) out.stampS = double(*info.stampFrames) / info.sampleRateHz;
    out.songS = placeInName(file.stem().string(), grid);
    return out;
}

Outcome landFiles(const SessionDocument& document, std::vector<FileToImport>& files)
{
    std::vector<std::pair<FileToImport*, double>> stamped;
    std::map<std::string, double> earliest;
    for (FileToImport& f : files) {
        if (f.at == LandsAt::Beginning) continue;
        const auto said = saidPlace(f.file, songOf(document, f.into.song).grid());
        if (!said) return said.error();
        if (!said->stampS && !said->songS)
            return Error{ErrorCode::Usage, shownName(f.file) + ": it has no time stamp, and its name no bar or seconds",
                         "say where it begins, in seconds of the song"};
        if (!said->stampS) {
            f.into.atS = *said->songS;
            continue;
        }
        stamped.emplace_back(&f, *said->stampS);
        const auto [at, isNew] = earliest.try_emplace(f.into.song, *said->stampS);
        at->second = std::min(at->second, *said->stampS);
    }
    for (auto& [file, stampS] : stamped) {
        const Song song = songOf(document, file->into.song);
        const bool isNew = song.stampS == 0.0 && endOf(song) == 0.0;
        file->into.clockS = isNew ? kHourS * std::floor(earliest.at(file->into.song) / kHourS) : song.stampS;
        file->into.atS = stampS - file->into.clockS;
        if (file->into.atS < -kHourS)
            return Error{ErrorCode::Usage,
                         fmt::format("{}: its time stamp is {:.0f} s before bar 1 of \"{}\"", shownName(file->file),
                                     -file->into.atS, file->into.song),
                         "say where it begins, in seconds of the song"};
    }
    return Done{};
}

Outcome checkImport(const SessionDocument& document, const std::vector<FileToImport>& files)
{
    for (const FileToImport& f : files) {
        if (const auto may = checkPlace(document, f.into); !may) return may;
        const LayerRole role = f.into.role.value_or(LayerRole::Di);
        if (f.options.sides == ImportSides::Both && !mayBeStereo(role))
            return Error{ErrorCode::Usage, fmt::format("{}: {} is one signal", shownName(f.file), wordsOf(role)),
                         "choose a channel or the mean of both, or bring it in as a microphone or backing"};
        const auto& sources = sourcesOf(role);
        if (!f.into.source.empty() && std::ranges::find(sources, f.into.source) == sources.end())
            return Error{ErrorCode::Usage,
                         fmt::format("\"{}\" is nothing that {} can be", f.into.source, wordsOf(role)),
                         sources.empty() ? "leave it out" : fmt::format("say {}", fmt::join(sources, ", "))};
    }
    return Done{};
}

Result<std::vector<StagedTake>> stageFiles(const std::filesystem::path& folder, const Calibration& input,
                                           const std::vector<FileToImport>& files, const std::string& now,
                                           const Progress& progress)
{
    std::vector<StagedTake> out;
    for (const FileToImport& f : files) {
        auto take = progress.stopped() ? Result<StagedTake>(Error{ErrorCode::Cancelled, "bringing in: stopped", ""})
                                       : stageTake(folder, input, f.file, f.options, now);
        if (!take) { // a bad file leaves the session as it was
            discardTakes(out);
            return take.error();
        }
        out.push_back(std::move(*take));
        progress.at(double(out.size()) / double(files.size()));
    }
    return out;
}

} // namespace gristle::core
