#pragma once

#include "app/benches/bench.h"

#include <QTimer>

class QLineEdit;
class QTableWidget;
class QTextBrowser;

namespace gristle::app {

/// What was set, when, and what changed since; a sheet to set it up again.
class LogBench : public Bench {
    Q_OBJECT
public:
    LogBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
    void findings(FindingsPanel& panel) const override;
    AuditionRequest audition() const override { return {}; }
    QString sheetHtml() const;
    void focusNote();

signals:
    void saveSheet();
    void printSheet();
    void saveCsv();

protected:
    void showEvent(QShowEvent*) override;

private:
    void later(); ///< many changes, one refresh; none while nobody looks
    void refresh();
    void fillTable(const std::vector<core::LogEntry>& entries);
    QTimer timer_;
    QString shownHtml_;
    QTableWidget* table_;
    QTextBrowser* sheet_;
    QLineEdit* note_;
    std::size_t entries_ = 0;
};

} // namespace gristle::app
