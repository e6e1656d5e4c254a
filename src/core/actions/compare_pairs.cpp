#include "core/actions/compare_pairs.h"

#include "core/actions/take_key.h"
#include "core/advice/take_judgement.h"
#include "core/mix/render/dry_samples.h"
#include "core/mix/render/session_mix.h"
#include "core/session/layer_role.h"

#include <algorithm>

namespace gristle::core {

std::string PartTakes::key() const
{
    std::string out;
    for (const One& one : takes) out += one.key;
    return out;
}

PartTakes takesOf(const SessionFolder& session, const Song& song, const Part& part)
{
    PartTakes out;
    out.grid = song.grid();
    std::vector<Take> seen;
    for (std::size_t l = 0; l < part.layers.size(); ++l) {
        if (!isPlayed(part.layers[l])) continue;
        for (std::size_t t = 0; t < part.layers[l].takes.size(); ++t) {
            const Take& take = part.layers[l].takes[t];
            const auto isSame = [&](const Take& s) { return s.file == take.file && s.channel == take.channel; };
            if (take.isPunch() || std::ranges::any_of(seen, isSame)) continue;
            seen.push_back(take);
            LayerRecipe dry = layerRecipe(session, take, RigDocument{});
            dry.tailS = 0.0;
            out.takes.push_back({l, t, take.file, takeKey(song, dry, &take), std::move(dry)});
        }
    }
    out.isCut = out.takes.size() > PartTakes::kMost;
    if (out.isCut) out.takes.erase(out.takes.begin(), out.takes.end() - long(PartTakes::kMost));
    return out;
}

PairMemory comparePairs(const PartTakes& part, PairMemory memory, const Progress& progress)
{
    const auto& takes = part.takes;
    std::vector<std::vector<float>> samples(takes.size());
    const auto load = [&](std::size_t i) {
        if (!samples[i].empty()) return;
        if (auto dry = drySamples(takes[i].dry, progress)) samples[i] = std::move(*dry);
    };
    const double all = std::max(1.0, 0.5 * double(takes.size()) * (double(takes.size()) - 1.0));
    std::size_t done = 0;
    for (std::size_t i = 0; i < takes.size() && !progress.stopped(); ++i) {
        if (!memory.own.contains(takes[i].key)) {
            load(i);
            const auto measure = measureTake(samples[i], takes[i].dry.rateHz, part.grid, {}, {progress.stop, nullptr});
            if (progress.stopped()) break;
            memory.own[takes[i].key] = measure ? judgeTake(*measure, part.grid, {}).cost : kNoWidthCost;
        }
        for (std::size_t j = i + 1; j < takes.size() && !progress.stopped(); ++j) {
            progress.at(double(done++) / all);
            const std::string pair = takes[i].key + takes[j].key;
            if (memory.pairs.contains(pair)) continue;
            load(i), load(j);
            auto take = comparePerformances(samples[i], samples[j], takes[i].dry.rateHz, {progress.stop, nullptr});
            if (progress.stopped()) break;
            memory.pairs[pair] = std::make_shared<const PairMemory::Compared>(
                take ? PairMemory::Compared{std::move(*take), {}}
                     : PairMemory::Compared{std::nullopt, take.error().line()});
        }
    }
    return memory;
}

PairsOfPart choosePairs(const PartTakes& part, const PairMemory& memory, const DoubleLimits& limits)
{
    constexpr double kUnknownCost = 200.0;
    PairsOfPart out;
    const std::size_t n = part.takes.size();
    PairCosts costs(n, std::vector<double>(n, 0.0));
    std::vector<double> own;
    for (std::size_t i = 0; i < n; ++i) {
        const auto cost = memory.own.find(part.takes[i].key);
        out.isWhole &= cost != memory.own.end();
        own.push_back(cost != memory.own.end() ? cost->second : 0.0);
        for (std::size_t j = i + 1; j < n; ++j) {
            const auto at = memory.pairs.find(part.takes[i].key + part.takes[j].key);
            out.isWhole &= at != memory.pairs.end();
            const bool isTold = at != memory.pairs.end() && at->second->take;
            costs[i][j] = costs[j][i] = isTold ? pairCost(*at->second->take, limits) : kUnknownCost;
            if (isTold) out.rows.push_back({i, j, at->second, costs[i][j]});
        }
    }
    for (PairsOfPart::Row& row : out.rows) row.cost += own[row.first] + own[row.second]; // as the choice of two reckons
    std::ranges::sort(out.rows, {}, &PairsOfPart::Row::cost);
    if (out.isWhole) out.two = bestSides(costs, own, 2), out.four = bestSides(costs, own, 4);
    return out;
}

} // namespace gristle::core
