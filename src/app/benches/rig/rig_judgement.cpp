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
    if (const QString counted = severityLine(judge()); !counted.isEmpty()) return {counted, true};
    return {tr("%1 v%2").arg(QString::fromStdString(rig_.name)).arg(rig_.version), false};
}

BenchFindings RigBench::findings() const
{
    return {judge(), tr("Choose a rig or add a stage; what each does to the next is measured here.")};
}

Remedies RigBench::remedies()
{
    Remedies out;
    if (!session().isOpen() || !session().take()) return out;
    out["rig.missing"] = {tr("Look for it in a folder"), [this] { lookForImpulses(); }};
    if (const auto di = session().measurements().diStamp(*session().take()); di && rig_.di) {
        const LevelTransfer transfer = levelTransfer(*rig_.di, *di);
        const auto first = [this](const QString& text, RigChain stages) {
            return [this, text, stages = std::move(stages)] {
                change(text, [&](RigDocument& r) { r.chain.insert(r.chain.begin(), stages.begin(), stages.end()); });
            };
        };
        const QString trim = QString::fromStdString(signedText(transfer.trimDb));
        out["rig.level_moved"] = {tr("Put %1 dB first").arg(trim),
                                  first(tr("Gain of %1 dB put first").arg(trim), {trimStage(transfer)})};
        out["rig.pickup_differs"] = {tr("Match level and pickup"), first(tr("Level and pickup matched"),
                                                                         {trimStage(transfer), pickupStage(transfer)})};
    }
    if (const auto over = outputOver()) {
        const double output =
            std::max(-60.0, std::floor((rig_.outputDb + *over->target - *over->measured) * 10.0) / 10.0);
        out["rig.output_over"] = {
            tr("Turn it to %1 dB").arg(QString::fromStdString(signedText(output))), [this, output] {
                change(tr("Rig output %1 dB").arg(output), [&](RigDocument& r) { r.outputDb = output; });
            }};
    }
    const auto gate = firstGate();
    if (gate && gate->advice.thresholdDbfs && !gateFinding(gate->advice, gate->thresholdDbfs, "").remedy.empty())
        out["rig.gate"] = {tr("Set it to %1 dBFS").arg(*gate->advice.thresholdDbfs),
                           [this, i = gate->stage, threshold = *gate->advice.thresholdDbfs] {
                               change(tr("Gate at %1 dBFS").arg(threshold),
                                      [&](RigDocument& r) { r.chain[i].values["threshold"] = threshold; });
                           }};
    return out;
}

std::vector<Finding> RigBench::judge() const
{
    std::vector<Finding> found;
    if (!session().isOpen()) return found;
    const Layer* layer = session().layer();
    if (session().take() && !rig_.chain.empty()) {
        RenderReport told = meter_.report();
        for (const auto& w : warnings_)
            if (std::ranges::find(told.warnings, w) == told.warnings.end()) told.warnings.push_back(w);
        found = rigFindings(told, rig_, session().measurements().diStamp(*session().take()), layer->name);
        if (auto over = outputOver()) found.push_back(std::move(*over));
        if (isMetered())
            if (auto noise = rigNoiseFinding(meter_.rungs(), layer->name)) found.push_back(std::move(*noise));
    }
    if (const auto gate = firstGate()) found.push_back(gateFinding(gate->advice, gate->thresholdDbfs, layer->name));
    if (const StartingPoint* point = findStartingPoint(rig_.name)) found.push_back(startingPointFinding(*point));
    rank(found);
    return found;
}

bool RigBench::isMetered() const { return lanes_.isOutermost() && meter_.rungs().size() == rig_.chain.size() + 1; }

std::optional<Finding> RigBench::outputOver() const
{
    if (!isMetered() || !meter_.limits()) return std::nullopt;
    const double peakDbu = meter_.rungs().back().peakDbu + rig_.outputDb;
    return rigOutputFinding(peakDbu, meter_.limits()->outputCeilingDbu, session().layer()->name);
}

/// The first gate; a second one behind the amplifier wants the same.
std::optional<RigBench::AdvisedGate> RigBench::firstGate() const
{
    const auto m = session().take() ? session().measurements().inHand() : nullptr;
    for (std::size_t i = 0; m && i < rig_.chain.size(); ++i) {
        if (rig_.chain[i].type != "gate" || rig_.chain[i].bypass) continue;
        const auto values = completeValues(*findNodeType("gate"), rig_.chain[i].values);
        const std::size_t channel =
            std::min(std::size_t(std::max(0, session().take()->channel - 1)), m->channels.size() - 1);
        if (const auto advice = gateAdvice(m->channels[channel], numberOf(values, "hysteresis")))
            return AdvisedGate{i, numberOf(values, "threshold"), *advice};
    }
    return std::nullopt;
}

} // namespace gristle::app
