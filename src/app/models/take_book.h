#pragma once

#include "app/models/session_task.h"
#include "app/tasks/task_runner.h"
#include "core/actions/judge_takes.h"
#include "core/timing/comp.h"

#include <QObject>

namespace gristle::app {

class SessionModel;
class Capture;

/// What the takes of the layer in hand are worth, bar by bar, against the click and against the earlier layer of the
/// part; which is the best, and how the best bars of all could be joined. Measured in the background, each take once;
/// a punch is joined to what it was played for as soon as it is measured. GUI thread.
class TakeBook : public QObject {
    Q_OBJECT
public:
    TakeBook(SessionModel& session, Capture& capture, QObject* parent = nullptr);
    ~TakeBook() override;

    const std::vector<core::JudgedTake>& takes() const { return judged_; } ///< as the layer's, once they are measured
    const std::optional<core::BestTake>& best() const { return best_; }
    const core::Comp& proposal() const { return proposal_; }
    QString earlier() const { return earlier_; } ///< the layer that timing is told against; empty: the click
    bool isBusy() const { return task_.isBusy(); }
    TaskRunner& task() { return task_; }

    /// The take that each bar is heard from now, from bar 1 on; -1 where there is nothing.
    std::vector<int> heardBars() const;
    void useTake(std::size_t take); ///< counts, whole
    void useProposal();
    void useBars(int fromBar, int toBar, std::size_t take); ///< the end not in it; joined at the best places
    int bars() const;                                       ///< that the takes reach to

signals:
    void changed();
    void told(const QString& message, const QString& remedy); ///< about what was just done

private:
    struct Answer;
    void look();
    void take(std::shared_ptr<Answer> answer);
    void setChoice(const std::vector<int>& choice, const QString& text);
    std::vector<core::CompBar> compBars() const;
    core::JoinBetween joins() const;

    SessionModel& session_;
    Capture& capture_;
    SessionTask task_{session_};
    std::vector<core::JudgedTake> judged_;
    std::optional<core::BestTake> best_;
    core::Comp proposal_;
    QString earlier_;
    std::string key_; ///< of what is shown or under way
    core::TakeMemory memory_;
    bool joinsPunch_ = false;
};

} // namespace gristle::app
