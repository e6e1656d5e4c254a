#pragma once

#include "app/models/session_task.h"
#include "core/mix/figures/rig_ledger.h"
#include "core/mix/figures/rig_limits.h"

#include <QString>

namespace gristle::app {

/// Measures a chain off the GUI thread: first the levels of its stages, then, when these are there, where each stage
/// ends upwards and what noise it gives while somebody plays.
class ChainMeter : public QObject {
    Q_OBJECT
public:
    ChainMeter(SessionModel& session, QObject* parent);
    /// What is measured, as a value.
    struct Subject {
        core::LayerRecipe recipe;
        double restFromS = 0.0, restToS = 0.0; ///< a stretch in which nobody plays; none where they are equal
    };
    /// Nothing where just that was measured, or is being measured.
    void measure(const Subject& subject);
    bool isOf(const Subject& subject) const;
    void cancel(); ///< and forget
    bool isBusy() const { return levelsTask_.isBusy() || limitsTask_.isBusy(); }

    /// What comes in and behind each stage; empty until it is there.
    const std::vector<core::Rung>& rungs() const { return rungs_; }
    const core::RenderReport& report() const { return report_; }
    const std::optional<core::RigLimits>& limits() const { return limits_; }
    const std::optional<core::Error>& failure() const { return failure_; }

signals:
    void measured(); ///< levels, limits, or a failure

private:
    void measureLimits();

    std::shared_ptr<core::KnownCeilings> known_ = std::make_shared<core::KnownCeilings>(); ///< its tasks' as well
    Subject of_;
    std::string key_; ///< of what is measured; empty: nothing
    std::vector<core::Rung> rungs_;
    core::RenderReport report_;
    std::optional<core::RigLimits> limits_;
    std::optional<core::Error> failure_;
    SessionTask levelsTask_, limitsTask_;
};

/// What is read of one stage: how far its playing stays under its ceiling, and its noise at rest and while playing.
/// @param limit  none until it is measured
QString stageReadings(const core::RigNode& node, const core::Rung& rung, const core::StageLimit* limit);

} // namespace gristle::app
