#include "engine/simulated/simulated_room.h"

#include "engine/rt/take_transport.h"

#include "core/signal/convolver.h"
#include "core/units/calibration.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::engine {

namespace {

constexpr double kPi = std::numbers::pi;
constexpr std::size_t kSincHalf = 24;
constexpr double kHumHarmonics[] = {1.0, 0.35, 0.6, 0.15, 0.3, 0.1};
constexpr double kQuietestDb = -20.0;
constexpr std::size_t kMostCabs = 64; // that one room has in its life: they stay where they are
constexpr double kHighOhm = 1e6, kLineOhm = 10e3;

double peakVolts(double dbu) { return core::Calibration{dbu, false}.fullScaleVolts(); }

} // namespace

SimulatedRoom::SimulatedRoom(Setup setup)
    : setup_(std::move(setup)), noise_(setup_.seed),
      songFrame_(std::make_shared<std::atomic<std::int64_t>>(TakeTransport::kResting))
{
    // The cable keeps enough for its delay and the interpolator; its latency is at least the interpolator's half.
    cable_.assign(setup_.loopbackFrames + 2 * kSincHalf + 8192, 0.0f);
    sinc_.resize(2 * kSincHalf);
    toAmplifier_.resize(CabRoom::kMostFrames);
    cabs_.reserve(kMostCabs);
    for (std::size_t k = 0; k < sinc_.size(); ++k) {
        const double t = double(k) - double(kSincHalf - 1) - setup_.loopbackFraction;
        const double window = std::pow(std::cos(kPi * t / (2.0 * double(kSincHalf) + 1.0)), 2.0);
        sinc_[k] = (std::abs(t) < 1e-12 ? 1.0 : std::sin(kPi * t) / (kPi * t)) * window;
    }
    publish();
}

void SimulatedRoom::setPerformance(std::vector<float> volts)
{
    setup_.performanceV = std::move(volts);
    publish();
    startOver();
}

void SimulatedRoom::setGuitar(const core::GuitarCircuit& guitar)
{
    setup_.guitar = guitar;
    publish();
}

void SimulatedRoom::setHighImpedance(bool on)
{
    if (!setup_.guitar) return;
    setup_.guitar->input.ohm = on ? kHighOhm : kLineOhm;
    publish();
}

void SimulatedRoom::setCab(std::unique_ptr<CabRoom> cab, std::size_t firstInput, double gainDb)
{
    if (cabs_.size() == kMostCabs) return;
    cabs_.push_back({std::move(cab), firstInput, core::dbToAmplitude(gainDb) / peakVolts(setup_.fullScaleDbu)});
    cab_.store(&cabs_.back());
}

double SimulatedRoom::cabGain(std::size_t microphone) const noexcept
{
    return cabs_.empty() ? 0.0 : cabs_.back().room->voltsOfFullScale(microphone) * cabs_.back().perVolt;
}

bool SimulatedRoom::isHighImpedance() const noexcept { return setup_.guitar && setup_.guitar->input.ohm >= kHighOhm; }

/// What the guitar gives through its circuit, for the audio thread, which may still read the version before.
void SimulatedRoom::publish()
{
    Samples heard = setup_.performanceV;
    if (setup_.guitar && !heard.empty()) {
        const auto taps = core::circuitFilter(*setup_.guitar, setup_.rateHz);
        heard = core::convolve(heard, taps);
        heard.resize(setup_.performanceV.size());
    }
    plays_.set(std::make_shared<const Samples>(std::move(heard)));
}

/// The version of now, held against publish() until the next call.
const SimulatedRoom::Samples& SimulatedRoom::inHand() noexcept
{
    for (;;)
        if (const Samples* p = plays_.wanted(); plays_.take(0, p)) return *p;
}

bool SimulatedRoom::read(float* const* inputs, std::size_t frames, const float* left, const float* right) noexcept
{
    for (std::size_t from = 0; from < frames; from += CabRoom::kMostFrames)
        readPart(inputs, from, std::min(CabRoom::kMostFrames, frames - from), left, right);
    return lose_.exchange(false);
}

void SimulatedRoom::readPart(float* const* inputs, std::size_t from, std::size_t frames, const float* left,
                             const float* right) noexcept
{
    const auto played = [&](std::size_t i) { return left && right ? 0.5f * (left[from + i] + right[from + i]) : 0.0f; };
    Cab* const cab = cab_.load();
    if (cab) {
        for (std::size_t i = 0; i < frames; ++i) toAmplifier_[i] = played(i);
        cab->room->process(toAmplifier_.data(), frames);
    }
    const double gain = core::dbToAmplitude(gainDb_.load() + padDb_.load());
    const double toFullScale = gain / peakVolts(setup_.fullScaleDbu);
    const double inputNoise = peakVolts(setup_.inputNoiseDbu) / std::numbers::sqrt2 * toFullScale;
    const double converterNoise = core::dbToAmplitude(setup_.converterNoiseDbfs) / std::numbers::sqrt2;
    const double turned = 0.5 - 0.5 * std::cos(2.0 * kPi * (angle_.load() - setup_.quietAngleDeg) / 180.0);
    const double humDb = setup_.humDbu + kQuietestDb * (1.0 - turned);
    double humPower = 0.0;
    for (const double h : kHumHarmonics) humPower += h * h;
    const double hum = peakVolts(humDb) / std::sqrt(humPower) * toFullScale;
    const Samples& performance = inHand();
    const bool plays = playing_.load() && !performance.empty();
    if (startOver_.exchange(false) || at_ >= performance.size()) at_ = 0;
    const std::int64_t song = songFrame_->load();
    std::int64_t ahead = 0; // frames before he comes in
    if (song != TakeTransport::kResting && plays) {
        const std::int64_t place = song + std::int64_t(from);
        ahead = std::max<std::int64_t>(0, -place);
        at_ = std::size_t(std::max<std::int64_t>(0, place)) % performance.size();
    }
    const bool silent = silent_.load();
    const std::size_t guitar = swapped_.load() && setup_.inputs > 1 ? 1 : 0;
    const double w = 2.0 * kPi * setup_.mainsHz / setup_.rateHz;
    for (std::size_t i = 0; i < frames; ++i, ++frame_) {
        double string = 0.0;
        if (plays && std::int64_t(i) >= ahead) {
            string = double(performance[at_]);
            at_ = at_ + 1 == performance.size() ? 0 : at_ + 1;
        }
        double mains = 0.0;
        for (std::size_t h = 0; h < std::size(kHumHarmonics); ++h)
            mains += kHumHarmonics[h] * std::sin(w * double(h + 1) * double(frame_) + 0.7 * double(h));
        cable_[cableAt_] = played(i);
        for (std::size_t c = 0; c < setup_.inputs; ++c) {
            double x = converterNoise * noise_();
            if (!silent) x += inputNoise * noise_();
            if (!silent && c == guitar) x += string * toFullScale + hum * mains;
            if (!silent && c == 1 && setup_.loopbackFrames > 0)
                for (std::size_t k = 0; k < sinc_.size(); ++k) {
                    const std::size_t back = setup_.loopbackFrames - (kSincHalf - 1) + k;
                    x += sinc_[k] * double(cable_[(cableAt_ + cable_.size() - back % cable_.size()) % cable_.size()]);
                }
            if (cab && c >= cab->firstInput && c - cab->firstInput < cab->room->microphones())
                x += cab->perVolt * double(cab->room->volts(c - cab->firstInput)[i]);
            inputs[c][from + i] = static_cast<float>(std::clamp(x, -1.0, 1.0 - 0x1p-23));
        }
        cableAt_ = cableAt_ + 1 == cable_.size() ? 0 : cableAt_ + 1;
    }
}

} // namespace gristle::engine
