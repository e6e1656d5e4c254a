#pragma once

#include "app/benches/paged_bench.h"
#include "app/models/double_book.h"

namespace gristle::app {

/// Do two performances make width: tight enough, different enough? A page a question.
class DoubleBench : public PagedBench {
    Q_OBJECT
public:
    DoubleBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
    bool isMonoOffered() const override { return true; }
    DoubleBook& book() { return book_; }

signals:
    void playAgain(const core::LayerPath& layer, double fromBar, double toBar);
    void playOther();

private:
    DoubleBook book_;
};

} // namespace gristle::app
