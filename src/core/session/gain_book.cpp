#include "core/session/gain_book.h"

#include "core/audio/file_place.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <sstream>

namespace gristle::core {

namespace {

using Json = nlohmann::ordered_json;

/// The words of an entry and their keys, so that writing and reading cannot part.
template<typename Entry> auto words(Entry& e)
{
    return std::array{std::pair{"when", &e.when},
                      std::pair{"guitar", &e.guitar},
                      std::pair{"pickup", &e.pickup},
                      std::pair{"interface", &e.interface},
                      std::pair{"gain", &e.gain},
                      std::pair{"tuning", &e.with.tuning},
                      std::pair{"strings", &e.with.strings},
                      std::pair{"capo", &e.with.capo},
                      std::pair{"pick", &e.with.pick},
                      std::pair{"volume", &e.with.volume},
                      std::pair{"tone", &e.with.tone},
                      std::pair{"listened_on", &e.with.listenedOn},
                      std::pair{"why", &e.why}};
}

template<typename Entry> auto levels(Entry& e)
{
    return std::array{std::pair{"average_dbfs", &e.averageDbfs}, std::pair{"peak_dbtp", &e.peakDbtp},
                      std::pair{"floor_dbfs", &e.floorDbfs}, std::pair{"brightness_db", &e.brightnessDb}};
}

std::optional<GainEntry> read(const std::string& line)
{
    const Json json = Json::parse(line, nullptr, false);
    if (!json.is_object() || !json.contains("guitar")) return std::nullopt;
    GainEntry e;
    for (const auto& [key, into] : words(e))
        if (json.contains(key) && json[key].is_string()) *into = json[key].get<std::string>();
    for (const auto& [key, into] : levels(e))
        if (json.contains(key) && json[key].is_number()) *into = json[key].get<double>();
    if (json.contains("input") && json["input"].is_number_integer()) e.input = json["input"].get<int>();
    return e;
}

bool alike(const std::string& a, const std::string& b)
{
    return std::ranges::equal(a, b,
                              [](unsigned char x, unsigned char y) { return std::tolower(x) == std::tolower(y); });
}

} // namespace

std::vector<std::string> changedSince(const PlayedWith& before, const PlayedWith& now)
{
    std::vector<std::string> out;
    const auto compare = [&](const char* name, std::string PlayedWith::*field) {
        const std::string &was = before.*field, &is = now.*field;
        if (!was.empty() && !is.empty() && was != is) out.push_back(fmt::format("{} {}, now {}", name, was, is));
    };
    compare("volume", &PlayedWith::volume);
    compare("tone", &PlayedWith::tone);
    compare("strings", &PlayedWith::strings);
    compare("pick", &PlayedWith::pick);
    compare("tuning", &PlayedWith::tuning);
    compare("capo", &PlayedWith::capo);
    return out;
}

GainBook::GainBook(std::filesystem::path file) : file_(std::move(file))
{
    const auto text = readText(file_);
    if (!text) return; // the first entry makes it
    std::istringstream lines(*text);
    for (std::string line; std::getline(lines, line);)
        if (auto entry = read(line)) entries_.push_back(std::move(*entry));
}

Outcome GainBook::add(const GainEntry& entry)
{
    Json json;
    for (const auto& [key, from] : words(entry))
        if (!from->empty()) json[key] = *from;
    json["guitar"] = entry.guitar;
    json["input"] = entry.input;
    for (const auto& [key, from] : levels(entry))
        if (*from) json[key] = **from;
    std::error_code ignored;
    std::filesystem::create_directories(file_.parent_path(), ignored);
    if (const auto written = appendLine(file_, json.dump()); !written) return written;
    entries_.push_back(entry);
    return Done{};
}

const GainEntry* GainBook::last(const std::string& guitar, const std::string& pickup, const std::string& interface,
                                int input) const
{
    for (auto e = entries_.rbegin(); e != entries_.rend(); ++e)
        if (alike(e->guitar, guitar) && alike(e->pickup, pickup) && e->interface == interface && e->input == input)
            return &*e;
    return nullptr;
}

std::optional<double> GainBook::moved(const GainEntry& before, const GainEntry& now)
{
    if (before.gain != now.gain || now.gain.empty() || !before.averageDbfs || !now.averageDbfs) return std::nullopt;
    const double by = *now.averageDbfs - *before.averageDbfs;
    return std::abs(by) > kMovedDb ? std::optional(by) : std::nullopt;
}

std::string gainSentence(const GainEntry& e)
{
    std::string out = e.gain.empty() ? "gain not noted" : "gain at " + e.gain;
    if (e.averageDbfs) out += fmt::format(", last time {:.1f} dBFS", *e.averageDbfs);
    if (e.when.size() >= 10) out += " (" + e.when.substr(0, 10) + ")";
    return out;
}

} // namespace gristle::core
