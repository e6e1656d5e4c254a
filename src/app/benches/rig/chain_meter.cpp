#include "app/benches/rig/chain_meter.h"

#include "core/advice/finding.h"
#include "core/mix/render/sound_key.h"
#include "core/units/content_key.h"

namespace gristle::app {

using namespace core;

namespace {

struct Levels {
    std::vector<Rung> rungs;
    RenderReport report;
    std::optional<Error> failure;
};

QString figure(double value) { return QString::fromStdString(figureText(value, 1)); }

} // namespace

ChainMeter::ChainMeter(SessionModel& session, QObject* parent)
    : QObject(parent), levelsTask_(session), limitsTask_(session)
{
    connect(&session, &SessionModel::closing, this, &ChainMeter::cancel);
}

void ChainMeter::cancel()
{
    levelsTask_.cancel();
    limitsTask_.cancel();
    rungs_.clear();
    report_ = {};
    limits_.reset();
    failure_.reset();
    key_.clear();
}

namespace {

std::string keyOf(const ChainMeter::Subject& subject)
{
    ContentKey key;
    key.add(soundKey(subject.recipe)); // also of its files: one that was missing may be there by now
    key.add(subject.restFromS);
    key.add(subject.restToS);
    return key.text();
}

} // namespace

bool ChainMeter::isOf(const Subject& subject) const { return key_ == keyOf(subject); }

void ChainMeter::measure(const Subject& subject)
{
    if (isOf(subject)) return;
    cancel();
    of_ = subject, key_ = keyOf(subject);
    levelsTask_.run<std::shared_ptr<Levels>>(
        tr("Measuring the chain"),
        [subject](const Progress& p) {
            auto out = std::make_shared<Levels>();
            auto rungs = rigLedger(subject.recipe, subject.restFromS, subject.restToS, out->report, p);
            if (rungs)
                out->rungs = std::move(*rungs);
            else
                out->failure = rungs.error();
            return out;
        },
        [this](std::shared_ptr<Levels> answer) {
            rungs_ = std::move(answer->rungs);
            report_ = std::move(answer->report);
            failure_ = std::move(answer->failure);
            if (!failure_) measureLimits();
            emit measured();
        });
}

void ChainMeter::measureLimits()
{
    limitsTask_.run<std::shared_ptr<Result<RigLimits>>>(
        tr("Looking for ceilings"),
        [of = of_, known = known_](const Progress& p) {
            return std::make_shared<Result<RigLimits>>(rigLimits(of.recipe, of.restFromS, of.restToS, *known, p));
        },
        [this](std::shared_ptr<Result<RigLimits>> answer) {
            if (*answer)
                limits_ = std::move(**answer);
            else
                failure_ = answer->error();
            emit measured();
        });
}

QString stageReadings(const RigNode& node, const Rung& rung, const StageLimit* limit)
{
    const QString name = QString::fromStdString(rung.name);
    if (node.bypass) return ChainMeter::tr("%1: bypassed").arg(name);
    if (!limit) return ChainMeter::tr("%1: looking for its ceiling \u2026").arg(name);
    QString room = ChainMeter::tr("no ceiling: it neither bends nor holds a tone");
    if (node.isSplit())
        room = ChainMeter::tr("its lanes have their own ceilings");
    else if (limit->roomDb)
        room = (*limit->roomDb < 0.0 ? ChainMeter::tr("peaks %1 dB into its ceiling")
                                     : ChainMeter::tr("peaks %1 dB under its ceiling"))
                   .arg(figure(std::abs(*limit->roomDb)));
    QString noise = ChainMeter::tr("noise not known: no rest in this take");
    if (rung.restDbu && limit->noiseDbu)
        noise = ChainMeter::tr("noise %1 dBu at rest, %2 while playing")
                    .arg(figure(*rung.restDbu), figure(*limit->noiseDbu));
    return name + ": " + room + QStringLiteral(" \u00b7 ") + noise;
}

} // namespace gristle::app
