#include "cli/part_choice.h"
#include "cli/report.h"
#include "core/actions/compare_pairs.h"
#include "core/actions/judge_takes.h"
#include "core/session/layer_role.h"
#include "core/units/text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string session, song, part, layer;
};

Json barJson(const BarVerdict& b)
{
    const auto& mean = b.earlierMs ? b.earlierMs : b.clickMs;
    const auto figure = [](const std::optional<double>& x) { return x ? Json(*x) : Json(nullptr); };
    return {{"bar", b.bar},
            {"cost", b.cost},
            {"mean_ms", figure(mean)},
            {"spread_ms", b.spreadMs},
            {"cents", figure(b.cents)},
            {"missing", b.missed},
            {"added", b.added},
            {"clipped", b.clipped},
            {"says", b.word}};
}

Result<Answer> judge(const Options& o, const Surroundings& s)
{
    const auto session = SessionFolder::open(o.session, Access::Read);
    if (!session) return session.error();
    const auto chosen = choosePart(session->document(), o.song, o.part, o.layer);
    if (!chosen) return chosen.error();
    const Layer& layer = chosen->part->layers[chosen->layer];
    if (layer.takes.empty())
        return Error{ErrorCode::FileMissing, "layer \"" + layer.name + "\" has no take yet", "bring one in"};
    if (!isPlayed(layer))
        return Error{ErrorCode::Usage,
                     fmt::format("layer \"{}\" is {}, which is not judged as a take", layer.name, wordsOf(layer.role)),
                     "name a layer of the guitar"};
    const TakesToJudge wanted = takesToJudge(*session, *chosen->song, *chosen->part, chosen->layer);
    const JudgedTakes judged = judgeTakes(wanted, {}, s.progress());
    if (s.stop.stop_requested()) return Error{ErrorCode::Cancelled, "take: stopped", ""};
    Answer a;
    Json takes = Json::array();
    std::vector<Finding> findings;
    for (std::size_t i = 0; i < judged.each.size(); ++i) {
        const JudgedTake& t = judged.each[i];
        const TakeJudgement& j = t.judgement;
        Json row = {{"file", layer.takes[i].file}};
        if (!t.measure) {
            row["error"] = t.trouble;
            a.text += fmt::format("take {}: {}\n", i + 1, t.trouble);
            takes.push_back(std::move(row));
            continue;
        }
        row["cost"] = j.cost;
        row["spread_ms"] = j.timingSdMs ? Json(*j.timingSdMs) : Json(nullptr);
        row["cents"] = j.cents ? Json(*j.cents) : Json(nullptr);
        row["bar"] = Json::array();
        for (const BarVerdict& b : j.bars) row["bar"].push_back(barJson(b));
        takes.push_back(std::move(row));
        a.text += fmt::format("take {}: {}\n", i + 1, j.sentence);
        findings.insert(findings.end(), j.findings.begin(), j.findings.end());
    }
    rank(findings);
    const auto& best = judged.best;
    if (best && judged.each.size() > 1) a.text += fmt::format("best: take {}, {}\n", best->index + 1, best->reason);
    a.json = {{"layer", layer.name},
              {"against", wanted.earlier ? Json(wanted.earlierName) : Json("click")},
              {"take", takes},
              {"best", best ? Json(best->index + 1) : Json(nullptr)}, // takes count from 1, as in the window
              {"sure", best ? Json(best->sure) : Json(nullptr)},
              {"findings", toJson(findings)}};
    a.text += findingLines(findings);
    return a;
}

Json choiceJson(const PartTakes& part, const std::optional<SideChoice>& choice)
{
    if (!choice || choice->cost >= kNoWidthCost) return nullptr;
    const auto files = [&](const std::vector<std::size_t>& takes) {
        Json out = Json::array();
        for (const std::size_t t : takes) out.push_back(part.takes[t].file);
        return out;
    };
    return {{"left", files(choice->left)}, {"right", files(choice->right)}, {"cost", choice->cost}};
}

Result<Answer> pairs(const Options& o, const Surroundings& s)
{
    const auto session = SessionFolder::open(o.session, Access::Read);
    if (!session) return session.error();
    const auto chosen = choosePart(session->document(), o.song, o.part, o.layer);
    if (!chosen) return chosen.error();
    const DoubleLimits limits = doubleStyle(session->document().doubleStyles, chosen->part->doubleStyle).limits;
    const PartTakes part = takesOf(*session, *chosen->song, *chosen->part);
    if (part.takes.size() < 2)
        return Error{ErrorCode::FileMissing, "part \"" + o.part + "\" has one take", "pairs need two whole takes"};
    const PairMemory memory = comparePairs(part, {}, s.progress());
    if (s.stop.stop_requested()) return Error{ErrorCode::Cancelled, "pairs: stopped", ""};
    const PairsOfPart found = choosePairs(part, memory, limits);
    Answer a;
    Json rows = Json::array();
    for (const PairsOfPart::Row& row : found.rows) {
        const DoubleTake& t = *row.compared->take;
        const auto figure = [&](const std::optional<double>& x) {
            return x && !t.isUnrelated ? Json(*x) : Json(nullptr);
        };
        const std::string &first = part.takes[row.first].file, &second = part.takes[row.second].file;
        rows.push_back({{"first", first},
                        {"second", second},
                        {"offset_sd_ms", figure(t.offsetSdMs)},
                        {"offset_median_ms", figure(t.offsetMedianMs)},
                        {"tuning_mean_cents", figure(t.tuningMeanCents)},
                        {"unmatched", t.unmatchedFirst + t.unmatchedSecond},
                        {"heard_as", pairWord(t, limits)},
                        {"cost", row.cost}});
        a.text += fmt::format("{} with {}: {}, cost {}\n", first, second, pairWord(t, limits), figureText(row.cost, 2));
    }
    a.json = {{"pair", rows},
              {"best_two", choiceJson(part, found.two)},
              {"best_four", choiceJson(part, found.four)},
              {"compared", part.takes.size()},
              {"all_compared", !part.isCut}};
    if (!found.two || found.two->cost >= kNoWidthCost)
        a.text += "No two of them make width: copies, or different parts.\n";
    return a;
}

} // namespace

void addTake(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    auto* take = app.add_subcommand("take", "What the takes of a layer are worth");
    take->require_subcommand(1);
    auto* judged = take->add_subcommand("judge", "Bar by bar, against the click or an earlier layer; the best of them");
    judged->add_option("SESSION", o->session, "Its folder")->required();
    judged->add_option("--part", o->part, "Its part")->required();
    judged->add_option("--layer", o->layer, "Of the part; else the first that has a take");
    judged->add_option("--song", o->song, "Where several songs have a part of that name");
    judged->callback([o, &job] { job = [o](const Surroundings& s) { return judge(*o, s); }; });
}

void addPairs(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    auto* command = app.add_subcommand("pairs", "Which two, or which four, takes of a part make the best sides");
    command->add_option("SESSION", o->session, "Its folder")->required();
    command->add_option("--part", o->part, "Its part")->required();
    command->add_option("--song", o->song, "Where several songs have a part of that name");
    command->callback([o, &job] { job = [o](const Surroundings& s) { return pairs(*o, s); }; });
}

} // namespace gristle::cli
