#include "core/units/bar_grid.h"

#include "core/units/number_text.h"

#include <algorithm>
#include <cmath>
#include <optional>

namespace gristle::core {

namespace {

struct Fraction {
    double over = 4.0, under = 4.0;
};

Fraction fractionOf(const std::string& meter)
{
    const auto slash = meter.find('/');
    if (slash == std::string::npos) return {};
    const auto over = parseNumber(meter.substr(0, slash)), under = parseNumber(meter.substr(slash + 1));
    return over && under && *over > 0.0 && *under > 0.0 ? Fraction{*over, *under} : Fraction{};
}

/// The last entry that begins at or before a place; the first one for what lies before all.
template<typename T, typename Key> const T& lastUpTo(const std::vector<T>& list, double place, Key T::*key)
{
    const auto after = std::ranges::upper_bound(list, place, {}, key);
    return after == list.begin() ? list.front() : *std::prev(after);
}

} // namespace

double quartersOfMeter(const std::string& meter)
{
    const Fraction f = fractionOf(meter);
    return f.over * 4.0 / f.under;
}

double quartersOfBeat(const std::string& meter)
{
    const Fraction f = fractionOf(meter);
    const bool isCompound = f.under == 8.0 && f.over > 3.0 && std::fmod(f.over, 3.0) == 0.0;
    return (isCompound ? 3.0 : 1.0) * 4.0 / f.under;
}

BarGrid::BarGrid(double bpm, const std::string& meter, const std::vector<TempoChange>& tempos,
                 const std::vector<MeterChange>& meters)
{
    auto sortedTempos = tempos;
    std::ranges::stable_sort(sortedTempos, {}, &TempoChange::quarter);
    tempos_.push_back({0.0, 0.0, bpm});
    for (const TempoChange& t : sortedTempos) {
        Tempo& last = tempos_.back();
        if (t.quarter <= last.quarter)
            last.bpm = t.bpm;
        else
            tempos_.push_back({t.quarter, last.seconds + (t.quarter - last.quarter) * 60.0 / last.bpm, t.bpm});
    }
    auto sortedMeters = meters;
    std::ranges::stable_sort(sortedMeters, {}, &MeterChange::bar);
    meters_.push_back({1.0, 0.0, quartersOfMeter(meter), quartersOfBeat(meter)});
    for (const MeterChange& m : sortedMeters) {
        Meter& last = meters_.back();
        if (m.bar <= last.bar)
            last.quarters = quartersOfMeter(m.meter), last.beat = quartersOfBeat(m.meter);
        else
            meters_.push_back({double(m.bar), last.quarter + (m.bar - last.bar) * last.quarters,
                               quartersOfMeter(m.meter), quartersOfBeat(m.meter)});
    }
}

const BarGrid::Meter& BarGrid::meterOfBar(double bar) const { return lastUpTo(meters_, bar, &Meter::bar); }
const BarGrid::Meter& BarGrid::meterOfQuarter(double q) const { return lastUpTo(meters_, q, &Meter::quarter); }

double BarGrid::quarterOfBar(double bar) const
{
    const Meter& m = meterOfBar(bar);
    return m.quarter + (bar - m.bar) * m.quarters;
}

double BarGrid::secondsOfQuarter(double quarter) const
{
    const Tempo& t = lastUpTo(tempos_, quarter, &Tempo::quarter);
    return t.seconds + (quarter - t.quarter) * 60.0 / t.bpm;
}

double BarGrid::quarterAt(double seconds) const
{
    const Tempo& t = lastUpTo(tempos_, seconds, &Tempo::seconds);
    return t.quarter + (seconds - t.seconds) * t.bpm / 60.0;
}

double BarGrid::bpmAt(double seconds) const { return lastUpTo(tempos_, seconds, &Tempo::seconds).bpm; }
double BarGrid::secondsOfBar(double bar) const { return secondsOfQuarter(quarterOfBar(bar)); }

double BarGrid::barAt(double seconds) const
{
    const double quarter = quarterAt(seconds);
    const Meter& m = meterOfQuarter(quarter);
    return m.bar + (quarter - m.quarter) / m.quarters;
}

std::vector<BarGrid::Beat> BarGrid::beats(double fromS, double toS) const
{
    constexpr double kSame = 1e-6; // quarters, or parts of a bar
    std::vector<Beat> out;
    for (double bar = std::floor(barAt(fromS) + kSame);; bar += 1.0) {
        const Meter& m = meterOfBar(bar);
        const double first = quarterOfBar(bar);
        for (double q = 0.0; q < m.quarters - kSame; q += m.beat) {
            const double at = secondsOfQuarter(first + q);
            if (at >= toS - 1e-9) return out;
            if (at >= fromS - 1e-9) out.push_back({at, q == 0.0});
        }
    }
}

} // namespace gristle::core
