#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "engine/runs/sweep_run.h"

#include <map>
#include <set>

class QComboBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QTableWidget;

namespace gristle::app {

class ComparePlot;
class FigureBox;
class ProgressLine;

/// What does this amplifier, loudspeaker and room do? A sweep out of the interface, quietly first, and an impulse of
/// every microphone; or from files that were recorded elsewhere.
class SweepPage : public BenchPage {
    Q_OBJECT
public:
    SweepPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return capture().deviceTask().isBusy() || files_.isBusy(); }
    const std::optional<engine::SweepRun>& taken() const { return run_; }
    /// Ask for the sweep, what was recorded of it, and where the sweep is written; tests answer for them.
    std::function<QString()> askSweep, askSave;
    std::function<QStringList()> askRecordings;

protected:
    void showEvent(QShowEvent*) override;

private:
    void build();
    void refresh();
    void fillTable();
    void tell();
    engine::SweepPlan plan() const;
    void play(bool isQuiet);
    void fromFiles();
    void writeSweep();
    void keep(bool intoRig);
    bool mayBeLoud() const; ///< a quiet one has shown that nothing will clip
    std::vector<std::size_t> chosenInputs() const;
    QString nameOf(std::size_t row) const;

    QTableWidget* table_;
    QLabel* sentence_;
    ComparePlot* plot_;
    ProgressLine* progress_;
    FigureBox *seconds_, *times_, *level_, *length_;
    QComboBox *side_, *into_;
    QLineEdit *name_, *notes_;
    QPushButton *quiet_, *sweep_, *stop_, *keep_, *intoRig_;
    std::map<std::size_t, QString> names_; ///< of inputs
    std::set<std::size_t> inputs_{0};      ///< that are listened to
    bool areInputsChosen_ = false;         ///< by hand; else those of the simulated microphones
    std::optional<engine::SweepRun> run_;
    std::vector<std::size_t> of_; ///< inputs that run_ is of; of files, their number
    QStringList fileNames_;       ///< where run_ is of files
    bool isQuiet_ = false;
    QString trouble_;
    SessionTask files_{session()};
    bool refreshing_ = false;
};

} // namespace gristle::app
