#pragma once

#include "core/units/bar_grid.h"

namespace gristle::app {

class SessionModel;

/// The loop that is heard, in bars of the song in hand, from 1; the end is not in it.
class BarLoop {
public:
    explicit BarLoop(SessionModel& session) : session_(session) {}
    double fromBar() const { return from_; }
    double toBar() const { return to_; }
    void set(double fromBar, double toBar); ///< at least a quarter of a bar; told by SessionModel::loopChanged
    double fromS() const;
    double toS() const;
    double barSeconds() const;  ///< of its first bar
    double beatSeconds() const; ///< there; as in 4/4 where there is no song

private:
    SessionModel& session_;
    double from_ = 2.0, to_ = 6.0;
};

} // namespace gristle::app
