#include "core/timing/onset_rise.h"

#include "core/signal/fft.h"
#include "core/signal/window.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kHopS = 0.004;
constexpr double kShortS = 0.021, kLongS = 0.064;
constexpr double kShortPerOctave = 10.0, kLongPerOctave = 24.0;
constexpr double kLowHz = 70.0, kHighHz = 14000.0;
constexpr double kUnderLoudest = 1e-7; // what is softer rises by nothing
constexpr float kRises = 0.4f;         // log10 of power: 4 dB

/// The levels of bands of logarithmic width, no narrower than a bin, frame by frame; the last ones are kept.
class BandLevels {
public:
    /// @param loudest  mean square of a loud stretch
    BandLevels(std::span<const float> x, double rateHz, double windowS, double perOctave, std::size_t kept,
               double loudest)
        : x_(x), fft_(fastFftSize(std::size_t(windowS * rateHz))), logs_(kept + 1)
    {
        const std::size_t n = fft_.size();
        for (const double w : hannWindow(n)) window_.push_back(float(w));
        const double perHz = double(n) / rateHz, top = std::min(kHighHz, 0.45 * rateHz);
        std::size_t from = std::max<std::size_t>(1, std::size_t(kLowHz * perHz));
        for (double hz = kLowHz; hz < top;) {
            hz *= std::exp2(1.0 / perOctave);
            const auto to = std::max(from + 1, std::size_t(std::llround(hz * perHz)));
            if (std::size_t(hz * perHz) < from) continue;
            bands_.emplace_back(from, std::min(to, n / 2));
            from = to;
            hz = std::max(hz, double(to) / perHz);
        }
        for (auto& frame : logs_) frame.assign(bands_.size(), 0.0f);
        floor_ = float(kUnderLoudest * loudest * double(n * n) * 0.1 + 1e-20);
    }

    /// Takes the window around a sample as the next frame.
    void next(std::int64_t middle)
    {
        const auto n = std::int64_t(fft_.size()), from = middle - n / 2;
        const auto first = std::clamp<std::int64_t>(-from, 0, n),
                   last = std::clamp<std::int64_t>(std::int64_t(x_.size()) - from, first, n);
        const auto time = fft_.time();
        std::fill_n(time.begin(), first, 0.0f);
        const float* const x = x_.data() + from;
        for (std::int64_t k = first; k < last; ++k) time[std::size_t(k)] = window_[std::size_t(k)] * x[k];
        std::fill(time.begin() + last, time.end(), 0.0f);
        fft_.forward();
        const auto spectrum = fft_.spectrum();
        auto& now = logs_[count_++ % logs_.size()];
        for (std::size_t b = 0; b < bands_.size(); ++b) {
            float sum = 0.0f;
            for (std::size_t k = bands_[b].first; k < bands_[b].second; ++k) sum += std::norm(spectrum[k]);
            now[b] = std::log10(sum / float(bands_[b].second - bands_[b].first) + floor_);
        }
    }

    struct Rise {
        float mean = 0.0f, share = 0.0f;
    };
    /// Of the last frame over the one so many before.
    Rise over(std::size_t back) const
    {
        if (count_ <= back) return {};
        const auto& now = logs_[(count_ - 1) % logs_.size()];
        const auto& before = logs_[(count_ - 1 - back) % logs_.size()];
        Rise out;
        for (std::size_t b = 0; b < now.size(); ++b) {
            float most = before[b];
            if (b > 0) most = std::max(most, before[b - 1]);
            if (b + 1 < now.size()) most = std::max(most, before[b + 1]);
            const float by = now[b] - most;
            out.mean += std::max(0.0f, by), out.share += by > kRises;
        }
        out.mean /= float(now.size()), out.share /= float(now.size());
        return out;
    }

private:
    std::span<const float> x_;
    RealFft fft_;
    std::vector<float> window_;
    std::vector<std::pair<std::size_t, std::size_t>> bands_;
    std::vector<std::vector<float>> logs_;
    std::size_t count_ = 0;
    float floor_ = 0.0f;
};

/// Mean square of the loudest so many hops in a row.
double loudestOf(std::span<const float> x, std::size_t hop, std::size_t hops)
{
    std::vector<double> sums{0.0};
    for (std::size_t at = 0; at < x.size(); at += hop) {
        double sum = 0.0;
        for (const float v : x.subspan(at, std::min(hop, x.size() - at))) sum += double(v) * double(v);
        sums.push_back(sums.back() + sum);
    }
    double most = 0.0;
    for (std::size_t i = 1; i < sums.size(); ++i)
        most = std::max(most, (sums[i] - sums[i > hops ? i - hops : 0]) / double(hops * hop));
    return most;
}

} // namespace

OnsetRise onsetRise(std::span<const float> x, double rateHz)
{
    const std::size_t hop = std::size_t(kHopS * rateHz), frames = x.size() / hop + 1;
    OnsetRise out;
    out.hopS = double(hop) / rateHz;
    out.loudest = loudestOf(x, hop, std::size_t(kShortS / kHopS));
    BandLevels narrow(x, rateHz, kShortS, kShortPerOctave, 10, out.loudest);
    BandLevels wide(x, rateHz, kLongS, kLongPerOctave, 4, out.loudest);
    for (std::size_t f = 0; f < frames; ++f) {
        narrow.next(std::int64_t(f * hop));
        out.short12.push_back(narrow.over(3).mean);
        out.short24.push_back(narrow.over(6).mean);
        out.short40.push_back(narrow.over(10).mean);
        if (f % 2 == 0) { // twice as slow
            wide.next(std::int64_t(f * hop));
            const auto rise = wide.over(4);
            out.long32.push_back(rise.mean), out.longShare.push_back(rise.share);
        } else {
            out.long32.push_back(out.long32.back()), out.longShare.push_back(out.longShare.back());
        }
    }
    return out;
}

} // namespace gristle::core
