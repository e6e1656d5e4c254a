#include "app/models/live_hearing.h"

#include "app/models/audition.h"
#include "app/models/session_model.h"
#include "core/mix/render/session_mix.h"
#include "core/stereo/pan_law.h"
#include "core/units/decibels.h"

#include <algorithm>

namespace gristle::app {

using namespace core;

namespace {

QString text(const std::string& s) { return QString::fromStdString(s); }

} // namespace

LiveHearing::LiveHearing(SessionModel& session, Audition& audition) : session_(session), audition_(audition)
{
    compile_.setUrgent();
    connect(&session_, &SessionModel::closing, this, &LiveHearing::forget);
}

LiveHearing::~LiveHearing() { compile_.cancel(); }

/// What is heard of the input: dry in the middle, or through the rig of each layer that the performance is for, at its
/// place.
void LiveHearing::apply(const Wish& wish)
{
    wish_ = wish;
    auto* chain = audition_.chain();
    if (!chain) return forget();
    chain->setGain(float(dbToAmplitude(wish.levelDb)));
    chain->setListening(wish.hear == Hear::Dry || wish.hear == Hear::Rig);
    if (wish.hear == Hear::Nothing || wish.hear == Hear::Direct) return;
    std::vector<std::pair<const Layer*, std::size_t>> layers;
    if (wish.hear == Hear::Rig && session_.isOpen() && session_.layer()) {
        layers.emplace_back(session_.layer(), wish.input);
        for (const Layer& l : session_.part()->layers)
            if (const auto at = std::ranges::find(wish.also, l.name, &AlsoRecord::layer);
                &l != session_.layer() && at != wish.also.end())
                layers.emplace_back(&l, at->input);
    }
    // Every edit of the session comes by here; another rig is swapped in while it plays, anything else that changes the
    // sound builds the program anew.
    std::string key =
        std::to_string(wish.input) + " " + std::to_string(audition_.rateHz()) + " " + std::to_string(int(wish.hear));
    for (const auto& [l, input] : layers)
        key += "\n" + l->name + " " + std::to_string(input) + " " + std::to_string(l->place) + " " +
               panLawText(session_.document().law) + " " + std::to_string(session_.document().interface.dbuAtFullScale);
    const bool isThere = !heard_.empty() || layers.empty() || compile_.isBusy();
    if (key == key_ && isThere) return changeRigs(layers);
    key_ = key;
    heard_.clear();
    if (!layers.empty()) return build(layers);
    compile_.cancel();
    engine::LiveVoice dry;
    dry.input = wish.input;
    chain->setProgram({dry});
}

/// Makes the program anew; what was heard goes on until it is there.
void LiveHearing::build(const std::vector<std::pair<const Layer*, std::size_t>>& layers)
{
    struct Planned {
        LiveRig rig;
        std::size_t input;
        double place;
    };
    std::vector<Planned> planned;
    for (const auto& [layer, input] : layers) {
        auto rig = liveRig(*layer);
        if (!rig) return emit failed(text(rig.error().message), text(rig.error().remedy));
        planned.push_back({std::move(*rig), input, layer->place});
    }
    using Compiled = std::vector<Result<std::shared_ptr<CompiledRig>>>;
    compile_.run<std::shared_ptr<Compiled>>(
        tr("Preparing the rig"),
        [planned](const Progress&) {
            auto out = std::make_shared<Compiled>();
            for (const Planned& p : planned) out->push_back(p.rig.compiled());
            return out;
        },
        [this, planned, key = key_](std::shared_ptr<Compiled> answer) {
            auto* chain = audition_.chain();
            if (key != key_ || !chain) return; // something else is to be heard by now
            engine::LiveProgram program;
            for (std::size_t i = 0; i < planned.size(); ++i) {
                auto& rig = (*answer)[i];
                if (!rig) return emit failed(text(rig.error().message), text(rig.error().remedy));
                program.push_back(voiceOf(std::move(*rig), planned[i].input, planned[i].place));
                heard_.push_back({planned[i].rig.document, program.back().rig});
            }
            chain->setProgram(std::move(program));
            apply(wish_); // a rig may have changed meanwhile
        });
}

/// Compiles, in a worker, the rigs of the program that are not the ones being heard, and swaps them in while it plays.
void LiveHearing::changeRigs(const std::vector<std::pair<const Layer*, std::size_t>>& layers)
{
    std::vector<std::pair<std::size_t, LiveRig>> changed;
    std::vector<RigDocument> wanted;
    for (std::size_t i = 0; i < std::min(layers.size(), heard_.size()); ++i) {
        auto rig = liveRig(*layers[i].first);
        if (!rig) return emit failed(text(rig.error().message), text(rig.error().remedy));
        wanted.push_back(rig->document);
        if (rig->document == heard_[i].document) continue;
        changed.emplace_back(i, std::move(*rig));
    }
    if (changed.empty() || (compile_.isBusy() && wanted == asked_)) return;
    asked_ = wanted;
    using Compiled = std::vector<std::pair<std::size_t, Result<std::shared_ptr<CompiledRig>>>>;
    compile_.run<std::shared_ptr<Compiled>>(
        tr("Preparing the rig"),
        [changed = std::move(changed)](const Progress&) {
            auto out = std::make_shared<Compiled>();
            for (const auto& [i, rig] : changed) out->emplace_back(i, rig.compiled());
            return out;
        },
        [this, wanted, key = key_](std::shared_ptr<Compiled> answer) {
            if (key != key_) return; // another program plays by now
            for (auto& [i, rig] : *answer) {
                if (!rig) return emit failed(text(rig.error().message), text(rig.error().remedy));
                if ((*rig)->outputChannels() != heard_[i].rig->outputChannels()) {
                    key_.clear(); // mono has become stereo, or the other way: it is placed in another way
                    return apply(wish_);
                }
                heard_[i].rig->set(std::move(*rig));
                heard_[i].document = wanted[i];
            }
        });
}

Result<std::shared_ptr<CompiledRig>> LiveHearing::LiveRig::compiled() const
{
    auto made = CompiledRig::compile(document, options);
    if (!made) return made.error();
    return std::make_shared<CompiledRig>(std::move(*made));
}

Result<LiveHearing::LiveRig> LiveHearing::liveRig(const Layer& layer) const
{
    LiveRig out;
    std::vector<std::string> warnings;
    if (!layer.rig.empty()) {
        auto loaded = session_.folder().loadRig(layer.rig, Unknown::Bypass, warnings);
        if (!loaded) return loaded.error();
        out.document = std::move(*loaded);
    }
    out.options.context = layerRecipe(session_.folder(), Take{}, out.document).context;
    out.options.context.rateHz = audition_.rateHz();
    out.options.context.fullScaleV = session_.document().interface.fullScaleVolts();
    out.options.maxBlock = engine::LiveChain::kMostFrames;
    out.options.live = true;
    out.options.allowMissing = true;
    return out;
}

engine::LiveVoice LiveHearing::voiceOf(std::shared_ptr<CompiledRig> rig, std::size_t input, double place) const
{
    const SessionDocument& d = session_.document();
    engine::LiveVoice voice;
    voice.input = input;
    voice.rig = std::make_shared<engine::RigSwap>(std::move(rig), audition_.rateHz(), engine::LiveChain::kMostFrames);
    voice.fullScaleV = d.interface.fullScaleVolts();
    voice.outputScale = 1.0 / voice.fullScaleV;
    const bool stereo = voice.rig->outputChannels() == 2;
    const PanGains gains = stereo ? panStereo(place, d.law) : panMono(place, d.law);
    voice.left = float(gains.left);
    voice.right = float(gains.right);
    return voice;
}

} // namespace gristle::app
