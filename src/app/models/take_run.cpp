#include "app/models/take_run.h"

#include "app/models/audition.h"
#include "app/models/capture.h"
#include "app/models/session_model.h"
#include "core/mix/render/session_mix.h"
#include "core/mix/render/sound_key.h"
#include "core/session/layer_role.h"
#include "core/units/content_key.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kMostLayersS = 600.0; // that are rendered ahead, some 230 MB
constexpr double kJoinFadeS = 0.02;

QString text(const std::string& s) { return QString::fromStdString(s); }

Result<Recording> renderLayers(const LayersWish& wish, RenderCache& cache, const Progress& progress)
{
    Recording out{wish.options.rateHz,
                  AudioBuffer(2, std::size_t(std::ceil((wish.toS - wish.fromS) * wish.options.rateHz)))};
    const auto add = [&](const std::vector<MixLayer>& layers, auto gainAt) -> Outcome {
        if (layers.empty()) return Done{};
        const auto mixed = mixToMemory(layers, wish.options, wish.fromS, wish.toS, progress, &cache);
        if (!mixed) return mixed.error();
        for (std::size_t c = 0; c < 2; ++c) {
            const auto from = mixed->audio.channel(c);
            const auto to = out.audio.channel(c);
            for (std::size_t i = 0; i < std::min(from.size(), to.size()); ++i)
                to[i] += from[i] * float(gainAt(wish.fromS + double(i) / wish.options.rateHz));
        }
        return Done{};
    };
    if (const auto added = add(wish.others, [](double) { return 1.0; }); !added) return added.error();
    const auto outside = [&](double s) {
        const double away = std::max(wish.holeFromS - s, s - wish.holeToS);
        return std::clamp(away / kJoinFadeS, 0.0, 1.0);
    };
    if (const auto added = add(wish.own, outside); !added) return added.error();
    return out;
}

std::string keyOf(const LayersWish& wish)
{
    ContentKey key;
    for (const auto* layers : {&wish.others, &wish.own}) key.add(soundKey(*layers, wish.options));
    for (const double s : {wish.fromS, wish.toS, wish.holeFromS, wish.holeToS}) key.add(s);
    return key.text();
}

} // namespace

TakeRun::TakeRun(SessionModel& session, Audition& audition, Capture& capture)
    : session_(session), audition_(audition), capture_(capture)
{
    connect(&session_, &SessionModel::closing, this, [this] { layers_ = {}; });
}

TakeRun::~TakeRun() { layersTask_.cancel(); }

void TakeRun::tell(const Error& error) { emit failed(text(error.message), text(error.remedy)); }

void TakeRun::setWish(const RunWish& wish)
{
    wish_ = wish;
    if (auto* chain = audition_.chain()) {
        chain->transport().setBackingGain(float(dbToAmplitude(wish_.layersDb)));
        chain->transport().setClickPeak(float(dbToAmplitude(wish_.clickDb)));
    }
    emit changed();
}

/// The layers that are heard: the part's with the song's backing, or all of the song, with a take, but for those that
/// are recorded just now; a punch hears its own layer before and after.
std::vector<TakeRun::Heard> TakeRun::heard() const
{
    std::vector<Heard> out;
    if (wish_.layers == HeardLayers::None || !session_.isOpen() || !session_.part()) return out;
    const Song& song = *session_.song();
    for (std::size_t p = 0; p < song.parts.size(); ++p) {
        const bool isHere = p == session_.path().part;
        for (const Layer& layer : song.parts[p].layers) {
            if (!isInMix(layer.role)) continue;
            if (!isHere && wish_.layers == HeardLayers::Part && !isOfTheBand(layer.role)) continue;
            const bool isOwn = isHere && &layer == session_.layer();
            const bool isAlso =
                isHere && std::ranges::find(capture_.also(), layer.name, &AlsoRecord::layer) != capture_.also().end();
            if (layer.chosenTake() && !isAlso && (!isOwn || wish_.shape.kind == engine::RunKind::Punch))
                out.push_back({&layer, isOwn});
        }
    }
    return out;
}

/// What is to be rendered of them. @error as layerRecipe()
Result<LayersWish> TakeRun::layersWish() const
{
    LayersWish wish;
    wish.options = {session_.document().law, false, int(capture_.rateHz())};
    const engine::RunPlan plan = engine::planRun(session_.grid(), wish_.shape, capture_.rateHz());
    double longest = 0.0;
    std::vector<std::string> warnings;
    for (const auto& [layer, isOwn] : heard()) {
        auto recipe = layerRecipe(session_.folder(), *layer, true, warnings);
        if (!recipe) return recipe.error();
        recipe->effort = Effort::Playing;
        longest = std::max(longest, layer->chosenTake()->endS());
        (isOwn ? wish.own : wish.others).push_back({std::move(*recipe), layer->place, layer->gainDb});
    }
    const double rate = plan.rateHz;
    wish.fromS = std::max(0.0, double(plan.startFrame) / rate);
    const bool isOpen = plan.toFrame <= plan.fromFrame;
    wish.toS = isOpen ? longest : double(plan.toFrame + plan.marginFrames) / rate;
    wish.holeFromS = double(plan.fromFrame) / rate, wish.holeToS = double(plan.toFrame) / rate;
    return wish;
}

void TakeRun::prepareLayers()
{
    if (!session_.isOpen()) {
        layersTask_.cancel();
        layers_ = {};
        return emit changed();
    }
    auto told = layersWish();
    if (!told) return tell(told.error());
    LayersWish wish = std::move(*told);
    const bool isCut = wish.toS - wish.fromS > kMostLayersS;
    if (isCut) wish.toS = wish.fromS + kMostLayersS;
    const std::string key = keyOf(wish);
    if (layers_.of == key) return;
    layersTask_.cancel();
    layers_ = {key, nullptr, 0};
    const bool isNone = wish.others.empty() && wish.own.empty();
    if (isCut && !isNone)
        emit failed(tr("The other layers are heard for 10 minutes"), tr("record longer songs in stretches of bars"));
    if (wish.toS <= wish.fromS || isNone) return emit changed();
    using Answer = std::shared_ptr<Result<Recording>>;
    layersTask_.run<Answer>(
        tr("Preparing the other layers"),
        [wish, cache = session_.renders()](const Progress& p) {
            return std::make_shared<Result<Recording>>(renderLayers(wish, *cache, p));
        },
        [this, key, wish](Answer answer) {
            if (!*answer)
                tell(answer->error());
            else if (layers_.of == key)
                layers_ = {key, std::make_shared<const Recording>(std::move(**answer)),
                           std::llround(wish.fromS * wish.options.rateHz)};
            if (std::exchange(waits_, false)) start();
            emit changed();
        });
    emit changed();
}

void TakeRun::begin(const std::optional<RunWish>& once)
{
    now_ = once.value_or(wish_);
    if (!once) prepareLayers();
    waits_ = !once && layersTask_.isBusy();
    if (!waits_) start();
    emit changed();
}

void TakeRun::start()
{
    if (isRunning() || !session_.isOpen() || !audition_.chain()) return;
    const std::string song = session_.song() ? session_.song()->name : "Song 1",
                      part = session_.part() ? session_.part()->name : "Part 1",
                      layer = session_.layer() ? session_.layer()->name : "Layer 1";
    const std::vector<std::size_t> inputs = capture_.recordedInputs();
    const auto channelOf = [&](std::size_t input) {
        return inputs.size() > 1 ? int(std::ranges::find(inputs, input) - inputs.begin()) + 1 : 0;
    };
    note_ = {};
    note_.targets = {{song, part, layer, channelOf(capture_.input())}};
    for (const AlsoRecord& also : capture_.also())
        if (also.layer != layer && also.input < capture_.inputs())
            note_.targets.push_back({song, part, also.layer, channelOf(also.input)});
    note_.recorded = localNow();
    QStringList names;
    for (const std::size_t input : inputs) names << QString::number(input + 1);
    note_.source = tr("%1, %2 %3")
                       .arg(text(audition_.device()->name()), inputs.size() > 1 ? tr("inputs") : tr("input"),
                            names.join(QStringLiteral(", ")) +
                                (capture_.hear() == Hear::Direct ? tr(", heard over its direct monitor") : QString()))
                       .toStdString();
    note_.input = session_.document().interface;
    if (session_.part()) note_.playing = session_.part()->playing;
    plan_ = engine::planRun(session_.grid(), now_.shape, capture_.rateHz());
    latency_ = capture_.roundTripFrames() + std::int64_t(audition_.latency());
    note_.atS = plan_.atS(0, latency_);
    const auto file = beginRecording(session_.folder().path(), note_);
    if (!file) return tell(file.error());
    engine::RecordPlan record;
    record.file = *file;
    record.format = {int(capture_.rateHz()), inputs.size(), SampleFormat::Int24, part + ", " + layer, note_.recorded};
    record.inputs = inputs;
    if (const auto started = audition_.recorder().start(record); !started) {
        forgetNote(*file);
        return tell(started.error());
    }
    recording_ = *file;
    kept_ = recordedAt_ = 0;
    isNoted_ = false;
    audition_.setPlaying(false);
    engine::TransportPlan run = plan_.transport();
    if (now_.layers != HeardLayers::None) run.backing = layers_.audio, run.backingFrom = layers_.fromFrame;
    run.backingGain = float(dbToAmplitude(now_.layersDb));
    run.clickPeak = float(dbToAmplitude(now_.clickDb));
    if (auto* room = capture_.player().room()) run.follower = room->follower();
    run.followerLate = latency_;
    audition_.chain()->transport().start(std::move(run));
}

void TakeRun::stop()
{
    waits_ = false;
    auto* chain = audition_.chain();
    if (chain) chain->transport().stop();
    if (!isRunning()) return emit changed();
    const engine::RecordReport report = audition_.recorder().finish();
    std::vector<std::int64_t> gaps;
    for (const engine::Gap& gap : report.gaps) gaps.push_back(gap.frame);
    const QString kept = tr("%1 s were kept").arg(double(report.frames) / plan_.rateHz, 0, 'f', 1);
    if (report.failure) emit failed(text(report.failure->message) + ": " + kept, text(report.failure->remedy));
    if (chain && chain->transport().recordedAt() >= 0) recordedAt_ = chain->transport().recordedAt();
    const auto cut = plan_.cut(kept_, recordedAt_, report.frames, latency_);
    const auto file = std::exchange(recording_, {});
    if (cut && cut->first == 0 && cut->frames == report.frames && !(cut->spanToS > cut->spanFromS))
        session_.keeper().keep(file, std::move(gaps));
    else
        session_.keeper().keepStretches(file, std::move(gaps), cut ? std::vector{*cut} : std::vector<TakeCut>{}, true);
    emit changed();
}

void TakeRun::poll()
{
    auto* chain = audition_.chain();
    if (!isRunning() || !chain) return;
    if (!audition_.recorder().isRecording()) return stop(); // the disk ran full, or the recorder ended by itself
    const std::int64_t at = chain->transport().recordedAt();
    if (at < 0) return;
    recordedAt_ = at;
    if (!isNoted_) {
        isNoted_ = true;
        note_.atS = plan_.atS(at, latency_);
        if (const auto noted = renote(recording_, note_); !noted) tell(noted.error());
    }
    const std::int64_t elapsed = chain->transport().elapsed();
    if (plan_.shape.kind == engine::RunKind::Loop && elapsed >= plan_.passOverAfter(kept_, latency_)) {
        if (const auto cut = plan_.cut(kept_, at, audition_.recorder().frames(), latency_))
            session_.keeper().keepStretches(recording_, {}, {*cut}, false);
        ++kept_;
        emit changed();
    }
    if (const auto over = plan_.overAfter(latency_); over && elapsed >= *over) stop();
}

double TakeRun::countInLeftS() const
{
    auto* chain = audition_.chain();
    if (!isRunning() || !chain) return 0.0;
    return double(plan_.fromFrame - plan_.startFrame - chain->transport().elapsed()) / plan_.rateHz;
}

double TakeRun::recordedS() const
{
    return std::max(0.0, double(audition_.recorder().frames()) / plan_.rateHz -
                             double(plan_.fromFrame - plan_.startFrame) / plan_.rateHz);
}

std::optional<double> TakeRun::barNow() const
{
    auto* chain = audition_.chain();
    if (!isRunning() || !chain) return std::nullopt;
    return session_.grid().barAt(double(chain->transport().position()) / plan_.rateHz);
}

std::int64_t TakeRun::pass() const { return kept_; }

} // namespace gristle::app
