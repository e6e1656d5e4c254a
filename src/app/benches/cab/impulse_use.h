#pragma once

#include "app/models/audition.h"
#include "app/models/session_model.h"

#include <filesystem>

namespace gristle::app {

/// The rig with this impulse in the place of its last one, also of one in a lane; behind everything where it has none.
/// At the gain stored beside it, so that what follows gets the same level.
core::RigDocument withImpulse(core::RigDocument rig, const std::string& file);
/// The file of its last impulse; empty where it has none.
std::string impulseOf(const core::RigDocument& rig);

/// Puts an impulse of the session into the rig of the layer in hand.
void putIntoRig(SessionModel& session, const std::string& file);

/// An impulse that is heard before it is in the session: a file, or one in memory.
struct HeardImpulse {
    QString title;
    std::filesystem::path file;
    std::shared_ptr<const core::Recording> recording{};
};
/// What is heard with each of them in the rig of the layer in hand; the rig as it is comes first.
AuditionRequest hearImpulses(const SessionModel& session, const std::vector<HeardImpulse>& impulses);

} // namespace gristle::app
