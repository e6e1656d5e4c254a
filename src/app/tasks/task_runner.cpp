#include "app/tasks/task_runner.h"

#include <QMetaObject>
#include <chrono>
#include <exception>
#include <sys/resource.h>
#include <unistd.h>

namespace gristle::app {

namespace {

constexpr std::chrono::milliseconds kReportEvery{40};

/// Lets the window and the audio go first where cores are short, and what somebody waits to hear before all other work.
/// On Linux a thread has a niceness of its own.
void stepBack(bool isUrgent) { setpriority(PRIO_PROCESS, static_cast<id_t>(gettid()), isUrgent ? 1 : 10); }

} // namespace

TaskRunner::TaskRunner(QObject* parent) : QObject(parent) {}

TaskRunner::~TaskRunner() { waitForDone(); }

void TaskRunner::waitForDone()
{
    cancel();
    if (thread_.joinable()) thread_.join();
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
    thread_ =
        std::jthread([this, work = std::move(job.work), stop = stop_.get_token(), generation, isUrgent = isUrgent_] {
            stepBack(isUrgent);
            core::Progress progress{stop, nullptr};
            std::chrono::steady_clock::time_point last;
            progress.report = [this, &last](double part) {
                const auto now = std::chrono::steady_clock::now();
                if (now - last < kReportEvery) return;
                last = now;
                part_.store(part);
                QMetaObject::invokeMethod(
                    this, [this] { emit progressed(part_.load()); }, Qt::QueuedConnection);
            };
            Answer answer{generation, {}};
            try {
                answer.deliver = work(progress);
            } catch (...) { // goes on where answers are taken, under the application's floor
                answer.deliver = [thrown = std::current_exception()] { std::rethrow_exception(thrown); };
            }
            {
                const std::lock_guard lock(mutex_);
                answer_ = std::move(answer);
            }
            QMetaObject::invokeMethod(this, &TaskRunner::pickUp, Qt::QueuedConnection);
        });
}

void TaskRunner::pickUp()
{
    if (thread_.joinable()) thread_.join(); // it has nothing more to do
    std::optional<Answer> answer;
    {
        const std::lock_guard lock(mutex_);
        answer.swap(answer_);
    }
    running_ = false;
    const bool late = !answer || answer->generation != generation_;
    if (waiting_) {
        Job next = std::move(*waiting_);
        waiting_.reset();
        launch(std::move(next));
    } else {
        emit busyChanged(false, title_);
    }
    if (!late) answer->deliver();
}

void TaskRunner::cancel()
{
    ++generation_;
    waiting_.reset();
    stop_.request_stop();
}

} // namespace gristle::app
