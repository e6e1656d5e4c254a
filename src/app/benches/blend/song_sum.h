#pragma once

#include "app/models/session_task.h"
#include "core/actions/mix_layers.h"

namespace gristle::app {

/// The whole song in hand, summed and measured on a worker while somebody looks at it.
class SongSum : public QObject {
    Q_OBJECT
public:
    SongSum(SessionModel& session, QObject* parent);
    void look(); ///< measures what is not measured yet
    const core::Song* song() const;
    /// Changes the song in hand as an edit; what `work` refuses is given back, and nothing is changed.
    core::Outcome change(const QString& text, const QString& what,
                         const std::function<core::Outcome(core::Song&)>& work);
    core::Result<core::MixPlan> plan(core::Effort effort) const;
    const std::optional<core::MixReport>& report() const { return report_; }
    const std::vector<std::string>& warnings() const { return warnings_; } ///< of reading its rigs
    const QString& trouble() const { return trouble_; }                    ///< why it cannot be summed
    bool isBusy() const { return task_.isBusy(); }

signals:
    void changed();

private:
    SessionModel& session_;
    std::optional<core::MixReport> report_;
    std::vector<std::string> warnings_;
    std::string measuredOf_; ///< what report_ is of, or what is being measured; empty: nothing
    QString trouble_;
    SessionTask task_{session_};
};

} // namespace gristle::app
