#pragma once

#include "app/models/session_model.h"

namespace gristle::app {

/// Work on what the open session holds: it ends, and its answer is dropped, when the session closes.
class SessionTask : public TaskRunner {
public:
    explicit SessionTask(SessionModel& session)
    {
        connect(&session, &SessionModel::closing, this, &TaskRunner::cancel);
    }
};

} // namespace gristle::app
