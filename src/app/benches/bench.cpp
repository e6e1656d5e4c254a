#include "app/benches/bench.h"

namespace gristle::app {

QString severityLine(const std::vector<core::Finding>& findings)
{
    const int stops = core::countOf(findings, core::Severity::Stop),
              fixes = core::countOf(findings, core::Severity::Fix);
    if (stops > 0) return Bench::tr("%1 must be mended").arg(stops);
    if (fixes > 0) return Bench::tr("%1 to fix").arg(fixes);
    return {};
}

} // namespace gristle::app
