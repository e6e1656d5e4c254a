#pragma once

#include "app/models/session_task.h"
#include "app/tasks/task_runner.h"
#include "core/mix/render/mixdown.h"
#include "core/session/recorded_take.h"
#include "engine/runs/run_plan.h"

#include <QObject>

namespace gristle::app {

class SessionModel;
class Audition;
class Capture;

/// What else is heard while a take is recorded.
enum class HeardLayers { None, Part, Song };

/// How the next take is recorded.
struct RunWish {
    engine::RunShape shape;
    double clickDb = -20.0; ///< peak, dBFS
    HeardLayers layers = HeardLayers::None;
    double layersDb = 0.0; ///< of the layers at their own gains
};

/// What is rendered to be heard: others as they are, and of the layer in hand what is around the bars that are
/// recorded.
struct LayersWish {
    std::vector<core::MixLayer> others, own;
    core::MixOptions options;
    double fromS = 0.0, toS = 0.0;
    double holeFromS = 0.0, holeToS = 0.0;
};

/// A take on its way: the layers that are heard are rendered ahead, clicks and recording run in step, what was counted
/// in is cut off, passes of a loop become takes while the next one is played. GUI thread.
class TakeRun : public QObject {
    Q_OBJECT
public:
    TakeRun(SessionModel& session, Audition& audition, Capture& capture);
    ~TakeRun() override;

    const RunWish& wish() const { return wish_; }
    const RunWish& now() const { return now_; } ///< of the one that runs
    void setWish(const RunWish& wish);          ///< of the next one; levels at once
    void prepareLayers();                       ///< so that the next one begins at once
    bool isPreparing() const { return layersTask_.isBusy(); }
    TaskRunner& layersTask() { return layersTask_; }

    /// At once, or once the layers are rendered. @param once  how, this time; without layers
    void begin(const std::optional<RunWish>& once = std::nullopt);
    void stop(); ///< and keeps what there is
    void poll();
    bool isWaiting() const { return waits_; } ///< for the layers
    bool isRunning() const { return !recording_.empty(); }
    bool isCountingIn() const { return countInLeftS() > 0.0; }
    double countInLeftS() const;
    double recordedS() const;             ///< since the count-in
    std::optional<double> barNow() const; ///< of the song, while it runs
    std::int64_t pass() const;            ///< of a loop, from 0

signals:
    void changed();
    void failed(const QString& message, const QString& remedy);

private:
    struct Layers {
        std::string of; ///< key of the wish
        std::shared_ptr<const core::Recording> audio;
        std::int64_t fromFrame = 0;
    };
    struct Heard {
        const core::Layer* layer;
        bool isOwn;
    };
    std::vector<Heard> heard() const;
    core::Result<LayersWish> layersWish() const;
    void start();
    void tell(const core::Error& error);

    SessionModel& session_;
    Audition& audition_;
    Capture& capture_;
    RunWish wish_, now_; ///< of the next one, and of the one that runs
    SessionTask layersTask_{session_};
    Layers layers_;
    bool waits_ = false;
    std::filesystem::path recording_;
    core::RecordingNote note_;
    engine::RunPlan plan_;
    std::int64_t latency_ = 0;
    std::int64_t recordedAt_ = 0; ///< frame of the recording that came in with the run's first
    std::int64_t kept_ = 0;       ///< passes that are takes, or on their way
    bool isNoted_ = false;        ///< where in the song it begins
};

} // namespace gristle::app
