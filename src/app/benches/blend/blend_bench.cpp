#include "app/benches/blend/blend_bench.h"

#include "app/benches/blend/places_page.h"
#include "app/benches/blend/song_page.h"
#include "app/benches/blend/song_sum.h"
#include "app/benches/blend/sums_page.h"

namespace gristle::app {

BlendBench::BlendBench(const BenchContext& context, QWidget* parent)
    : PagedBench(context, tr("Blend"), 7, parent), song_(new SongSum(context.session, this)),
      places_(new PlacesPage(context, this))
{
    setPages({places_, new SumsPage(context, *song_, this), new SongPage(context, *song_, this)});
}

BenchState BlendBench::state() const { return places_->state(); }

const std::optional<core::MixReport>& BlendBench::report() const { return places_->report(); }

} // namespace gristle::app
