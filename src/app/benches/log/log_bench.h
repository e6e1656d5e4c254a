#pragma once

#include "app/benches/bench.h"
#include "app/benches/log/log_model.h"
#include "app/models/session_task.h"

#include <QTimer>

class QLineEdit;
class QLabel;
class QTableView;
class QTextBrowser;

namespace gristle::app {

/// What was set, when, and what changed since; a sheet to set it up again.
class LogBench : public Bench {
    Q_OBJECT
public:
    LogBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
    BenchFindings findings() const override;
    AuditionRequest audition() const override { return {}; }
    QString sheetHtml() const;
    void focusNote();
    bool isBusy() const override { return layOut_.isBusy(); }

signals:
    void saveSheet();
    void printSheet();
    void saveCsv();

protected:
    void showEvent(QShowEvent*) override;

private:
    void later(); ///< many changes, one refresh; none while nobody looks
    void refresh();
    std::vector<core::LayerReading> readings(bool partOnly) const;
    void showSheet();
    QTimer timer_;
    QTimer sheetTimer_;
    QTimer fitTimer_; ///< rows are as high as their sentences want
    QString shownHtml_;
    SessionTask layOut_;
    LogModel* model_;
    QTableView* table_;
    QLabel* sheetTitle_;
    QTextBrowser* sheet_;
    QLineEdit* note_;
};

} // namespace gristle::app
