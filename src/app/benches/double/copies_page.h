#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "app/widgets/plot.h"
#include "core/stereo/copy_delay.h"

namespace gristle::app {

class FigureBox;

/// What mono loses over the delay between two sides of one performance.
class DelayPlot : public PlotWidget {
    Q_OBJECT
public:
    explicit DelayPlot(QWidget* parent);
    void setCurve(std::vector<core::CopyDelay> curve, double chosenMs, std::optional<double> measuredDb);

signals:
    void choose(double ms);

protected:
    void drawStill(QPainter& p) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

private:
    PlotArea area() const;
    std::vector<core::CopyDelay> curve_;
    double chosen_ = 0.0;
    std::optional<double> measured_;
};

/// Where one performance must look like two: the delay of its second side with the least loss in mono, for this part
/// and its key, predicted; then made as a layer, and measured.
class CopiesPage : public BenchPage {
    Q_OBJECT
public:
    CopiesPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return task_.isBusy() || measure_.isBusy(); }
    std::optional<double> predictedDb() const;
    const std::optional<double>& measuredDb() const { return measured_; }

protected:
    void showEvent(QShowEvent*) override;

private:
    void look();
    void measure();
    void fill();
    void make();

    SessionTask task_{session()}, measure_{session()};
    std::string of_; ///< what is told, or being looked at: its soundKey()
    std::vector<core::CopyDelay> curve_;
    std::optional<double> best_, measured_;
    double ms_ = 0.0;
    QString trouble_;
    QLabel *sentence_, *about_;
    DelayPlot* plot_;
    FigureBox* delay_;
    QPushButton *make_, *useBest_;
};

} // namespace gristle::app
