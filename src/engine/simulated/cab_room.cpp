#include "engine/simulated/cab_room.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::engine {

using namespace core;

namespace {

constexpr double kReferencePa = 20e-6;
constexpr double kReferenceV = 2.83; // 1 W into 8 ohm, what a sensitivity is told for

double pascals(double splDb) { return kReferencePa * dbToAmplitude(splDb); }

} // namespace

Result<std::unique_ptr<CabRoom>> CabRoom::make(Setup setup)
{
    std::vector<Recording> impulses;
    for (const PlacedMicrophone& m : setup.microphones) {
        auto impulse = placementImpulse(setup.setting, m, int(setup.rateHz), setup.impulseS);
        if (!impulse) return impulse.error();
        impulses.push_back(std::move(*impulse));
    }
    return std::unique_ptr<CabRoom>(new CabRoom(std::move(setup), std::move(impulses)));
}

CabRoom::CabRoom(Setup setup, std::vector<Recording> impulses)
    : setup_(std::move(setup)), impulses_(std::move(impulses)), driven_(kMostFrames), noise_(setup_.seed)
{
    for (std::size_t i = 0; i < impulses_.size(); ++i) {
        const Microphone kind = microphoneOf(setup_.microphones[i].kind).value();
        const double perPascal = 0.001 * kind.sensitivityMvPa;
        ways_.emplace_back(std::as_const(impulses_[i].audio).channel(0));
        perVolt_.push_back(pascals(setup_.setting.cabinet.cone.splDb) / kReferenceV * perPascal);
        noiseV_.push_back(std::hypot(pascals(kind.selfNoiseDbA), pascals(setup_.setting.room.noiseDbA)) * perPascal);
        mostV_.push_back(pascals(kind.mostSplDb) * std::numbers::sqrt2 * perPascal);
        heard_.emplace_back(kMostFrames);
    }
}

double CabRoom::voltsOfFullScale(std::size_t microphone) const noexcept
{
    return setup_.mostV * dbToAmplitude(setup_.volumeDb) * perVolt_[microphone];
}

void CabRoom::process(const float* played, std::size_t frames) noexcept
{
    const double volume = dbToAmplitude(setup_.volumeDb);
    for (std::size_t i = 0; i < frames; ++i) {
        const double x = std::clamp(volume * double(played[i]), -1.0, 1.0); // the amplifier's most
        driven_[i] = float(setup_.mostV * (x + setup_.second * x * x - setup_.third * x * x * x));
    }
    for (std::size_t m = 0; m < heard_.size(); ++m) {
        auto& out = heard_[m];
        std::copy_n(driven_.begin(), frames, out.begin());
        ways_[m].process({out.data(), frames});
        for (std::size_t i = 0; i < frames; ++i)
            out[i] = float(std::clamp(double(out[i]) * perVolt_[m] + noiseV_[m] * noise_(), -mostV_[m], mostV_[m]));
    }
}

} // namespace gristle::engine
