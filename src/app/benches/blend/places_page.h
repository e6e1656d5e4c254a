#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "core/actions/mix_layers.h"
#include "core/mix/figures/copies.h"

class QCheckBox;
class QComboBox;
class QLabel;
class QPushButton;
class QTableWidget;

namespace gristle::app {

class BandPlot;
class PlaceRuler;

/// The layers of a part between left and right: balance, place, width, what does mono lose? Measured on the rendered
/// sum.
class PlacesPage : public BenchPage {
    Q_OBJECT
public:
    PlacesPage(const BenchContext& context, QWidget* parent);
    BenchState state() const;
    BenchFindings findings() const override;
    Remedies remedies() override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return task_.isBusy() || meetTask_.isBusy(); }

    const std::optional<core::MixReport>& report() const { return report_; }

protected:
    void showEvent(QShowEvent*) override { refresh(); }

private:
    core::Result<core::MixPlan> plan(core::Effort effort) const;
    /// What of the part is heard; what is measured is all of it.
    struct Heard {
        bool only = false, without = false; ///< the layer in hand
        bool exchanged = false;             ///< left for right
        bool band = false;                  ///< with the song's backing
    };
    void build();
    void addHearing(QVBoxLayout* column);
    void showHearing();
    core::MixPlan heardOf(core::MixPlan plan) const;
    QString heardText() const;
    void refresh();
    void fillTable();
    void measure();
    void setLayerValue(int layer, double place, double gainDb, const QString& text);
    void matchLoudness();
    void turnAll(double db);
    void meet(const core::MixPlan& plan);
    std::optional<core::LayerPath> metLayer(const core::Finding& finding) const;
    void showReport();

    PlaceRuler* ruler_;
    QTableWidget* table_;
    BandPlot *loss_, *correlation_;
    QLabel* readings_;
    QPushButton* mono_;
    QComboBox* law_;
    QString trouble_;
    std::optional<core::MixReport> report_;
    std::string measuredOf_;                      ///< what report_ is of, or what is being measured; empty: nothing
    std::vector<std::string> warnings_;           ///< of reading its rigs
    bool isOld_ = true;                           ///< something changed while this was hidden
    std::vector<core::CopiedPerformance> copies_; ///< predicted from the recipe, beside what was measured
    std::vector<std::size_t> shown_;              ///< layers of the part that have takes
    std::vector<core::Finding> meetings_;         ///< of layers that work against each other
    SessionTask task_{session()}, meetTask_{session()};
    bool refreshing_ = false;
    Heard heard_;
    QPushButton *only_, *without_, *exchanged_, *band_;
};

} // namespace gristle::app
