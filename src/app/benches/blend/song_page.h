#pragma once

#include "app/benches/bench_page.h"
#include "app/benches/blend/song_sum.h"

class QDoubleSpinBox;
class QLineEdit;
class QTableWidget;

namespace gristle::app {

class SongPlot;

/// The song from its beginning to its end: loudness, peaks, width and mono by section.
class SongPage : public BenchPage {
    Q_OBJECT
public:
    SongPage(const BenchContext& context, SongSum& sum, QWidget* parent);
    BenchFindings findings() const override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return sum_.isBusy(); }

protected:
    void showEvent(QShowEvent*) override { refresh(); }

private:
    void build();
    void refresh();
    void show();
    void fillTable(const std::vector<core::SectionSpan>& spans);
    QString sentence() const;
    void change(const QString& text, const std::function<core::Outcome(core::Song&)>& work);
    int chosen() const;

    SongSum& sum_;
    QLabel* sentence_;
    SongPlot* plot_;
    QTableWidget* table_;
    QLineEdit* name_;
    QDoubleSpinBox* bar_;
    QPushButton* remove_;
    bool refreshing_ = false;
};

} // namespace gristle::app
