#include "app/models/measurements.h"

#include "app/models/session_model.h"
#include "core/advice/file_findings.h"
#include "core/advice/level_findings.h"
#include "core/measure/vu.h"
#include "core/session/layer_role.h"

#include <algorithm>

namespace gristle::app {

using namespace core;

namespace {

std::string keyOf(const Take& take)
{
    return take.channel > 0 ? take.file + " channel " + std::to_string(take.channel) : take.file;
}

} // namespace

Measurements::Measurements(SessionModel& session) : session_(session) {}

MeasureOptions Measurements::options() const
{
    MeasureOptions out;
    out.referenceDbfs = session_.document().referenceDbfs;
    out.target = session_.document().targetSchool == "peak" ? TargetSchool::Peak : TargetSchool::Average;
    out.keepPicture = true;
    return out;
}

Measured Measurements::inHand() const { return session_.take() ? of(*session_.take()) : nullptr; }

Measured Measurements::of(const Take& take) const
{
    const MeasureOptions now = options();
    // The reference and the school only move readings that were taken: no need to measure again.
    if (now.referenceDbfs != shownFor_.referenceDbfs || now.target != shownFor_.target) shown_.clear();
    shownFor_ = now;
    if (const auto shown = shown_.find(keyOf(take)); shown != shown_.end()) return shown->second;
    const auto at = measured_.find(keyOf(take));
    if (at == measured_.end()) return nullptr;
    auto out = std::make_shared<FileMeasurement>(*at->second);
    for (auto& c : out->channels) {
        if (c.vuTypical) *c.vuTypical -= now.referenceDbfs;
        if (c.vuMax) *c.vuMax -= now.referenceDbfs;
    }
    out->advice = adviseGain(out->channels, now.target);
    shown_[keyOf(take)] = out;
    return out;
}

std::optional<double> Measurements::averageDbfs(const Take& take) const
{
    const auto m = of(take);
    std::optional<double> out;
    if (m)
        for (const auto& c : m->channels)
            if (c.vuTypical) out = std::max(out.value_or(-1e9), *c.vuTypical + session_.document().referenceDbfs);
    return out;
}

std::optional<double> Measurements::loudDbfs(const Take& take) const
{
    const auto m = of(take);
    std::optional<double> out;
    if (m)
        for (const auto& c : m->channels) {
            std::vector<float> played;
            for (std::size_t i = 0; i < std::min(c.vuTrace.size(), c.noise.playing.size()); ++i)
                if (c.noise.playing[i]) played.push_back(c.vuTrace[i]);
            if (const auto loud = loudReadingDbfs(std::move(played))) out = std::max(out.value_or(-1e9), *loud);
        }
    return out;
}

std::optional<DiStamp> Measurements::diStamp(const Take& take) const
{
    const auto average = averageDbfs(take);
    if (!average) return std::nullopt;
    const auto m = of(take);
    return DiStamp{*average, take.input, m->channels.size() == 1 ? m->channels[0].octavesDb : std::nullopt};
}

std::vector<Finding> Measurements::levelFindings(const Take& take) const
{
    if (const auto bad = unmeasurable_.find(keyOf(take)); bad != unmeasurable_.end())
        return {unreadableFinding(bad->second)};
    const auto m = of(take);
    if (!m) return {};
    const Layer* layer = session_.layer();
    const bool isBand =
        layer && isOfTheBand(layer->role) && std::ranges::find(layer->takes, take) != layer->takes.end();
    auto out = isBand ? bandLevelFindings(*m, options()) : core::levelFindings(*m, options());
    const auto gaps = gapFindings(take.gaps, take.sampleRateHz);
    out.insert(out.end(), gaps.begin(), gaps.end());
    rank(out);
    return out;
}

void Measurements::next()
{
    if (!session_.isOpen()) return;
    const SessionDocument& document = session_.document();
    const auto wants = [&](const LayerPath& p) -> const Take* {
        const Layer* l = findLayer(document, p);
        const Take* t = l ? l->chosenTake() : nullptr;
        return t && !measured_.contains(keyOf(*t)) && !unmeasurable_.contains(keyOf(*t)) ? t : nullptr;
    };
    const LayerPath here = session_.path();
    const Take* wanted = wants(here);
    for (const bool sameSong : {true, false})
        for (const LayerPath& p : allLayers(document))
            if (!wanted && (p.song == here.song) == sameSong) wanted = wants(p);
    if (!wanted) return;
    const std::string key = keyOf(*wanted);
    if (task_.isBusy() && measuring_ == key) return; // under way already: an edit must not start it anew
    measuring_ = key;
    MeasureOptions how = options();
    how.channel = std::size_t(wanted->channel);
    how.referenceDbfs = 0.0; // kept as dBFS; of() moves the readings
    task_.run<std::shared_ptr<Result<FileMeasurement>>>(
        tr("Measuring %1").arg(QString::fromStdString(wanted->source)),
        [file = session_.folder().path() / wanted->file, how](const Progress& p) {
            return std::make_shared<Result<FileMeasurement>>(measureFile(file, how, p));
        },
        [this, key](std::shared_ptr<Result<FileMeasurement>> result) {
            if (*result)
                measured_[key] = std::make_shared<const FileMeasurement>(std::move(**result));
            else if (result->error().code != ErrorCode::Cancelled)
                unmeasurable_.insert_or_assign(key, result->error());
            emit session_.measured();
            next();
        });
}

void Measurements::forget()
{
    task_.cancel();
    measured_.clear();
    shown_.clear();
    unmeasurable_.clear();
}

} // namespace gristle::app
