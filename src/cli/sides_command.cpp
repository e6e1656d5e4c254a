#include "cli/part_choice.h"
#include "cli/report.h"
#include "core/actions/compare_sides.h"
#include "core/advice/sides_words.h"
#include "core/mix/render/session_mix.h"
#include "core/units/text.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string session, song, part;
    double fromBar = 2.0, toBar = 6.0;
};

Json sideJson(const SideSound& s)
{
    return {{"attack_db", s.definitionDb},
            {"low_db", s.weightDb},
            {"ringing_low_db", s.looseLowDb},
            {"crest_db", s.crestDb}};
}

Json sumJson(const Complement& c)
{
    Json out = sideJson(c.sum);
    out["attack_kept_db"] = c.attackKeptDb;
    return out;
}

Result<Answer> sides(const Options& o, const Surroundings& s)
{
    const auto session = SessionFolder::open(o.session, Access::Read);
    if (!session) return session.error();
    const auto chosen = choosePart(session->document(), o.song, o.part);
    if (!chosen) return chosen.error();
    if (o.toBar <= o.fromBar) return Error{ErrorCode::Usage, "sides: --to is not behind --from", "name later bars"};
    const Part& part = *chosen->part;
    const auto pair = sidesOf(part, 0);
    if (!pair)
        return Error{ErrorCode::FileMissing, "part \"" + o.part + "\" has no two layers with a take", "bring them in"};
    const Layer &first = part.layers[pair->first], &second = part.layers[pair->second];
    std::vector<std::string> warnings;
    std::array<LayerRecipe, 2> recipes;
    const BarGrid grid = chosen->song->grid();
    for (const Layer* layer : {&first, &second}) {
        auto recipe = layerRecipe(*session, *layer, true, warnings);
        if (!recipe) return recipe.error();
        recipe->effort = Effort::Playing; // as it is heard, and as the window tells it
        recipe->startS = grid.secondsOfBar(o.fromBar), recipe->endS = grid.secondsOfBar(o.toBar);
        recipes[layer == &second] = std::move(*recipe);
    }
    RenderCache cache;
    const ComparedSides found = compareSides(recipes[0], recipes[1], cache, s.progress());
    if (s.stop.stop_requested()) return Error{ErrorCode::Cancelled, "sides: stopped", ""};
    if (!found.now) return Error{ErrorCode::Unsupported, "sides: " + found.trouble, "name other bars"};
    const std::string words = sidesWords(*found.now, first.name, second.name);
    Answer a;
    a.json = {{"first", first.name},
              {"second", second.name},
              {"from_bar", o.fromBar},
              {"to_bar", o.toBar},
              {"of_first", sideJson(found.now->first)},
              {"of_second", sideJson(found.now->second)},
              {"sum", sumJson(*found.now)},
              {"sum_exchanged", found.exchanged ? sumJson(*found.exchanged) : Json(nullptr)},
              {"colour_apart_db", found.now->spectrumApartDb},
              {"words", words}};
    a.text = fmt::format("{}: {}\n", o.part, words);
    if (found.exchanged && isBetterExchanged(*found.now, *found.exchanged))
        a.text += fmt::format("With the rigs exchanged the sum keeps {:.1f} dB more of the attack.\n",
                              found.exchanged->attackKeptDb - found.now->attackKeptDb);
    return a;
}

} // namespace

void addSides(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    auto* command = app.add_subcommand("sides", "What the two sides of a part are to each other, through their rigs");
    command->add_option("SESSION", o->session, "Its folder")->required();
    command->add_option("--part", o->part, "Its part")->required();
    command->add_option("--song", o->song, "Where several songs have a part of that name");
    command->add_option("--from", o->fromBar, "The bar from which it is told, from 1")->check(CLI::Range(1.0, 1e6));
    command->add_option("--to", o->toBar, "The bar up to which; not in it")->check(CLI::Range(1.0, 1e6));
    command->callback([o, &job] { job = [o](const Surroundings& s) { return sides(*o, s); }; });
}

} // namespace gristle::cli
