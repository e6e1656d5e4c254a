#pragma once

#include "app/models/session_task.h"
#include "app/tasks/task_runner.h"
#include "core/rig/compiled_rig.h"
#include "core/session/session_document.h"
#include "engine/rt/live_chain.h"

#include <QObject>

namespace gristle::app {

class SessionModel;
class Audition;

/// Direct: the interface's own monitor, past Gristle, which then plays nothing of the input itself.
enum class Hear { Nothing, Dry, Rig, Direct };

/// Another layer that is recorded with the one in hand: from the same input, the same guitar through another rig; from
/// another one, a microphone or a second player.
struct AlsoRecord {
    std::string layer;
    std::size_t input = 0;
    bool operator==(const AlsoRecord&) const = default;
};

/// What the guitarist hears of himself: the program of the live chain, kept in step with the session's rigs while it
/// plays. GUI thread.
class LiveHearing : public QObject {
    Q_OBJECT
public:
    LiveHearing(SessionModel& session, Audition& audition);
    ~LiveHearing() override;

    struct Wish {
        Hear hear = Hear::Nothing;
        double levelDb = -6.0;
        std::size_t input = 0;
        std::vector<AlsoRecord> also{};
    };
    void apply(const Wish& wish);
    void forget() { key_.clear(); } ///< another chain, that has no program yet
    bool isPreparing() const { return compile_.isBusy(); }

signals:
    void failed(const QString& message, const QString& remedy);

private:
    /// How a layer's rig is heard live: what a worker compiles.
    struct LiveRig {
        core::RigDocument document;
        core::CompileOptions options;
        core::Result<std::shared_ptr<core::CompiledRig>> compiled() const;
    };
    core::Result<LiveRig> liveRig(const core::Layer& layer) const;
    engine::LiveVoice voiceOf(std::shared_ptr<core::CompiledRig> rig, std::size_t input, double place) const;
    void build(const std::vector<std::pair<const core::Layer*, std::size_t>>& layers);
    void changeRigs(const std::vector<std::pair<const core::Layer*, std::size_t>>& layers);

    SessionModel& session_;
    Audition& audition_;
    Wish wish_;
    SessionTask compile_{session_};
    std::string key_; ///< of the program that the chain has, but for its rigs
    struct HeardRig {
        core::RigDocument document; ///< that is heard
        std::shared_ptr<engine::RigSwap> rig;
    };
    std::vector<HeardRig> heard_;          ///< of that program
    std::vector<core::RigDocument> asked_; ///< what is being prepared
};

} // namespace gristle::app
