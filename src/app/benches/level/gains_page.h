#pragma once

#include "app/benches/bench_page.h"
#include "core/session/gain_book.h"

class QCheckBox;
class QTableWidget;

namespace gristle::app {

/// The gain book, over all sessions: which gain was right for which guitar, with what, and why a level had moved.
class GainsPage : public BenchPage {
    Q_OBJECT
public:
    GainsPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;

protected:
    void showEvent(QShowEvent*) override;

private:
    void refresh();

    QCheckBox* onlyThis_;
    QTableWidget* table_;
    QLabel *sentence_, *details_;
};

} // namespace gristle::app
