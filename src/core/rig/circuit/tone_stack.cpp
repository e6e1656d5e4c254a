#include "core/rig/circuit/tone_stack.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace gristle::core {

namespace {

constexpr std::size_t kNodes = 6;
constexpr double kLeastOhms = 10.0; // a pot's end stop is not quite nothing
using Matrix = std::array<std::array<double, kNodes>, kNodes>;

void connect(Matrix& g, std::size_t a, std::size_t b, double siemens)
{
    g[a][a] += siemens;
    g[b][b] += siemens;
    g[a][b] -= siemens;
    g[b][a] -= siemens;
}

/// Inverse by Gauss-Jordan with row exchange; the matrix of a connected network of resistors is regular.
Matrix inverse(Matrix a)
{
    Matrix out{};
    for (std::size_t i = 0; i < kNodes; ++i) out[i][i] = 1.0;
    for (std::size_t i = 0; i < kNodes; ++i) {
        std::size_t pivot = i;
        for (std::size_t r = i + 1; r < kNodes; ++r)
            if (std::abs(a[r][i]) > std::abs(a[pivot][i])) pivot = r;
        std::swap(a[i], a[pivot]);
        std::swap(out[i], out[pivot]);
        const double scale = 1.0 / a[i][i];
        for (std::size_t c = 0; c < kNodes; ++c) a[i][c] *= scale, out[i][c] *= scale;
        for (std::size_t r = 0; r < kNodes; ++r) {
            if (r == i) continue;
            const double factor = a[r][i];
            for (std::size_t c = 0; c < kNodes; ++c) a[r][c] -= factor * a[i][c], out[r][c] -= factor * out[i][c];
        }
    }
    return out;
}

} // namespace

ToneStack::ToneStack(const ToneStackParts& parts, const ToneControls& controls, double rateHz)
{
    constexpr std::pair<std::size_t, std::size_t> kCapacitors[3] = {{0, 1}, {4, 3}, {4, 5}};
    const double farads[3] = {parts.trebleCap, parts.bassCap, parts.middleCap};
    const auto ohms = [](double value) { return 1.0 / std::max(kLeastOhms, value); };
    Matrix g{};
    g[0][0] += 1.0 / parts.source; // the input drives node 0 through it
    connect(g, 1, 2, ohms(parts.treblePot * (1.0 - controls.treble)));
    connect(g, 2, 3, ohms(parts.treblePot * controls.treble));
    g[2][2] += 1.0 / parts.load;
    connect(g, 0, 4, 1.0 / parts.slope);
    connect(g, 3, 5, ohms(parts.bassPot * controls.bass));
    g[5][5] += ohms(parts.middlePot * controls.middle);
    std::array<double, 3> companion{}; // conductance of the trapezoidal rule, 2 C rate
    for (std::size_t c = 0; c < 3; ++c) {
        companion[c] = 2.0 * farads[c] * rateHz;
        connect(g, kCapacitors[c].first, kCapacitors[c].second, companion[c]);
    }
    const Matrix z = inverse(g);
    // A companion pushes its history current from its second node into its first; the next one is 2 g v - present.
    for (std::size_t k = 0; k < 4; ++k) {
        std::array<double, kNodes> volts{};
        for (std::size_t n = 0; n < kNodes; ++n)
            volts[n] = k < 3 ? z[n][kCapacitors[k].first] - z[n][kCapacitors[k].second] : z[n][0] / parts.source;
        out_[k] = volts[2];
        for (std::size_t c = 0; c < 3; ++c)
            next_[c][k] = 2.0 * companion[c] * (volts[kCapacitors[c].first] - volts[kCapacitors[c].second]) -
                          (k == c ? 1.0 : 0.0);
    }
}

} // namespace gristle::core
