#include "app/benches/level/level_bench.h"

#include "app/benches/level/check_page.h"
#include "app/benches/level/gains_page.h"
#include "app/benches/level/ledger_page.h"
#include "app/benches/level/loading_page.h"
#include "app/benches/level/record_page.h"
#include "app/benches/level/take_page.h"

namespace gristle::app {

using namespace core;

LevelBench::LevelBench(const BenchContext& context, QWidget* parent) : PagedBench(context, tr("Level"), 2, parent)
{
    setPages({new TakePage(context, this), new CheckPage(context, this), new RecordPage(context, this),
              new GainsPage(context, this), new LedgerPage(context, this), new LoadingPage(context, this)});
}

/// The spine tells of the take in hand, whichever page is looked at.
BenchState LevelBench::state() const
{
    if (capture().isBusy()) return {tr("recording \u2026"), false};
    const Take* take = session().isOpen() ? session().take() : nullptr;
    if (!take) return {tr("no take yet"), false};
    const auto found = session().measurements().levelFindings(*take);
    const QString line = severityLine(found);
    if (!line.isEmpty()) return {line, true};
    const auto average = session().measurements().averageDbfs(*take);
    if (!average) return {tr("measuring \u2026"), false};
    return {tr("%1 dBFS, ready").arg(QString::fromStdString(figureText(*average))), false};
}

} // namespace gristle::app
