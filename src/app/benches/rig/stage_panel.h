#pragma once

#include "app/benches/rig/stage_plot.h"
#include "app/tasks/task_runner.h"
#include "app/widgets/control_figures.h"
#include "core/mix/control_travel.h"

class QButtonGroup;
class QLabel;
class QStackedWidget;
class QVBoxLayout;

namespace gristle::app {

/// The stage in hand: its controls, and a picture of the control's travel or of what the stage does, measured on the
/// loop as it is now.
class StagePanel : public QWidget {
    Q_OBJECT
public:
    explicit StagePanel(QWidget* parent = nullptr);
    /// What is looked at.
    struct Subject {
        std::optional<core::LayerRecipe> recipe; ///< none: nothing to measure on
        std::size_t stage = 0;                   ///< of the recipe's outermost chain
        double beatS = 0.5;
        int beats = 4; ///< of a bar
    };
    /// @param node  null: no stage
    void setStage(const core::RigNode* node, const QStringList& files, Subject subject);
    bool isBusy() const { return travelTask_.isBusy() || pictureTask_.isBusy(); }

signals:
    void controlChanged(const QString& key, const QString& text);
    void refused(const QString& message, const QString& remedy);
    void fileWanted(const QString& key);
    void laneOpened(int lane); ///< from 0, of a split
    void laneWanted();         ///< one more

private:
    QWidget* buildViews();
    void showLanes();
    void showView(int view); ///< 0: the travel, then those of StagePlot
    void measure();
    void measureTravel();
    void showTravel(std::vector<core::TravelPoint> points, bool done);
    void measurePicture();

    std::optional<core::RigNode> node_;
    const core::NodeType* type_ = nullptr;
    Subject subject_;
    QLabel* title_;
    ControlFigures* controls_;
    QVBoxLayout* lanes_;
    QButtonGroup* views_;
    QStackedWidget* pictures_;
    TravelRuler* travel_;
    StagePlot* plot_;
    TaskRunner travelTask_, pictureTask_;
};

/// Where the control works and where it stops, in words; what it changes at all.
QString travelWords(const std::vector<core::TravelPoint>& points);

} // namespace gristle::app
