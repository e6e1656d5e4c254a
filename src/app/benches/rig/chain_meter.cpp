#include "app/benches/rig/chain_meter.h"

#include "core/advice/finding.h"

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

void ChainMeter::cancel()
{
    levelsTask_.cancel();
    limitsTask_.cancel();
    rungs_.clear();
    report_ = {};
    limits_.reset();
    failure_.reset();
}

void ChainMeter::measure(const LayerRecipe& recipe, double restFromS, double restToS)
{
    cancel();
    levelsTask_.run<std::shared_ptr<Levels>>(
        tr("Measuring the chain"),
        [recipe, restFromS, restToS](const Progress& p) {
            auto out = std::make_shared<Levels>();
            auto rungs = rigLedger(recipe, restFromS, restToS, out->report, p);
            if (rungs)
                out->rungs = std::move(*rungs);
            else
                out->failure = rungs.error();
            return out;
        },
        [this, recipe, restFromS, restToS](std::shared_ptr<Levels> answer) {
            rungs_ = std::move(answer->rungs);
            report_ = std::move(answer->report);
            failure_ = std::move(answer->failure);
            if (!failure_) measureLimits(recipe, restFromS, restToS);
            emit measured();
        });
}

void ChainMeter::measureLimits(const LayerRecipe& recipe, double restFromS, double restToS)
{
    limitsTask_.run<std::shared_ptr<Result<RigLimits>>>(
        tr("Looking for ceilings"),
        [recipe, restFromS, restToS, known = known_](const Progress& p) {
            return std::make_shared<Result<RigLimits>>(rigLimits(recipe, restFromS, restToS, *known, p));
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
