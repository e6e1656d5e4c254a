#pragma once

#include "app/tasks/task_runner.h"
#include "engine/simulated/simulated_room.h"

#include <functional>
#include <optional>

namespace gristle::app {

class Audition;
class SessionModel;

/// The hands at the simulated interface: the player, who learns the part in hand, the preamp's knob, and, for tests and
/// the tour, the clock. Of a real interface it is nothing.
class SimulatedPlayer : public QObject {
    Q_OBJECT
public:
    SimulatedPlayer(SessionModel& session, Audition& audition);
    ~SimulatedPlayer() override;

    engine::SimulatedRoom* room() const; ///< none of a real interface
    /// Turns the preamp, as the hand would turn a real one's knob. Nothing on a real one.
    void turnPreamp(double byDb);
    std::optional<double> preampDb() const;
    /// The bar that he drags in, for the findings to find; 0: none.
    void setDrag(int bar);
    int drag() const { return drag_; }
    /// What he plays of the part in hand, in volts, its first bar a rest. Each seed is another try.
    std::function<std::vector<float>()> part(std::uint32_t seed) const;
    void learn(); ///< the part in hand: its tempo, its tuning, and what its name says. Each take is another try

    /// Puts the simulated interface under a clock of its own, which only runFor() moves.
    void useTestClock();
    void runFor(double seconds); ///< as fast as it can

signals:
    void changed();
    void passed(); ///< a look's time, by the test clock

private:
    SessionModel& session_;
    Audition& audition_;
    int drag_ = 0;
    TaskRunner practice_;
};

} // namespace gristle::app
