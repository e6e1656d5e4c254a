#pragma once

#include "app/tasks/task_runner.h"
#include "core/measure/tuner.h"

#include <optional>
#include <vector>

namespace gristle::app {

class Audition;

/// The note that sounds on an input, a few times a second, while somebody listens for it; found on a worker.
class TunerEar : public QObject {
    Q_OBJECT
public:
    explicit TunerEar(Audition& audition) : audition_(audition) {}
    void setListening(bool on);
    const std::optional<core::Pitch>& pitch() const { return pitch_; }
    bool isBusy() const { return task_.isBusy(); }
    /// Takes what came in since the last look. @param isSilent  nothing but the input's own noise
    void look(std::size_t input, double rateHz, bool isSilent);

signals:
    void heard(); ///< another note, or none

private:
    Audition& audition_;
    bool isListening_ = false;
    std::vector<float> sounding_; ///< the last of the input
    std::size_t sinceNote_ = 0;   ///< samples since a note was looked for
    std::uint64_t taken_ = 0;     ///< in all
    std::optional<core::Pitch> pitch_;
    TaskRunner task_;
};

} // namespace gristle::app
