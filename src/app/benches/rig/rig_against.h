#pragma once

#include "core/rig/rig_document.h"

#include <QLabel>
#include <optional>

class QMenu;

namespace gristle::app {

class SessionModel;

/// The line over the ladder that says what differs between the rig and another one: the version before, or one that was
/// chosen from all of the session.
class RigAgainst : public QLabel {
    Q_OBJECT
public:
    RigAgainst(SessionModel& session, QWidget* parent);
    struct Other {
        QString title;
        core::RigDocument rig;
    };
    /// The rig that this one is held against; none where it is the first.
    std::optional<Other> other(const core::RigDocument& rig) const;
    /// @param more  that is said behind it
    void tell(const core::RigDocument& rig, const QString& more);

signals:
    void chosen(); ///< another one

private:
    void fillOthers();

    SessionModel& session_;
    QMenu* others_;
    std::string otherFile_; ///< chosen; empty: the version before
};

} // namespace gristle::app
