#include "app/shell/bench_list.h"

#include "app/benches/blend/blend_bench.h"
#include "app/benches/cab/cab_bench.h"
#include "app/benches/double/double_bench.h"
#include "app/benches/level/level_bench.h"
#include "app/benches/log/log_bench.h"
#include "app/benches/rig/rig_bench.h"
#include "app/benches/take/take_bench.h"

namespace gristle::app {

std::vector<Bench*> makeBenches(const BenchContext& context, QWidget* parent)
{
    return {new LevelBench(context, parent), new RigBench(context, parent),    new CabBench(context, parent),
            new TakeBench(context, parent),  new DoubleBench(context, parent), new BlendBench(context, parent),
            new LogBench(context, parent)};
}

} // namespace gristle::app
