#include "core/measure/rest_spectra.h"

#include "core/signal/fft.h"
#include "core/signal/window.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kWindowS = 0.25, kMostRestS = 30.0, kMostPlayS = 10.0;
constexpr double kLowestHz = 25.0, kHighestHz = 20000.0, kBandsAnOctave = 12.0;

/// Mean power spectrum of stretches of samples.
class Welch {
public:
    explicit Welch(double rateHz)
        : fft_(fastFftSize(std::size_t(kWindowS * rateHz))), window_(hannWindow(fft_.size())),
          power_(fft_.size() / 2 + 1)
    {}
    void push(const std::vector<float>& x)
    {
        const std::size_t n = fft_.size();
        for (std::size_t at = 0; at + n <= x.size(); at += n / 2) {
            for (std::size_t i = 0; i < n; ++i) fft_.time()[i] = x[at + i] * static_cast<float>(window_[i]);
            fft_.forward();
            for (std::size_t k = 0; k < power_.size(); ++k) power_[k] += double(std::norm(fft_.spectrum()[k]));
            ++count_;
        }
    }
    /// Levels of bands, AES17.
    std::vector<double> bands(const std::vector<double>& middlesHz, double rateHz) const
    {
        if (count_ == 0) return {};
        double squares = 0.0;
        for (const double w : window_) squares += w * w;
        const double n = double(fft_.size());
        std::vector<double> upTo(power_.size() + 1, 0.0); // power below the lower edge of each bin
        for (std::size_t k = 1; k < power_.size(); ++k) upTo[k + 1] = upTo[k] + power_[k];
        const auto below = [&](double hz) {
            const double bin = std::clamp(hz / rateHz * n + 0.5, 0.0, double(power_.size()));
            const auto k = std::min(std::size_t(bin), power_.size() - 1);
            return upTo[k] + (bin - double(k)) * (upTo[k + 1] - upTo[k]);
        };
        const double edge = std::exp2(0.5 / kBandsAnOctave);
        std::vector<double> out;
        for (const double hz : middlesHz) {
            // One-sided, so each bin counts twice; over the mean square of the window; a sine of 1.0 has half of 1.
            const double meanSquare = 2.0 * (below(hz * edge) - below(hz / edge)) / (n * squares * double(count_));
            out.push_back(powerToDb(2.0 * meanSquare));
        }
        return out;
    }

private:
    RealFft fft_;
    std::vector<double> window_;
    std::vector<double> power_;
    std::size_t count_ = 0;
};

Outcome pushStretches(const HopTrack& track, const std::vector<Stretch>& stretches, double mostS,
                      const SampleSource& source, Welch& into)
{
    double left = mostS;
    for (const Stretch& s : stretches) {
        if (left <= 0.0) break;
        const auto hops = std::min(s.count, std::size_t(left / HopTrack::kHopS) + 1);
        const std::int64_t from = track.hopStart(s.first);
        const auto samples = source(from, track.hopStart(s.first + hops) - from);
        if (!samples) return samples.error();
        into.push(*samples);
        left -= double(hops) * HopTrack::kHopS;
    }
    return Done{};
}

std::vector<Stretch> stretchesOf(const std::vector<bool>& playing)
{
    std::vector<Stretch> out;
    for (std::size_t i = 0; i < playing.size(); ++i) {
        if (!playing[i]) continue;
        if (i > 0 && playing[i - 1])
            ++out.back().count;
        else
            out.push_back({i, 1});
    }
    return out;
}

} // namespace

Result<RestSpectra> restSpectra(const HopTrack& track, const NoiseResult& noise, const SampleSource& source)
{
    RestSpectra out;
    if (noise.rests.empty()) return out;
    const double rate = track.rateHz(), highest = std::min(kHighestHz, 0.45 * rate);
    for (double hz = kLowestHz; hz <= highest; hz *= std::exp2(1.0 / kBandsAnOctave)) out.hz.push_back(hz);
    Welch rest(rate), play(rate);
    if (const auto read = pushStretches(track, noise.rests, kMostRestS, source, rest); !read) return read.error();
    if (const auto read = pushStretches(track, stretchesOf(noise.playing), kMostPlayS, source, play); !read)
        return read.error();
    out.restDbfs = rest.bands(out.hz, rate);
    out.playDbfs = play.bands(out.hz, rate);
    if (out.restDbfs.empty()) return RestSpectra{};
    return out;
}

} // namespace gristle::core
