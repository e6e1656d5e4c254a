#include "core/timing/copy_check.h"

#include "core/measure/level.h"
#include "core/signal/fft.h"
#include "core/timing/cross_spectrum.h"
#include "core/units/median.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kWindowS = 0.043, kBeforeS = 0.005;
constexpr double kLowHz = 400.0, kHighHz = 3000.0;
constexpr std::size_t kMostNotes = 200;

/// As loud as all others; or driven, as by an amplifier, so that one that was driven is held against one that was not.
std::vector<float> levelled(std::span<const float> x, bool isDriven)
{
    constexpr double kDrive = 20.0;
    double squares = 1e-20;
    for (const float v : x) squares += double(v) * double(v);
    const double to = 1.0 / std::sqrt(squares), drive = kDrive * std::sqrt(double(x.size()));
    std::vector<float> out(x.begin(), x.end());
    for (float& v : out) v = float(isDriven ? std::tanh(drive * to * double(v)) : to * double(v));
    return out;
}

double coherenceOf(const CrossSpectrum& spectrum, double rateHz)
{
    const double n = double(spectrum.windows()), perHz = double(spectrum.window()) / rateHz;
    if (n < 2.0) return 0.0;
    double sum = 0.0, bins = 0.0;
    for (auto k = std::size_t(kLowHz * perHz); k < std::size_t(kHighHz * perHz) && k < spectrum.bins(); ++k, ++bins)
        sum += std::norm(spectrum.cross[k]) / (spectrum.first[k] * spectrum.second[k] + 1e-30);
    return std::max(0.0, (sum / bins - 1.0 / n) / (1.0 - 1.0 / n));
}

} // namespace

RunsBehind runsBehind(const std::vector<NoteAt>& notes)
{
    RunsBehind out;
    std::vector<double> slopes, left;
    const std::size_t step = notes.size() / kMostNotes + 1;
    for (std::size_t i = 0; i < notes.size(); i += step)
        for (std::size_t j = i + step; j < notes.size(); j += step)
            if (const double s = notes[j].timeS - notes[i].timeS; s > 0.0)
                slopes.push_back((notes[j].laterS - notes[i].laterS) / s);
    if (!slopes.empty()) out.slope = median(std::move(slopes));
    for (const NoteAt& n : notes) left.push_back(n.laterS - out.slope * n.timeS);
    if (!left.empty()) out.fromS = median(std::move(left));
    return out;
}

CopyThrough copyThrough(std::span<const float> first, std::span<const float> second, double kept)
{
    constexpr double kDrivenDb = 3.0;
    constexpr double kSteady = 0.6; // a chorus keeps 0.34, a filter, another clock or some cents 0.88 and more
    if (std::abs(crestDb(first) - crestDb(second)) > kDrivenDb) return CopyThrough::Drive;
    return kept < kSteady ? CopyThrough::Chorus : CopyThrough::Nothing;
}

double phasesKept(std::span<const float> first, std::span<const float> second, double rateHz,
                  const std::vector<NoteAt>& notes, const RunsBehind& behind)
{
    const std::size_t size = fastFftSize(std::size_t(kWindowS * rateHz));
    CrossSpectrum plain(size), driven(size);
    const auto length = std::int64_t(size);
    const std::size_t step = notes.size() / kMostNotes + 1;
    for (std::size_t i = 0; i < notes.size(); i += step) {
        const auto a = std::int64_t((notes[i].timeS - kBeforeS) * rateHz);
        const auto b = a + std::int64_t(std::llround(behind.at(notes[i].timeS) * rateHz));
        if (std::min(a, b) < 0 || a + length > std::int64_t(first.size()) || b + length > std::int64_t(second.size()))
            continue;
        const auto x = first.subspan(std::size_t(a), size), y = second.subspan(std::size_t(b), size);
        plain.addWindow(levelled(x, false), levelled(y, false));
        driven.addWindow(levelled(x, true), levelled(y, true));
    }
    return std::max(coherenceOf(plain, rateHz), coherenceOf(driven, rateHz));
}

} // namespace gristle::core
