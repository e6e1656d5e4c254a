#include "core/stereo/complement.h"

#include "core/signal/biquad.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace gristle::core {

namespace {

constexpr double kAloneS = 0.16;
constexpr double kFirstThirdHz = 80.0;

double medianOf(std::vector<double> v)
{
    if (v.empty()) return 0.0;
    std::ranges::nth_element(v, v.begin() + long(v.size() / 2));
    return v[v.size() / 2];
}

std::vector<float> band(std::span<const float> x, double lowHz, double highHz, double rateHz)
{
    std::vector<float> out(x.begin(), x.end());
    for (const double q : {0.5412, 1.3066}) { // Butterworth of the fourth order, each side
        Biquad(highPass(lowHz, q, rateHz)).process(out);
        if (highHz < 0.45 * rateHz) Biquad(lowPass(highHz, q, rateHz)).process(out);
    }
    return out;
}

double powerOf(std::span<const float> x, double rateHz, double fromS, double toS)
{
    const auto clamp = [&](double s) { return std::size_t(std::clamp(s * rateHz, 0.0, double(x.size()))); };
    const std::size_t from = clamp(fromS), to = clamp(toS);
    double sum = 0.0;
    for (std::size_t i = from; i < to; ++i) sum += double(x[i]) * double(x[i]);
    return sum / std::max(1.0, double(to - from)) + 1e-15;
}

} // namespace

SideSound soundOfSide(std::span<const float> x, const std::vector<double>& onsetS, double rateHz)
{
    std::vector<double> alone;
    for (std::size_t i = 0; i < onsetS.size(); ++i)
        if (i + 1 == onsetS.size() || onsetS[i + 1] - onsetS[i] >= kAloneS) alone.push_back(onsetS[i]);
    if (alone.empty()) alone = onsetS;
    const auto middle = band(x, 1000.0, 5000.0, rateHz), body = band(x, 80.0, 300.0, rateHz),
               low = band(x, 80.0, 250.0, rateHz);
    std::vector<double> definition, weight, loose, crest;
    const auto db = [](double ratio) { return 10.0 * std::log10(ratio); };
    for (const double t : alone) {
        definition.push_back(db(powerOf(middle, rateHz, t, t + 0.03) / powerOf(middle, rateHz, t + 0.06, t + 0.16)));
        weight.push_back(db(powerOf(body, rateHz, t, t + 0.16) / powerOf(x, rateHz, t, t + 0.16)));
        loose.push_back(db(powerOf(low, rateHz, t + 0.11, t + 0.16) / powerOf(low, rateHz, t, t + 0.06)));
        const auto from = std::size_t(std::max(0.0, (t + 0.04) * rateHz)),
                   to = std::min(x.size(), from + std::size_t(0.1 * rateHz));
        double peak = 1e-9;
        for (std::size_t i = from; i < to; ++i) peak = std::max(peak, std::abs(double(x[i])));
        crest.push_back(db(peak * peak / powerOf(x, rateHz, t + 0.04, t + 0.14)));
    }
    SideSound out;
    out.definitionDb = medianOf(std::move(definition)), out.weightDb = medianOf(std::move(weight));
    out.looseLowDb = medianOf(std::move(loose)), out.crestDb = medianOf(std::move(crest));
    double mean = 0.0;
    for (std::size_t b = 0; b < out.thirdsDb.size(); ++b) {
        const double hz = kFirstThirdHz * std::exp2(double(b) / 3.0);
        const auto y = band(x, hz * std::exp2(-1.0 / 6.0), hz * std::exp2(1.0 / 6.0), rateHz);
        double sum = 1e-15;
        for (const double t : onsetS) sum += powerOf(y, rateHz, t, t + 0.16) / double(onsetS.size());
        out.thirdsDb[b] = db(sum);
        mean += out.thirdsDb[b] / double(out.thirdsDb.size());
    }
    for (double& v : out.thirdsDb) v -= mean;
    return out;
}

Complement complementOf(std::span<const float> first, std::span<const float> second,
                        const std::vector<double>& onsetFirstS, const std::vector<double>& onsetSecondS, double rateHz)
{
    Complement out;
    out.first = soundOfSide(first, onsetFirstS, rateHz);
    out.second = soundOfSide(second, onsetSecondS, rateHz);
    std::vector<float> sum(std::max(first.size(), second.size()), 0.0f);
    for (std::size_t i = 0; i < first.size(); ++i) sum[i] += first[i];
    for (std::size_t i = 0; i < second.size(); ++i) sum[i] += second[i];
    // A stroke of both begins with the earlier one.
    std::vector<double> strokes = onsetFirstS;
    for (double& t : strokes) {
        const auto near = std::ranges::lower_bound(onsetSecondS, t - 0.04);
        if (near != onsetSecondS.end() && *near < t) t = *near;
    }
    out.sum = soundOfSide(sum, strokes, rateHz);
    double squares = 0.0;
    for (std::size_t b = 0; b < out.first.thirdsDb.size(); ++b) {
        const double d = out.second.thirdsDb[b] - out.first.thirdsDb[b];
        squares += d * d / double(out.first.thirdsDb.size());
    }
    out.spectrumApartDb = std::sqrt(squares);
    out.definitionApartDb = out.second.definitionDb - out.first.definitionDb;
    out.weightApartDb = out.second.weightDb - out.first.weightDb;
    out.attackKeptDb = out.sum.definitionDb - 0.5 * (out.first.definitionDb + out.second.definitionDb);
    return out;
}

} // namespace gristle::core
