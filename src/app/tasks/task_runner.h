#pragma once

#include "core/units/progress.h"

#include <QObject>
#include <atomic>
#include <functional>
#include <memory>
#include <mutex>
#include <stop_token>
#include <thread>

namespace gristle::app {

/// Runs work off the GUI thread: one job runs, one may wait, and a newer request replaces the waiting one (and asks the
/// running one to stop). Answers come back on the GUI thread, late ones are dropped.
class TaskRunner : public QObject {
    Q_OBJECT
public:
    explicit TaskRunner(QObject* parent = nullptr);
    ~TaskRunner() override; ///< asks the running job to stop and waits for it

    /// @param work  on a worker thread: computes from values only; what it throws is thrown on the GUI thread
    /// @param done  on the GUI thread, unless a newer request came
    template<typename T>
    void run(const QString& title, std::function<T(const core::Progress&)> work, std::function<void(T)> done)
    {
        start({title, [work = std::move(work), done = std::move(done)](const core::Progress& progress) {
                   auto result = std::make_shared<T>(work(progress));
                   return std::function<void()>([done, result] { done(std::move(*result)); });
               }});
    }
    void setUrgent() { isUrgent_ = true; } ///< somebody waits to hear it: its jobs go before those of the others
    void cancel();                         ///< the running and the waiting one; no answer comes
    void waitForDone();                    ///< cancels, and returns when nothing runs any more
    bool isBusy() const { return running_ || waiting_.has_value(); }
    QString title() const { return title_; }

signals:
    void busyChanged(bool busy, const QString& title);
    void progressed(double part);

private:
    struct Job {
        QString title;
        std::function<std::function<void()>(const core::Progress&)> work;
    };
    struct Answer {
        quint64 generation = 0;
        std::function<void()> deliver;
    };
    void start(Job job);
    void launch(Job job);
    void pickUp();

    std::stop_source stop_;
    std::optional<Job> waiting_;
    bool running_ = false, isUrgent_ = false;
    quint64 generation_ = 0;
    QString title_;
    std::atomic<double> part_{0.0};
    std::mutex mutex_;
    std::optional<Answer> answer_; ///< guarded by mutex_
    std::jthread thread_;          ///< of the running job
};

} // namespace gristle::app
