#pragma once

#include "app/benches/bench.h"

namespace gristle::app {

/// All benches that work, in the order of the job. A new bench is one line there.
std::vector<Bench*> makeBenches(const BenchContext& context, QWidget* parent);

} // namespace gristle::app
