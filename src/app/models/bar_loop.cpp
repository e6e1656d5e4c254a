#include "app/models/bar_loop.h"

#include "app/models/session_model.h"

namespace gristle::app {

void BarLoop::set(double fromBar, double toBar)
{
    from_ = std::max(1.0, fromBar);
    to_ = std::max(from_ + 0.25, toBar);
    emit session_.loopChanged();
}

double BarLoop::fromS() const { return session_.grid().secondsOfBar(from_); }
double BarLoop::toS() const { return session_.grid().secondsOfBar(to_); }
double BarLoop::barSeconds() const { return session_.grid().barSeconds(from_); }

double BarLoop::beatSeconds() const
{
    const std::string meter = session_.song() ? session_.song()->meter : "4/4";
    return barSeconds() / core::quartersOfMeter(meter) * core::quartersOfBeat(meter);
}

} // namespace gristle::app
