#include "core/impulse/placed_plan.h"

#include "core/units/decibels.h"

#include <cctype>
#include <cmath>
#include <fmt/format.h>
#include <numbers>

namespace gristle::core {

std::string nameOf(const PlacedMicrophone& m)
{
    const auto kind = microphoneOf(m.kind);
    std::string title = kind ? kind->title : m.kind;
    if (!title.empty()) title[0] = char(std::toupper(static_cast<unsigned char>(title[0])));
    return fmt::format("{}, {:g} cm", title, std::round(1000.0 * m.place.distanceM) / 10.0);
}

Result<PlanFigures> figuresOf(const CabPlan& plan, const Progress& progress)
{
    constexpr double kFromHz = 60.0, kToHz = 14000.0;
    const auto setting = settingOf(plan);
    if (!setting) return setting.error();
    std::vector<double> hz;
    for (double f = kFromHz; f <= kToHz; f *= std::exp2(1.0 / 12.0)) hz.push_back(f);
    std::vector<std::complex<double>> sum(hz.size());
    PlanFigures out;
    for (const PlacedMicrophone& m : plan.microphones) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "placement: stopped", ""};
        if (const auto good = checkPlaced(m); !good) return good.error();
        const Microphone kind = microphoneOf(m.kind).value();
        PlacedFigures& one = out.microphones.emplace_back();
        one.travelS = travelM(*setting, m.place) / kSpeedOfSound;
        one.soundPressureDb = soundPressureDb(*setting, m.place, plan.watts);
        one.mostSplDb = kind.mostSplDb;
        if (plan.spillM > 0.0) one.spill = spillBetween(*setting, m, plan.spillM);
        for (std::size_t k = 0; k < hz.size(); ++k) {
            const auto h = responseAt(*setting, kind, m.place, hz[k]);
            one.response.push_back({hz[k], amplitudeToDb(std::abs(h))});
            sum[k] += h * dbToAmplitude(m.gainDb) * (m.invert ? -1.0 : 1.0) *
                      std::polar(1.0, -2.0 * std::numbers::pi * hz[k] * 0.001 * m.delayMs);
        }
        one.response = levelled(std::move(one.response));
        progress.at(double(out.microphones.size()) / double(plan.microphones.size()));
    }
    for (std::size_t k = 0; k < hz.size(); ++k) out.sum.push_back({hz[k], amplitudeToDb(std::abs(sum[k]) + 1e-9)});
    out.sum = levelled(std::move(out.sum));
    return out;
}

Result<Recording> impulseOf(const CabPlan& plan, PlanChannels channels, int rateHz, double lengthS,
                            const Progress& progress)
{
    const auto setting = settingOf(plan);
    if (!setting) return setting.error();
    const std::size_t all = plan.microphones.size();
    const std::size_t count = channels == PlanChannels::Sum         ? 1
                              : channels == PlanChannels::FirstLeft ? std::min<std::size_t>(2, all)
                                                                    : all;
    Recording out;
    for (std::size_t i = 0; i < all; ++i) {
        const auto one = placementImpulse(*setting, plan.microphones[i], rateHz, lengthS, progress);
        if (!one) return one.error();
        if (i == 0) out = Recording{rateHz, AudioBuffer(count, one->audio.frames())};
        const auto into = out.audio.channel(std::min(i, count - 1));
        for (std::size_t k = 0; k < into.size(); ++k) into[k] += one->audio.channel(0)[k];
    }
    return out;
}

} // namespace gristle::core
