#pragma once

#include "app/models/capture.h"
#include "app/models/session_task.h"
#include "core/advice/capture_check.h"
#include "core/session/gain_book.h"
#include "engine/devices/foot_switch.h"

#include <array>

namespace gristle::app {

/// The check of an input, step by step, hands on the guitar: one key or a foot switch for start, stop and again.
/// Records each step, judges them together, and then shows what remains to be turned at the preamp while the part is
/// played. GUI thread.
std::filesystem::path gainBookFile(); ///< of the person, for all sessions

class GuidedCheck : public QObject {
    Q_OBJECT
public:
    enum class Step { Rest, Turn, Play, Hardest, Set };
    static constexpr std::size_t kRecorded = 4; ///< steps that leave a recording; Set does not

    GuidedCheck(SessionModel& session, Capture& capture, Audition& audition, QObject* parent = nullptr);

    Step step() const { return step_; }
    bool isRunning() const { return running_; } ///< the step in hand records, or the needle moves
    bool isDone(Step step) const { return done_[std::size_t(step)]; }
    bool isOver() const { return step_ == Step::Set && judged_.has_value(); }
    double secondsInStep() const { return stepS_; }
    /// How long a step takes by itself; 0 where the player ends it.
    static double lengthS(Step step);

    void press(); ///< the one key: begins what waits, ends what runs
    void again(); ///< the step before, or the whole where it is over
    void goTo(Step step);
    void restart();

    const std::optional<core::JudgedCheck>& judged() const { return judged_; }
    TaskRunner& task() { return task_; }
    /// The hum while the player turns, newest last, with where it was least and most so far.
    const std::vector<core::HumPoint>& humTrace() const { return trace_; }
    /// What remains to be turned while Set runs; nothing before a bar of playing.
    std::optional<double> remainingDb() const { return remaining_; }
    int barsThatAgree() const { return agreeing_; }
    static constexpr int kBarsToAgree = 3;
    static constexpr double kAgreeDb = 1.0;

    // the gain book
    void setWith(core::PlayedWith with) { with_ = std::move(with); } ///< what it is being played with
    core::GainEntry entry(const QString& gain) const;
    const core::GainEntry* lastEntry() const;
    void keep(core::GainEntry entry);
    void lookForFootSwitches();

signals:
    void changed();
    void moved(); ///< the live picture
    void failed(const QString& message, const QString& remedy);

private:
    std::filesystem::path file(Step step) const;
    void begin();
    void end();
    void next();
    void judge();
    void measureRest();
    void look();
    void lookAtTurn();
    void lookAtNeedle();
    std::optional<double> loudOf(const std::vector<InputReading>& looks) const;

    SessionModel& session_;
    Capture& capture_;
    Audition& audition_;
    std::unique_ptr<engine::FootSwitch> foot_; ///< once somebody may press it
    QTimer footTimer_;
    core::GainBook book_;
    core::PlayedWith with_;
    Step step_ = Step::Rest;
    bool running_ = false;
    std::size_t input_ = 0; ///< that the check is of
    std::array<bool, kRecorded> done_{};
    double stepS_ = 0.0;
    std::optional<core::JudgedCheck> judged_;
    double mainsHz_ = 0.0;      ///< of the rest step; 0: no series stood out
    std::vector<float> window_; ///< the newest samples of the turn
    double turnedS_ = 0.0;
    std::vector<core::HumPoint> trace_;
    /// Looks at the meter: of the play step, of the bar being played, of the two before it.
    std::vector<InputReading> playLooks_, bar_, barsBefore_;
    std::optional<double> remaining_;
    int agreeing_ = 0;
    SessionTask task_{session_};
};

} // namespace gristle::app
