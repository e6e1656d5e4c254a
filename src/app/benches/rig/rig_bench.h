#pragma once

#include "app/benches/bench.h"
#include "app/benches/rig/chain_meter.h"
#include "app/models/session_task.h"
#include "core/advice/gate_advice.h"
#include "core/rig/lane_path.h"

class QComboBox;
class QDoubleSpinBox;
class QLabel;
class QLineEdit;
class QMenu;
class QPushButton;

namespace gristle::app {

class Ladder;
class RigAgainst;
class StagePanel;

/// Which chain, in which order, how hard does each stage hit the next?
class RigBench : public Bench {
    Q_OBJECT
public:
    RigBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
    BenchFindings findings() const override;
    Remedies remedies() override;
    AuditionRequest audition() const override;
    bool isBusy() const override;
    void chooseStage(int stage); ///< from 0
    /// Asks for an impulse file; replaced in tests.
    std::function<QString()> askImpulse;
    std::function<QString()> askFolder; ///< in which a missing impulse is looked for; replaced in tests

protected:
    void showEvent(QShowEvent*) override { refresh(); }

private:
    void build();
    QWidget* buildChainRow();
    void refresh();
    void refreshStage();
    void measureChain();
    void showChain();
    // What is said of the rig, and what that is made of (rig_judgement.cpp).
    std::vector<core::Finding> judge() const;
    bool isMetered() const; ///< the whole rig, as it is
    std::optional<core::Finding> outputOver() const;
    struct AdvisedGate {
        std::size_t stage;
        double thresholdDbfs;
        core::GateAdvice advice;
    };
    std::optional<AdvisedGate> firstGate() const;
    void change(const QString& text, const std::function<void(core::RigDocument&)>& edit, int mergeKey = -1);
    void moveStage(int stage, int to);
    void removeStage(int stage);
    void setControl(const QString& key, const QString& text);
    void bringImpulse(const QString& key);
    void writeLine();
    core::LayerRecipe recipe(const core::RigDocument& rig) const;
    void openLane(int stage, int lane);
    void leaveLane();
    void dropLane();
    void splitStage();
    void lookForImpulses();
    void addLane();
    void changeJoined(const QString& text, core::RigDocument rig, std::size_t split, core::RigChain alone);
    core::RigNode* chosenNode();

    core::RigDocument rig_;
    core::LanePath lanes_; ///< to the chain on the ladder
    std::vector<std::string> warnings_;
    ChainMeter meter_{session(), nullptr};
    RigAgainst* against_;
    QComboBox* rigs_;
    Ladder* ladder_;
    StagePanel* stage_;
    QLineEdit* line_;
    QDoubleSpinBox* output_;
    QPushButton *bypass_, *earlier_, *later_, *remove_, *leave_, *drop_;
    QLabel *outputLabel_, *readings_;
    SessionTask joinTask_{session()}, lookTask_{session()};
    bool refreshing_ = false;
};

} // namespace gristle::app
