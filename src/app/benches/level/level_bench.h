#pragma once

#include "app/benches/paged_bench.h"

namespace gristle::app {

/// Is this DI captured right: gain, headroom, noise, hum, loading? Pages from the take in hand to the guitar itself.
class LevelBench : public PagedBench {
    Q_OBJECT
public:
    LevelBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
};

} // namespace gristle::app
