#include "core/measure/stereo_measure.h"

#include "core/signal/window.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

// IEC 61260-1 nominal mid-band frequencies; the exact ones are 1000 * 10^(k / 10), the borders 10^(1/20) away.
constexpr double kNominal[] = {25,   31.5, 40,   50,   63,   80,   100,   125,   160,   200,
                               250,  315,  400,  500,  630,  800,  1000,  1250,  1600,  2000,
                               2500, 3150, 4000, 5000, 6300, 8000, 10000, 12500, 16000, 20000};
constexpr int kFirstIndex = -16; // 25 Hz = 1000 * 10^(-16/10)

/// Below this part of the sum of both sides' power, the sum counts as nothing: 24-bit rounding lies there.
constexpr double kNothing = 1e-14;

std::optional<double> monoLoss(double ll, double rr, double lr)
{
    const double sum = ll + rr + 2.0 * lr;
    if (!(ll + rr > 0.0) || sum <= kNothing * (ll + rr)) return std::nullopt;
    return powerToDb((ll + rr) / sum);
}

std::optional<double> correlationOf(double ll, double rr, double lr)
{
    if (!(ll > 0.0) || !(rr > 0.0)) return std::nullopt;
    return std::clamp(lr / std::sqrt(ll * rr), -1.0, 1.0);
}

/// Sum of bins over [lowHz, highHz), bins at the borders counted by the part that lies inside.
double bandSum(const std::vector<double>& bins, double binHz, double lowHz, double highHz)
{
    const auto first = static_cast<std::size_t>(std::max(0.0, std::floor(lowHz / binHz - 0.5)));
    double sum = 0.0;
    for (std::size_t k = first; k < bins.size(); ++k) {
        const double from = (double(k) - 0.5) * binHz, to = from + binHz;
        if (from >= highHz) break;
        const double inside = std::min(to, highHz) - std::max(from, lowHz);
        if (inside > 0.0) sum += bins[k] * inside / binHz;
    }
    return sum;
}

} // namespace

StereoMeter::StereoMeter(double rateHz)
    : rateHz_(rateHz), left_(rateHz, {ChannelRole::Plain}), right_(rateHz, {ChannelRole::Plain}),
      fft_(fastFftSize(static_cast<std::size_t>(rateHz * 0.65))), heldLeft_(fft_.size(), 0.0f),
      heldRight_(fft_.size(), 0.0f), filled_(fft_.size() / 2), binLeft_(fft_.size() / 2 + 1, 0.0),
      binRight_(binLeft_.size(), 0.0), binCross_(binLeft_.size(), 0.0), leftBins_(binLeft_.size())
{
    for (const double w : hannWindow(fft_.size())) window_.push_back(static_cast<float>(w));
}

void StereoMeter::push(std::span<const float> left, std::span<const float> right)
{
    left_.push({left});
    right_.push({right});
    double ll = 0.0, rr = 0.0, lr = 0.0;
    for (std::size_t i = 0; i < left.size(); ++i) {
        const double l = double(left[i]), r = double(right[i]);
        ll += l * l;
        rr += r * r;
        lr += l * r;
    }
    ll_ += ll;
    rr_ += rr;
    lr_ += lr;
    for (std::size_t at = 0; at < left.size();) {
        const std::size_t take = std::min(left.size() - at, fft_.size() - filled_);
        std::copy_n(left.begin() + long(at), take, heldLeft_.begin() + long(filled_));
        std::copy_n(right.begin() + long(at), take, heldRight_.begin() + long(filled_));
        filled_ += take;
        at += take;
        anything_ = true;
        if (filled_ == fft_.size()) transform();
    }
}

void StereoMeter::transform()
{
    const std::size_t n = fft_.size();
    for (std::size_t i = 0; i < n; ++i) fft_.time()[i] = heldLeft_[i] * window_[i];
    fft_.forward();
    std::ranges::copy(fft_.spectrum(), leftBins_.begin());
    for (std::size_t i = 0; i < n; ++i) fft_.time()[i] = heldRight_[i] * window_[i];
    fft_.forward();
    const auto right = fft_.spectrum();
    for (std::size_t k = 0; k < leftBins_.size(); ++k) {
        const std::complex<double> l(leftBins_[k]), r(right[k]);
        binLeft_[k] += std::norm(l);
        binRight_[k] += std::norm(r);
        binCross_[k] += l.real() * r.real() + l.imag() * r.imag();
    }
    for (auto* held : {&heldLeft_, &heldRight_}) std::copy_n(held->begin() + long(n / 2), n / 2, held->begin());
    filled_ = n / 2;
    anything_ = false;
}

StereoResult StereoMeter::result()
{
    while (anything_) { // the last, unfinished block, and one more half so that the end has its full weight
        for (auto* held : {&heldLeft_, &heldRight_}) std::fill(held->begin() + long(filled_), held->end(), 0.0f);
        const bool more = filled_ > fft_.size() / 2;
        transform();
        anything_ = false;
        if (!more) break;
    }
    StereoResult out;
    out.correlation = correlationOf(ll_, rr_, lr_);
    out.monoLossDb = monoLoss(ll_, rr_, lr_);
    if (ll_ + rr_ > 0.0) out.width = (ll_ + rr_ - 2.0 * lr_) / (2.0 * (ll_ + rr_));
    const auto left = left_.result().integratedLufs, right = right_.result().integratedLufs;
    if (left && right && out.correlation) out.balanceDb = *right - *left;
    const double binHz = rateHz_ / double(fft_.size());
    const double border = std::pow(10.0, 0.05);
    for (std::size_t i = 0; i < std::size(kNominal); ++i) {
        const double centre = 1000.0 * std::pow(10.0, (double(i) + kFirstIndex) / 10.0);
        if (centre * border > rateHz_ / 2.0) break;
        const auto sum = [&](const std::vector<double>& bins) {
            return bandSum(bins, binHz, centre / border, centre * border);
        };
        const double ll = sum(binLeft_), rr = sum(binRight_), lr = sum(binCross_);
        out.bands.push_back({kNominal[i], correlationOf(ll, rr, lr), monoLoss(ll, rr, lr)});
    }
    return out;
}

Result<StereoResult> measureStereo(const std::filesystem::path& path, const Progress& progress)
{
    auto reader = AudioReader::open(path);
    if (!reader) return reader.error();
    if (reader->info().channels != 2)
        return Error{ErrorCode::Unsupported,
                     path.filename().string() + ": it has " + std::to_string(reader->info().channels) +
                         (reader->info().channels == 1 ? " channel" : " channels") + " and two are needed",
                     "name a stereo file"};
    StereoMeter meter(reader->info().sampleRateHz);
    AudioBuffer block;
    for (std::int64_t done = 0;;) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, path.filename().string() + ": stopped", ""};
        const auto got = reader->read(block, 16384);
        if (!got) return got.error();
        if (*got == 0) break;
        meter.push(std::as_const(block).channel(0), std::as_const(block).channel(1));
        done += std::int64_t(*got);
        progress.at(double(done) / double(reader->info().frames));
    }
    return meter.result();
}

} // namespace gristle::core
