// What the Rig bench says of its rig, and what each remedy does.

#include "app/benches/rig/rig_bench.h"

#include "core/advice/gate_advice.h"
#include "core/advice/level_transfer.h"
#include "core/advice/rig_findings.h"

#include <cmath>

namespace gristle::app {

using namespace core;

BenchState RigBench::state() const
{
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    if (!layer) return {QString(QChar(0x2013)), false};
    if (layer->rig.empty()) return {tr("dry"), false};
    Remedies remedies;
    if (const QString counted = severityLine(judge(remedies)); !counted.isEmpty()) return {counted, true};
    return {tr("%1 v%2").arg(QString::fromStdString(rig_.name)).arg(rig_.version), false};
}

void RigBench::findings(FindingsPanel& panel) const
{
    Remedies remedies;
    const auto found = judge(remedies);
    panel.show(found, remedies, tr("Choose a rig or add a stage; what each does to the next is measured here."));
}

std::vector<Finding> RigBench::judge(Remedies& remedies) const
{
    std::vector<Finding> found;
    if (!session().isOpen()) return found;
    if (session().take() && !rig_.chain.empty()) {
        judgeRender(found, remedies);
        judgeOutput(found, remedies);
    }
    if (session().take() && session().measurement()) judgeGate(found, remedies);
    if (const StartingPoint* point = findStartingPoint(rig_.name)) found.push_back(startingPointFinding(*point));
    rank(found);
    return found;
}

void RigBench::judgeRender(std::vector<Finding>& found, Remedies& remedies) const
{
    auto* self = const_cast<RigBench*>(this); // remedies are pressed later
    RenderReport told = meter_.report();
    for (const auto& w : warnings_)
        if (std::ranges::find(told.warnings, w) == told.warnings.end()) told.warnings.push_back(w);
    const auto di = session().diStamp(*session().take());
    found = rigFindings(told, rig_, di, session().layer()->name);
    remedies["rig.missing"] = {tr("Look for it in a folder"), [self] { self->lookForImpulses(); }};
    if (!rig_.di || !di) return;
    const LevelTransfer transfer = levelTransfer(*rig_.di, *di);
    const auto first = [self](const QString& text, RigChain stages) {
        return [self, text, stages = std::move(stages)] {
            self->change(text, [&](RigDocument& r) { r.chain.insert(r.chain.begin(), stages.begin(), stages.end()); });
        };
    };
    const QString trim = QString::fromStdString(signedText(transfer.trimDb));
    remedies["rig.level_moved"] = {tr("Put %1 dB first").arg(trim),
                                   first(tr("Gain of %1 dB put first").arg(trim), {trimStage(transfer)})};
    remedies["rig.pickup_differs"] = {
        tr("Match level and pickup"),
        first(tr("Level and pickup matched"), {trimStage(transfer), pickupStage(transfer)})};
}

void RigBench::judgeOutput(std::vector<Finding>& found, Remedies& remedies) const
{
    if (!lanes_.isOutermost() || meter_.rungs().size() != rig_.chain.size() + 1) return;
    const std::string& layer = session().layer()->name;
    const double peakDbu = meter_.rungs().back().peakDbu + rig_.outputDb;
    if (auto over =
            meter_.limits() ? rigOutputFinding(peakDbu, meter_.limits()->outputCeilingDbu, layer) : std::nullopt) {
        const double output = std::max(-60.0, std::floor((rig_.outputDb + *over->target - peakDbu) * 10.0) / 10.0);
        remedies["rig.output_over"] = {tr("Turn it to %1 dB").arg(QString::fromStdString(signedText(output))),
                                       [self = const_cast<RigBench*>(this), output] {
                                           self->change(tr("Rig output %1 dB").arg(output),
                                                        [&](RigDocument& r) { r.outputDb = output; });
                                       }};
        found.push_back(std::move(*over));
    }
    if (auto noise = rigNoiseFinding(meter_.rungs(), layer)) found.push_back(std::move(*noise));
}

/// Of the first gate; a second one behind the amplifier wants the same.
void RigBench::judgeGate(std::vector<Finding>& found, Remedies& remedies) const
{
    const auto m = session().measurement();
    for (std::size_t i = 0; i < rig_.chain.size(); ++i) {
        if (rig_.chain[i].type != "gate" || rig_.chain[i].bypass) continue;
        const auto values = completeValues(*findNodeType("gate"), rig_.chain[i].values);
        const std::size_t channel =
            std::min(std::size_t(std::max(0, session().take()->channel - 1)), m->channels.size() - 1);
        const auto advice = gateAdvice(m->channels[channel], numberOf(values, "hysteresis"));
        if (!advice) continue;
        found.push_back(gateFinding(*advice, numberOf(values, "threshold"), session().layer()->name));
        if (!found.back().remedy.empty() && advice->thresholdDbfs)
            remedies["rig.gate"] = {tr("Set it to %1 dBFS").arg(*advice->thresholdDbfs),
                                    [self = const_cast<RigBench*>(this), i, threshold = *advice->thresholdDbfs] {
                                        self->change(tr("Gate at %1 dBFS").arg(threshold), [&](RigDocument& r) {
                                            r.chain[i].values["threshold"] = threshold;
                                        });
                                    }};
        return;
    }
}

} // namespace gristle::app
