#pragma once

#include "app/benches/rig/stage_plot.h"
#include "app/models/session_task.h"
#include "app/widgets/control_figures.h"
#include "core/mix/figures/control_travel.h"

class QButtonGroup;
class QLabel;
class QPushButton;
class QStackedWidget;
class QVBoxLayout;

namespace gristle::app {

/// The stage in hand: its controls, and a picture of the control's travel or of what the stage does, measured on the
/// loop as it is now.
class StagePanel : public QWidget {
    Q_OBJECT
public:
    StagePanel(SessionModel& session, QWidget* parent);
    /// What is looked at.
    struct Subject {
        std::optional<core::LayerRecipe> recipe; ///< none: nothing to measure on
        std::size_t stage = 0;                   ///< of the recipe's outermost chain
        double beatS = 0.5;
        int beats = 4; ///< of a bar
    };
    /// @param node  null: no stage
    void setStage(const core::RigNode* node, const QStringList& files, Subject subject);
    /// Of the control in focus, places to hear beside each other; empty unless they are wanted and known.
    struct Places {
        std::string key;
        std::vector<double> values;
    };
    const Places& places() const { return places_; }
    bool isBusy() const { return travelTask_.isBusy() || pictureTask_.isBusy(); }

signals:
    void controlChanged(const QString& key, const QString& text);
    void refused(const QString& message, const QString& remedy);
    void fileWanted(const QString& key);
    void laneOpened(int lane); ///< from 0, of a split
    void laneWanted();         ///< one more
    void placesChanged();

private:
    QWidget* buildViews();
    void chooseViews();
    void showLanes();
    void showView(int view); ///< 0: the travel, then those of StagePlot
    void measure();
    void measureTravel();
    void showTravel(std::vector<core::TravelPoint> points, bool done);
    void measurePicture();
    void setPlaces(Places places);

    std::optional<core::RigNode> node_;
    const core::NodeType* type_ = nullptr;
    Subject subject_;
    bool isShowing_ = false; ///< a stage that only shows is in hand
    int lastView_ = 0;       ///< of the other stages
    QLabel* title_;
    ControlFigures* controls_;
    QVBoxLayout* lanes_;
    QButtonGroup* views_;
    QPushButton* hearPlaces_;
    Places places_, known_; ///< known_: of the travel that is drawn
    QStackedWidget* pictures_;
    TravelRuler* travel_;
    StagePlot* plot_;
    SessionTask travelTask_, pictureTask_;
};

/// Where the control works and where it stops, in words; what it changes at all.
QString travelWords(const std::vector<core::TravelPoint>& points);

} // namespace gristle::app
