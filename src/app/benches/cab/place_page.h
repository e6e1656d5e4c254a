#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "core/actions/place_microphones.h"

class QCheckBox;
class QComboBox;
class QLabel;
class QPushButton;
class QTableWidget;

namespace gristle::app {

class FigureBox;
class PlaceMap;

/// Which microphone, where? A modelled cabinet in a room, its microphones as rows of a table that computes, and a map
/// of what moving the chosen one along a line does. What is chosen becomes an impulse.
class PlacePage : public BenchPage {
    Q_OBJECT
public:
    PlacePage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return map_.isBusy() || make_.isBusy() || figuring_.isBusy() || hearing_.isBusy(); }

protected:
    void resizeEvent(QResizeEvent*) override;
    void showEvent(QShowEvent*) override;

private:
    void build();
    void refresh();
    void fillTable();
    void compute();
    void showCurves();
    void tell();
    void change(const QString& text, const std::function<void(core::CabPlan&)>& edit, int mergeKey = -1);
    void changeRow(int row, int column);
    void move(double position);
    void save(bool intoRig);
    const core::CabPlan& plan() const { return session().document().cab; }
    std::size_t chosen() const;
    double position() const;
    bool isApart() const;
    int rateHz() const;
    void prepareHearing();
    const core::PlanFigures* figuresOfPlan() const { return computed_ == plan() ? &placed_.figures : nullptr; }

    PlaceMap* picture_;
    QLabel* sentence_;
    QTableWidget* table_;
    QComboBox* cabinet_;
    std::vector<QPushButton*> lines_;
    QPushButton *another_, *remove_, *save_, *intoRig_;
    QCheckBox* apart_;
    FigureBox *floor_, *wall_, *reverberation_, *watts_, *spill_;
    core::MapLine line_ = core::MapLine::Offset;
    std::size_t chosen_ = 0;
    /// What the map is of: everything but the chosen microphone's position along the line.
    struct MapOf {
        core::CabPlan plan;
        core::PlacedMicrophone microphone;
        core::MapLine line = core::MapLine::Offset;
        bool operator==(const MapOf&) const = default;
    };
    std::optional<MapOf> shown_;
    core::PlacedPlan placed_;
    std::optional<core::CabPlan> computed_; ///< what it is of
    SessionTask map_{session()}, make_{session()}, figuring_{session()}, hearing_{session()};
    std::shared_ptr<const core::Recording> heard_;                ///< of these places, or of those before
    std::optional<std::tuple<core::CabPlan, bool, int>> heardOf_; ///< that it is made of, or is being made of
    bool refreshing_ = false;
};

} // namespace gristle::app
