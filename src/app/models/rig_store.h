#pragma once

#include "core/rig/rig_document.h"
#include "core/units/result.h"

#include <QDateTime>
#include <QString>

namespace gristle::core {
struct Recording;
}

namespace gristle::app {

class SessionModel;

/// The rigs and impulses of the open session. GUI thread.
class RigStore {
public:
    explicit RigStore(SessionModel& session) : session_(session) {}

    /// The rig of the layer in hand; an empty one where it is dry or unreadable (then `warnings` says why).
    core::RigDocument inHand(std::vector<std::string>* warnings = nullptr) const;
    /// Saves the rig as the next version and gives it to the layer in hand. Changes with the same merge key within 1.5
    /// s go into the same version.
    void set(core::RigDocument rig, const QString& text, int mergeKey = -1);
    void choose(const std::string& file); ///< for the layer in hand; empty: dry
    bool mayHaveOne();                    ///< the layer in hand; where not, that is said
    void giveToPart();                    ///< the rig of the layer in hand to all layers of its part

    /// @return the file, relative to the session's folder @error as SessionFolder
    core::Result<std::string> addImpulse(const core::Recording& impulse, const QString& name, const QString& madeOf);
    core::Result<std::string> importImpulse(const QString& file);

private:
    SessionModel& session_;
    struct {
        int key = -1;
        std::string file;
        QDateTime at;
    } last_; ///< version that was saved
};

} // namespace gristle::app
