#include "core/actions/judge_takes.h"

#include "core/actions/take_key.h"
#include "core/audio/audio_reader.h"
#include "core/mix/render/dry_samples.h"
#include "core/mix/render/session_mix.h"
#include "core/session/layer_role.h"
#include "core/timing/strings.h"

#include <fmt/format.h>
#include <utility>

namespace gristle::core {

namespace {

/// A take by itself, its file's own samples.
Result<TakeMeasure> measured(const TakesToJudge::One& one, const TakesToJudge& wanted, const Progress& p)
{
    const auto file = wanted.folder / one.take.file;
    const auto channel = chooseChannel(file, one.take.channel);
    if (!channel) return channel.error();
    const auto recording = readRecording(file);
    if (!recording) return recording.error();
    TakeMeasureOptions options = wanted.tuning;
    options.capo = one.take.playing.capo;
    options.atS = one.take.atS;
    options.spanFromS = one.take.spanFromS, options.spanToS = one.take.spanToS;
    return measureTake(std::as_const(recording->audio).channel(*channel), recording->sampleRateHz, wanted.grid, options,
                       {p.stop, nullptr});
}

/// The earlier layer's samples, rendered where they are first needed.
class Earlier {
public:
    Earlier(const TakesToJudge& wanted, const Progress& progress) : wanted_(wanted), progress_(progress) {}
    const std::vector<float>& samples()
    {
        if (samples_.empty())
            if (auto dry = drySamples(*wanted_.earlier, progress_)) samples_ = std::move(*dry);
        return samples_;
    }

private:
    const TakesToJudge& wanted_;
    const Progress& progress_;
    std::vector<float> samples_;
};

std::string pairKey(const TakesToJudge& wanted, const TakesToJudge::One& one) { return wanted.earlierKey + one.key; }

/// Measures, and comparisons with the earlier layer, that the memory lacks. @return why a take could not be measured
std::vector<std::string> measureNew(const TakesToJudge& wanted, TakeMemory& memory, const Progress& p)
{
    std::vector<std::string> troubles(wanted.takes.size());
    Earlier earlier(wanted, p);
    for (std::size_t i = 0; i < wanted.takes.size() && !p.stopped(); ++i) {
        p.at(double(i) / double(wanted.takes.size()));
        const auto& one = wanted.takes[i];
        if (!memory.measures.contains(one.key)) {
            auto made = measured(one, wanted, p);
            if (p.stopped()) break; // what was stopped is no verdict
            if (!made) troubles[i] = made.error().line();
            memory.measures[one.key] = made ? std::make_shared<const TakeMeasure>(std::move(*made)) : nullptr;
        }
        if (!wanted.earlier || !memory.measures[one.key] || memory.pairs.contains(pairKey(wanted, one))) continue;
        const auto second = drySamples(one.dry, p);
        const int rate = one.dry.rateHz > 0 ? one.dry.rateHz : one.take.sampleRateHz;
        if (earlier.samples().empty() || !second) continue;
        auto pair = comparePerformances(earlier.samples(), *second, rate, {p.stop, nullptr});
        if (p.stopped()) break;
        memory.pairs[pairKey(wanted, one)] = pair ? std::make_shared<const DoubleTake>(std::move(*pair)) : nullptr;
    }
    if (const std::string key = "measure " + wanted.earlierKey;
        wanted.earlier && !p.stopped() && !memory.measures.contains(key)) {
        auto made = measureTake(earlier.samples(), wanted.earlier->rateHz, wanted.grid, {}, {p.stop, nullptr});
        if (p.stopped()) return troubles;
        memory.measures[key] = made ? std::make_shared<const TakeMeasure>(std::move(*made)) : nullptr;
    }
    return troubles;
}

} // namespace

std::string TakesToJudge::key() const
{
    std::string out = earlierKey;
    for (const One& one : takes) out += one.key;
    return out;
}

TakesToJudge takesToJudge(const SessionFolder& session, const Song& song, const Part& part, std::size_t layer)
{
    TakesToJudge out;
    out.folder = session.path();
    out.grid = song.grid();
    out.tuning.referenceHz = song.referenceHz;
    out.tuning.openHz = openStrings(song.tuning, song.referenceHz);
    for (const Take& t : part.layers[layer].takes) {
        LayerRecipe dry = layerRecipe(session, t, RigDocument{});
        dry.tailS = 0.0;
        out.takes.push_back({t, takeKey(song, dry, &t), std::move(dry)});
    }
    for (std::size_t i = 0; i < layer; ++i) {
        const Layer& earlier = part.layers[i];
        if (!earlier.chosenTake() || !isPlayed(earlier)) continue;
        out.earlier = layerRecipe(session, earlier, RigDocument{});
        out.earlier->tailS = 0.0;
        out.earlierName = earlier.name;
        out.earlierKey = takeKey(song, *out.earlier);
        break;
    }
    return out;
}

JudgedTakes judgeTakes(const TakesToJudge& wanted, TakeMemory memory, const Progress& progress)
{
    JudgedTakes out;
    const auto troubles = measureNew(wanted, memory, progress);
    out.memory = std::move(memory);
    if (progress.stopped()) return out;
    const auto measureOf = [&](const std::string& key) {
        const auto at = out.memory.measures.find(key);
        return at == out.memory.measures.end() ? nullptr : at->second;
    };
    const auto first = wanted.earlier ? measureOf("measure " + wanted.earlierKey) : nullptr;
    std::vector<const TakeMeasure*> performances;
    std::vector<std::size_t> placeOf(wanted.takes.size());
    for (std::size_t i = 0; i < wanted.takes.size(); ++i)
        if (const auto m = measureOf(wanted.takes[i].key))
            placeOf[i] = performances.size(), performances.push_back(m.get());
    std::vector<TakeJudgement> known;
    std::vector<std::size_t> which;
    for (std::size_t i = 0; i < wanted.takes.size(); ++i) {
        JudgedTake judged{measureOf(wanted.takes[i].key), {}, troubles[i]};
        if (judged.measure) {
            JudgeOptions options;
            options.subject = fmt::format("Take {}", i + 1);
            const auto pair = out.memory.pairs.find(pairKey(wanted, wanted.takes[i]));
            if (wanted.earlier && pair != out.memory.pairs.end()) options.earlier = pair->second.get();
            // The earlier layer counts as another performance where it is one of the same notes.
            auto all = performances;
            if (first && options.earlier && !options.earlier->isUnrelated) all.push_back(first.get());
            if (all.size() > 1) options.missed = missedNotes(all, placeOf[i]);
            judged.judgement = judgeTake(*judged.measure, wanted.grid, options);
            known.push_back(judged.judgement), which.push_back(i);
        }
        out.each.push_back(std::move(judged));
    }
    out.best = bestTake(known);
    if (out.best) {
        out.best->index = which[out.best->index];
        if (out.best->next) out.best->next = which[*out.best->next];
    }
    return out;
}

} // namespace gristle::core
