#pragma once

#include "app/tasks/task_runner.h"
#include "core/advice/finding.h"
#include "core/measure/measure_file.h"
#include "core/rig/rig_document.h"
#include "core/session/session_document.h"

#include <map>
#include <optional>

namespace gristle::app {

class SessionModel;
using Measured = std::shared_ptr<const core::FileMeasurement>;

/// What was measured of the session's takes: in the background the take in hand first, then the others of its song,
/// then the rest. SessionModel::measured tells of each. GUI thread.
class Measurements : public QObject {
    Q_OBJECT
public:
    explicit Measurements(SessionModel& session);

    Measured of(const core::Take& take) const; ///< nothing yet where it is still being measured
    Measured inHand() const;                   ///< of the take in hand
    core::MeasureOptions options() const;
    std::optional<double> averageDbfs(const core::Take& take) const;
    std::optional<double> loudDbfs(const core::Take& take) const; ///< what its accents reach
    /// What a rig remembers of the DI that it is dialled in on; none before the take is measured.
    std::optional<core::DiStamp> diStamp(const core::Take& take) const;
    std::vector<core::Finding> levelFindings(const core::Take& take) const;
    TaskRunner& task() { return task_; }

    void next();   ///< measures what is not measured yet
    void forget(); ///< stops, and knows nothing any more

private:
    SessionModel& session_;
    std::map<std::string, Measured> measured_;      ///< with readings in dBFS
    mutable std::map<std::string, Measured> shown_; ///< the same, relative to what the session reads them against
    mutable core::MeasureOptions shownFor_;
    std::map<std::string, core::Error> unmeasurable_;
    std::string measuring_; ///< key of the take that is being measured
    TaskRunner task_;
};

} // namespace gristle::app
