#include "app/benches/double/double_bench.h"

#include "app/benches/double/copies_page.h"
#include "app/benches/double/offsets_page.h"
#include "app/benches/double/pairs_page.h"
#include "app/benches/double/sides_page.h"

namespace gristle::app {

using namespace core;

DoubleBench::DoubleBench(const BenchContext& context, QWidget* parent)
    : PagedBench(context, tr("Double"), 6, parent), book_(context.session)
{
    auto* offsets = new OffsetsPage(context, book_, this);
    connect(offsets, &OffsetsPage::playAgain, this, &DoubleBench::playAgain);
    connect(offsets, &OffsetsPage::playOther, this, &DoubleBench::playOther);
    setPages(
        {offsets, new PairsPage(context, this), new SidesPage(context, book_, this), new CopiesPage(context, this)});
}

BenchState DoubleBench::state() const
{
    if (!book_.second()) return {tr("one layer"), false};
    if (book_.isBusy()) return {tr("comparing \u2026"), false};
    if (!book_.pair()) return {tr("not compared"), false};
    const DoubleTake& t = *book_.pair();
    if (t.semitonesHigher != 0) return {tr("another pitch"), true};
    if (t.isUnrelated) return {tr("two parts"), true};
    if (book_.isOnePerformance()) return {tr("one performance"), false};
    if (t.isCopy) return {tr("a copy"), true};
    if (const QString line = severityLine(book_.findings()); !line.isEmpty()) return {line, true};
    return {tr("%1 ms apart").arg(QString::fromStdString(figureText(t.offsetSdMs))), false};
}

} // namespace gristle::app
