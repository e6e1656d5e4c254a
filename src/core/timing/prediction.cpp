#include "core/timing/prediction.h"

#include <algorithm>

namespace gristle::core {

namespace {

constexpr std::size_t kOrder = 24;
constexpr double kLearnS = 0.040;

/// Coefficients, the first 1.
std::vector<double> predictor(std::span<const float> x, std::size_t order)
{
    std::vector<double> forward(x.begin(), x.end()), backward = forward, a{1.0};
    for (std::size_t m = 0; m < order; ++m) {
        double top = 0.0, bottom = 1e-30;
        for (std::size_t i = m + 1; i < x.size(); ++i) {
            top += forward[i] * backward[i - 1];
            bottom += forward[i] * forward[i] + backward[i - 1] * backward[i - 1];
        }
        const double k = -2.0 * top / bottom;
        std::vector<double> next(a.size() + 1, 0.0);
        for (std::size_t i = 0; i < a.size(); ++i) next[i] += a[i], next[a.size() - i] += k * a[i];
        a = std::move(next);
        for (std::size_t i = x.size(); i-- > m + 1;) {
            const double f = forward[i], b = backward[i - 1];
            forward[i] = f + k * b, backward[i] = b + k * f;
        }
    }
    return a;
}

} // namespace

std::vector<double> predictionError(std::span<const float> x, double rateHz, std::size_t from, std::size_t to)
{
    to = std::min(to, x.size()), from = std::min(from, to);
    const auto learned = std::min(from, std::size_t(kLearnS * rateHz));
    std::vector<double> error(to - from);
    std::vector<double> a{1.0};
    if (learned >= 4 * kOrder) a = predictor(x.subspan(from - learned, learned), kOrder);
    for (std::size_t i = from; i < to; ++i)
        for (std::size_t k = 0; k < a.size() && k <= i; ++k) error[i - from] += a[k] * double(x[i - k]);
    return error;
}

} // namespace gristle::core
