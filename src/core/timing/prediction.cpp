#include "core/timing/prediction.h"

#include "core/signal/cholesky.h"

#include <algorithm>
#include <numeric>

namespace gristle::core {

namespace {

constexpr std::size_t kOrder = 24;
constexpr double kLearnS = 0.040;

/// Coefficients by least squares, the first 1; only that where nothing can be learned.
std::vector<double> predictor(std::span<const float> learned, std::size_t order)
{
    constexpr double kNoise = 1e-10; // of the power: keeps pure tones solvable
    const std::vector<double> x(learned.begin(), learned.end());
    const std::size_t size = order + 1, n = x.size();
    std::vector<double> products(size * size); // [i][j]: the sum of x[t - i] x[t - j], t = order..n-1
    for (std::size_t j = 0; j < size; ++j)
        products[j * size] = std::transform_reduce(x.begin() + long(order), x.end(), x.begin() + long(order - j), 0.0);
    for (std::size_t i = 1; i < size; ++i)
        for (std::size_t j = 1; j <= i; ++j)
            products[i * size + j] =
                products[(i - 1) * size + j - 1] + x[order - i] * x[order - j] - x[n - i] * x[n - j];
    const double power = products[0];
    std::vector<double> a(order), system(order * order);
    for (std::size_t i = 0; i < order; ++i) {
        a[i] = -products[(i + 1) * size] / power;
        for (std::size_t j = 0; j <= i; ++j) system[i * order + j] = products[(i + 1) * size + j + 1] / power;
        system[i * order + i] += kNoise;
    }
    if (!(power > 0.0) || !solvePositive(system, a, order)) return {1.0};
    a.insert(a.begin(), 1.0);
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
    for (std::size_t k = 0; k < a.size(); ++k)
        for (std::size_t i = 0; i < error.size(); ++i) error[i] += a[k] * double(x[from + i - k]);
    return error;
}

} // namespace gristle::core
