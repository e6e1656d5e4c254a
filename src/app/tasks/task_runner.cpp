#include "app/tasks/task_runner.h"

#include <QMetaObject>
#include <chrono>
#include <sys/resource.h>
#include <unistd.h>

namespace gristle::app {

namespace {

constexpr std::chrono::milliseconds kReportEvery{40};

/// Lets the window and the audio go first where cores are short. On Linux a thread has a niceness of its own.
void stepBack() { setpriority(PRIO_PROCESS, static_cast<id_t>(gettid()), 10); }

} // namespace

TaskRunner::TaskRunner(QObject* parent) : QObject(parent) { pool_.setMaxThreadCount(1); }

TaskRunner::~TaskRunner() { waitForDone(); }

void TaskRunner::waitForDone()
{
    cancel();
    pool_.waitForDone();
}

void TaskRunner::start(Job job)
{
    ++generation_; // what runs now is late
    if (running_) {
        stop_.request_stop();
        waiting_ = std::move(job);
        return;
    }
    launch(std::move(job));
}

void TaskRunner::launch(Job job)
{
    running_ = true;
    title_ = job.title;
    stop_ = std::stop_source();
    emit busyChanged(true, title_);
    const quint64 generation = generation_;
    pool_.start([this, work = std::move(job.work), stop = stop_.get_token(), generation] {
        stepBack();
        core::Progress progress{stop, nullptr};
        auto last = std::make_shared<std::chrono::steady_clock::time_point>();
        progress.report = [this, last](double part) {
            const auto now = std::chrono::steady_clock::now();
            if (now - *last < kReportEvery) return;
            *last = now;
            QMetaObject::invokeMethod(
                this, [this, part] { emit progressed(part); }, Qt::QueuedConnection);
        };
        auto deliver = work(progress);
        QMetaObject::invokeMethod(
            this, [this, generation, deliver] { finish(generation, deliver); }, Qt::QueuedConnection);
    });
}

void TaskRunner::finish(quint64 generation, const std::function<void()>& deliver)
{
    running_ = false;
    const bool late = generation != generation_;
    if (waiting_) {
        Job next = std::move(*waiting_);
        waiting_.reset();
        launch(std::move(next));
    } else {
        emit busyChanged(false, title_);
    }
    if (!late) deliver();
}

void TaskRunner::cancel()
{
    ++generation_;
    waiting_.reset();
    stop_.request_stop();
}

} // namespace gristle::app
