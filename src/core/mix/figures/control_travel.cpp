#include "core/mix/figures/control_travel.h"

#include "core/measure/colour.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <mutex>
#include <thread>

namespace gristle::core {

namespace {

/// 0, 1, 1/2, 1/4, 3/4, 1/8 ... of the way, each place once.
std::vector<std::size_t> coarseFirst(std::size_t points)
{
    std::vector<std::size_t> out;
    const auto add = [&](std::size_t i) {
        if (std::ranges::find(out, i) == out.end()) out.push_back(i);
    };
    for (std::size_t parts = 1; out.size() < points; parts *= 2)
        for (std::size_t k = 0; k <= parts; ++k) add((points - 1) * k / parts);
    return out;
}

} // namespace

Result<std::vector<TravelPoint>> controlTravel(const LayerRecipe& recipe, std::size_t stage, const std::string& key,
                                               std::size_t points, const Progress& progress,
                                               const std::function<void(const TravelPoint&)>& found)
{
    const RigChain& chain = recipe.rig.chain;
    if (stage >= chain.size() || points < 2) return Error{ErrorCode::Usage, "travel: there is no such stage", ""};
    const NodeType* type = typeOf(chain[stage]);
    const ParameterSpec* spec = type ? type->find(key) : nullptr;
    if (!spec || spec->kind != ParameterKind::Number)
        return Error{ErrorCode::Usage, "travel: there is no such control", ""};
    const Progress quiet{progress.stop, nullptr};
    const auto input = stageInput(recipe, stage, quiet);
    if (!input) return input.error();
    const RigChain behind(chain.begin() + long(stage) + 1, chain.end());
    const AudioBuffer before = heard(*input, input->before);

    const auto measured = [&](const RigNode& node) -> Result<TravelPoint> {
        const auto after = playChain({node}, input->options, input->before, input->di, quiet);
        if (!after) return after.error();
        auto end = playChain(behind, input->options, *after, input->di, quiet);
        if (!end) return end.error();
        for (std::size_t c = 0; c < end->channels(); ++c)
            for (float& v : end->channel(c)) v /= static_cast<float>(input->fullScaleV);
        const Colour colour = colourOf(heard(*input, *end), input->options.context.rateHz);
        constexpr double kHeardDb = -60.0; // what is new and lies under it is not heard
        return TravelPoint{0.0,
                           colour.lufs,
                           colour.brightnessDb,
                           colour.bodyDb,
                           std::max(kHeardDb, newSoundDb(before.channel(0), heard(*input, *after).channel(0))),
                           colour.crestDb};
    };
    const auto present = measured(chain[stage]);
    if (!present) return present.error();

    std::vector<TravelPoint> out(points);
    const auto order = coarseFirst(points);
    std::atomic<std::size_t> next{0};
    std::mutex mutex; // of what follows
    std::optional<Error> failure;
    std::size_t done = 0;
    const auto work = [&] {
        for (std::size_t job = next++; job < points; job = next++) {
            const double part = double(order[job]) / double(points - 1);
            const double value = spec->scale == Scale::Logarithmic ? spec->min * std::pow(spec->max / spec->min, part)
                                                                   : spec->min + part * (spec->max - spec->min);
            RigNode node = chain[stage];
            node.values[key] = std::clamp(value, spec->min, spec->max);
            auto point = measured(node);
            const std::lock_guard lock(mutex);
            if (!point) failure = point.error();
            if (failure) return;
            for (const auto measure : {&TravelPoint::loudness, &TravelPoint::brightness, &TravelPoint::body,
                                       &TravelPoint::harmonics, &TravelPoint::crest})
                (*point).*measure -= (*present).*measure;
            point->value = value;
            out[order[job]] = *point;
            if (found) found(*point);
            progress.at(double(++done) / double(points));
        }
    };
    {
        std::vector<std::jthread> helpers;
        const std::size_t cores = std::max(1u, std::thread::hardware_concurrency());
        for (std::size_t h = 1; h < std::min(cores, points); ++h) helpers.emplace_back(work);
        work();
    }
    if (failure) return *failure;
    return out;
}

double wholeOf(const std::vector<TravelPoint>& points, double TravelPoint::*measure)
{
    if (points.empty()) return 0.0;
    const auto [low, high] = std::ranges::minmax(points, {}, measure);
    return high.*measure - low.*measure;
}

std::optional<IdleStretch> idleStretch(const std::vector<TravelPoint>& points, double TravelPoint::*measure)
{
    constexpr double kLeastWholeDb = 0.5, kPart = 0.1, kLeastPart = 1.0 / 8.0;
    const double whole = wholeOf(points, measure);
    if (whole < kLeastWholeDb) return std::nullopt;
    std::size_t from = 0, longest = 0;
    for (std::size_t first = 0; first < points.size(); ++first) {
        double low = points[first].*measure, high = low;
        for (std::size_t i = first; i < points.size(); ++i) {
            low = std::min(low, points[i].*measure);
            high = std::max(high, points[i].*measure);
            if (high - low >= kPart * whole) break;
            if (i - first > longest) from = first, longest = i - first;
        }
    }
    if (double(longest) < kLeastPart * double(points.size() - 1)) return std::nullopt;
    return IdleStretch{points[from].value, points[from + longest].value, whole};
}

std::vector<double> placesToHear(const std::vector<TravelPoint>& travel, std::size_t places)
{
    constexpr double kStillDb = 0.1; // of all of it
    constexpr double kHardlyLu = 12.0;
    std::vector<TravelPoint> points = travel;
    if (!points.empty()) {
        const double loudest = std::ranges::max(points, {}, &TravelPoint::loudness).loudness;
        std::erase_if(points, [&](const TravelPoint& p) { return p.loudness < loudest - kHardlyLu; });
    }
    if (points.size() < 2) return {};
    std::vector<double> way{0.0};
    for (std::size_t i = 1; i < points.size(); ++i) {
        double step = 0.0;
        for (const auto measure :
             {&TravelPoint::brightness, &TravelPoint::body, &TravelPoint::harmonics, &TravelPoint::crest})
            step += std::abs(points[i].*measure - points[i - 1].*measure);
        way.push_back(way.back() + step);
    }
    if (way.back() < kStillDb)
        for (std::size_t i = 0; i < way.size(); ++i) way[i] = double(i);
    std::vector<double> out;
    for (std::size_t k = 0; k < places; ++k) {
        const double at = way.back() * (double(k) + 0.5) / double(places);
        const std::size_t i = std::max<std::size_t>(1, std::size_t(std::ranges::lower_bound(way, at) - way.begin()));
        const double part = (at - way[i - 1]) / (way[i] - way[i - 1]);
        out.push_back(points[i - 1].value + part * (points[i].value - points[i - 1].value));
    }
    return out;
}

} // namespace gristle::core
