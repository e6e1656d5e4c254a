#include "app/benches/cab/cab_bench.h"

#include "app/benches/cab/align_page.h"
#include "app/benches/cab/impulses_page.h"
#include "app/benches/cab/make_page.h"
#include "app/benches/cab/place_page.h"
#include "app/benches/cab/sweep_page.h"

namespace gristle::app {

CabBench::CabBench(const BenchContext& context, QWidget* parent) : PagedBench(context, tr("Cab"), 4, parent)
{
    auto* impulses = new ImpulsesPage(context, this);
    auto* make = new MakePage(context, this);
    connect(impulses, &ImpulsesPage::wantedInBlend, make, [this, make](const QString& file) {
        make->addPart(file);
        showPage(make->name());
    });
    setPages(
        {new AlignPage(context, this), impulses, make, new SweepPage(context, this), new PlacePage(context, this)});
}

/// The spine tells whether the microphones of the part in hand agree, whichever page is looked at.
BenchState CabBench::state() const { return page<AlignPage>()->state(); }

} // namespace gristle::app
