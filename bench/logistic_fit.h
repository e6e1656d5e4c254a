#pragma once

#include "core/signal/cholesky.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <vector>

namespace gristle {

/// What each column of the rows is worth, in log odds of yes: by iterated least squares with a ridge on all but the
/// first column, which is 1 (Hastie and Tibshirani 1990, Generalized additive models, ch. 6).
/// @param row      of an example, of a constant size
/// @param counts   how much an example counts
template<class Example, class Row, class IsYes, class Counts>
std::vector<double> logisticFit(const std::vector<Example>& all, Row row, IsYes isYes, Counts counts, double ridge)
{
    const std::size_t n = row(all.front()).size();
    std::vector<double> weights(n, 0.0);
    for (int round = 0; round < 12; ++round) {
        std::vector<double> curved(n * n, 0.0), step(n, 0.0);
        for (const Example& e : all) {
            const auto at = row(e);
            double odds = 0.0;
            for (std::size_t i = 0; i < n; ++i) odds += weights[i] * at[i];
            const double chance = 1.0 / (1.0 + std::exp(-odds)), heavy = counts(e) * chance * (1.0 - chance);
            for (std::size_t i = 0; i < n; ++i) {
                step[i] += counts(e) * (double(isYes(e)) - chance) * at[i];
                if (at[i] != 0.0)
                    for (std::size_t j = 0; j <= i; ++j) curved[i * n + j] += heavy * at[i] * at[j];
            }
        }
        for (std::size_t i = 1; i < n; ++i) step[i] -= ridge * weights[i], curved[i * n + i] += ridge;
        if (!core::solvePositive(curved, step, n)) break;
        for (std::size_t i = 0; i < n; ++i) weights[i] += step[i];
    }
    return weights;
}

/// Curves through six points of each clue: which, and what a place on them is worth.
template<std::size_t kClues> class CurveFit {
public:
    using Clues = std::array<double, kClues>;
    static constexpr std::size_t kPoints = 6;

    /// Points at shares of the examples, to two places.
    template<class Example> explicit CurveFit(const std::vector<Example>& all)
    {
        constexpr std::array<double, kPoints> kAtShares{0.02, 0.2, 0.4, 0.6, 0.8, 0.95};
        for (std::size_t c = 0; c < kClues; ++c) {
            std::vector<double> v;
            for (const Example& e : all) v.push_back(e.clues[c]);
            std::ranges::sort(v);
            for (std::size_t k = 0; k < kPoints; ++k) {
                points_[c][k] = std::round(100.0 * v[std::size_t(kAtShares[k] * double(v.size() - 1))]) / 100.0;
                if (k > 0) points_[c][k] = std::max(points_[c][k], points_[c][k - 1] + 0.01); // many are alike
            }
        }
    }

    template<class Example, class IsYes, class Counts>
    void fit(const std::vector<Example>& all, IsYes isYes, Counts counts, double ridge)
    {
        weights_ = logisticFit(
            all, [&](const Example& e) { return rowOf(e.clues); }, isYes, counts, ridge);
    }

    double odds(const Clues& clues) const
    {
        const auto row = rowOf(clues);
        double sum = 0.0;
        for (std::size_t i = 0; i < row.size(); ++i) sum += row[i] * weights_[i];
        return sum;
    }

    /// As a header: k`name`Bias, k`name`Weights.
    void print(const char* bench, const char* name, const std::array<const char*, kClues>& clues) const
    {
        fmt::print("#pragma once\n\n#include \"core/signal/clue_curves.h\"\n\nnamespace gristle::core {{\n\n"
                   "// Made by {0}; not to be changed by hand.\n"
                   "inline constexpr double k{1}Bias = {2:.3f};\ninline constexpr std::array<ClueCurve, {3}> "
                   "k{1}Weights{{{{\n",
                   bench, name, weights_[0], kClues);
        for (std::size_t c = 0; c < kClues; ++c) {
            std::string at, worth = "0.0";
            double sum = 0.0;
            for (std::size_t k = 0; k < kPoints; ++k) {
                at += fmt::format("{}{:.2f}", k ? ", " : "", points_[c][k]);
                if (k > 0) worth += fmt::format(", {:.3f}", sum += weights_[1 + c * (kPoints - 1) + k - 1]);
            }
            fmt::print("    {{{{{}}}, {{{}}}}}, // {}\n", at, worth, clues[c]);
        }
        fmt::print("}}}};\n\n}} // namespace gristle::core\n");
    }

private:
    /// How far the clues lie along their curves, each part 0 to 1; the first is 1.
    std::vector<double> rowOf(const Clues& clues) const
    {
        std::vector<double> out{1.0};
        for (std::size_t c = 0; c < kClues; ++c)
            for (std::size_t k = 1; k < kPoints; ++k)
                out.push_back(
                    std::clamp((clues[c] - points_[c][k - 1]) / (points_[c][k] - points_[c][k - 1]), 0.0, 1.0));
        return out;
    }

    std::array<std::array<double, kPoints>, kClues> points_;
    std::vector<double> weights_;
};

} // namespace gristle
