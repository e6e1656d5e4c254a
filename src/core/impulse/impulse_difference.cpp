#include "core/impulse/impulse_difference.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kLowHz = 60.0, kHighHz = 12000.0;
constexpr double kToldDb = 1.5;
constexpr double kLeastOctaves = 0.33;
constexpr std::size_t kMostBands = 4;

/// As people say it: 63, 120, 2.5 kHz.
std::string hertz(double hz)
{
    if (hz >= 1000.0) return fmt::format("{:g} kHz", std::round(hz / 100.0) / 10.0);
    return fmt::format("{:g} Hz", std::round(hz / 10.0) * 10.0);
}

/// What more of a band is called by those who listen.
const char* more(double hz)
{
    return hz < 120.0    ? "deeper"
           : hz < 500.0  ? "fuller"
           : hz < 1500.0 ? "more"
           : hz < 5000.0 ? "more forward"
                         : "brighter";
}

} // namespace

std::vector<ResponsePoint> differenceOf(const std::vector<ResponsePoint>& response,
                                        const std::vector<ResponsePoint>& zero)
{
    std::vector<ResponsePoint> out;
    std::vector<double> heard;
    for (std::size_t i = 0; i < std::min(response.size(), zero.size()); ++i) {
        out.push_back({zero[i].hz, response[i].db - zero[i].db});
        if (zero[i].hz >= 80.0 && zero[i].hz <= 8000.0) heard.push_back(out.back().db);
    }
    if (heard.empty()) return out;
    std::ranges::nth_element(heard, heard.begin() + long(heard.size() / 2));
    for (ResponsePoint& p : out) p.db -= heard[heard.size() / 2];
    return out;
}

std::vector<DifferenceBand> bandsOf(const std::vector<ResponsePoint>& difference)
{
    std::vector<DifferenceBand> out;
    const auto side = [](double db) { return db > kToldDb ? 1 : db < -kToldDb ? -1 : 0; };
    for (std::size_t i = 0; i < difference.size();) {
        const int s = difference[i].hz < kLowHz || difference[i].hz > kHighHz ? 0 : side(difference[i].db);
        std::size_t end = i + 1;
        if (s != 0) {
            double sum = difference[i].db;
            while (end < difference.size() && difference[end].hz <= kHighHz && side(difference[end].db) == s)
                sum += difference[end++].db;
            const DifferenceBand band{difference[i].hz, difference[end - 1].hz, sum / double(end - i)};
            if (std::log2(band.toHz / band.fromHz) >= kLeastOctaves) out.push_back(band);
        }
        i = end;
    }
    const auto weight = [](const DifferenceBand& b) { return std::abs(b.db) * std::log2(b.toHz / b.fromHz); };
    std::ranges::stable_sort(out, std::greater{}, weight);
    if (out.size() > kMostBands) out.resize(kMostBands);
    return out;
}

std::string differenceWords(const std::vector<ResponsePoint>& difference, std::size_t most)
{
    std::string out;
    for (const DifferenceBand& b : bandsOf(difference)) {
        if (most-- == 0) break;
        const double middle = std::sqrt(b.fromHz * b.toHz);
        const bool fromLow = b.fromHz<kLowHz * 1.1, toHigh = b.toHz> kHighHz / 1.1;
        const std::string where = fromLow && toHigh ? "everywhere"
                                  : fromLow         ? "below " + hertz(b.toHz)
                                  : toHigh          ? "above " + hertz(b.fromHz)
                                                    : "at " + hertz(b.fromHz) + " to " + hertz(b.toHz);
        out += fmt::format("{}{:.0f} dB {} {}", out.empty() ? "" : ", ", std::abs(b.db),
                           b.db > 0.0 ? more(middle) : "less", where);
    }
    return out.empty() ? "alike within 1.5 dB" : out;
}

} // namespace gristle::core
