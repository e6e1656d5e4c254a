#pragma once

#include "app/benches/paged_bench.h"

namespace gristle::app {

/// Which microphone where, which impulse; do the microphones agree in time and polarity?
class CabBench : public PagedBench {
    Q_OBJECT
public:
    CabBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
    bool isMonoOffered() const override { return true; }
};

} // namespace gristle::app
