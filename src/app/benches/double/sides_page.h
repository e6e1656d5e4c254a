#pragma once

#include "app/benches/bench_page.h"
#include "app/models/double_book.h"
#include "app/models/session_task.h"
#include "app/widgets/plot.h"
#include "core/actions/compare_sides.h"

class QTableWidget;

namespace gristle::app {

/// The colour of both sides over each other.
class ColourPlot : public PlotWidget {
    Q_OBJECT
public:
    explicit ColourPlot(QWidget* parent);
    void clear();
    void setSides(const core::SideSound& first, const core::SideSound& second, const QString& firstName,
                  const QString& secondName);

protected:
    void drawStill(QPainter& p) override;

private:
    bool has_ = false;
    core::SideSound first_, second_;
    QString firstName_, secondName_;
};

/// How alike the two sides sound through their rigs: which has the attack and which the low end, what their sum keeps,
/// and what they would be with their rigs exchanged.
class SidesPage : public BenchPage {
    Q_OBJECT
public:
    SidesPage(const BenchContext& context, DoubleBook& book, QWidget* parent);
    BenchFindings findings() const override;
    bool isBusy() const override { return task_.isBusy(); }

protected:
    void showEvent(QShowEvent*) override;

private:
    void look();
    void fill();
    void exchangeRigs();

    DoubleBook& book_;
    SessionTask task_{session()};
    std::string of_; ///< what is told, or being looked at: soundKey() of both
    core::ComparedSides sides_;
    QLabel *sentence_, *about_;
    ColourPlot* plot_;
    QTableWidget* table_;
    QPushButton* exchange_;
};

} // namespace gristle::app
