#include "app/models/simulated_player.h"

#include "app/models/audition.h"
#include "app/models/session_model.h"
#include "engine/simulated/simulated_device.h"
#include "engine/simulated/standard_room.h"

namespace gristle::app {

namespace {

constexpr int kPlayedBars = 8; // that he knows of a part
constexpr double kLookS = 0.03;

engine::SimulatedDevice* deviceOf(Audition& audition)
{
    return dynamic_cast<engine::SimulatedDevice*>(audition.device());
}

} // namespace

SimulatedPlayer::SimulatedPlayer(SessionModel& session, Audition& audition) : session_(session), audition_(audition) {}

SimulatedPlayer::~SimulatedPlayer() { practice_.cancel(); }

engine::SimulatedRoom* SimulatedPlayer::room() const
{
    auto* device = deviceOf(audition_);
    return device ? device->room() : nullptr;
}

void SimulatedPlayer::turnPreamp(double byDb)
{
    if (auto* at = room()) at->setGainDb(at->gainDb() + byDb);
    emit changed();
}

std::optional<double> SimulatedPlayer::preampDb() const
{
    const auto* at = room();
    return at ? std::optional(at->gainDb()) : std::nullopt;
}

void SimulatedPlayer::setDrag(int bar)
{
    if (bar == drag_) return;
    drag_ = bar;
    learn();
    emit changed();
}

std::function<std::vector<float>()> SimulatedPlayer::part(std::uint32_t seed) const
{
    engine::Playing what;
    what.part = session_.part()->name;
    what.bars = kPlayedBars;
    what.tempoBpm = session_.song()->tempoBpm;
    what.quartersPerBar = session_.song()->quartersPerBar();
    what.tuning = session_.song()->tuning;
    const double bar = session_.loop().barSeconds();
    what.restBeforeS = what.restAfterS = bar; // the first bar rests
    what.seed = seed;
    what.lateBar = drag_ > 1 ? drag_ - 1 : 0; // of the song; he begins with bar 2
    const double rate = audition_.rateHz();
    const auto frames = std::size_t((kPlayedBars + 2) * bar * rate);
    return [what, rate, frames] {
        auto volts = engine::simulatedPerformance(what, rate);
        volts.resize(frames); // whole bars, the last one a rest
        return volts;
    };
}

void SimulatedPlayer::learn()
{
    const auto* device = deviceOf(audition_);
    if (!device || !device->room() || device->clock() != engine::SimulatedDevice::Clock::RealTime ||
        !session_.isOpen() || !session_.part() || !session_.song())
        return;
    const std::size_t tries = session_.layer() ? session_.layer()->takes.size() + 20 * session_.path().layer : 0;
    practice_.run<std::vector<float>>(
        tr("The simulated player learns the part"),
        [play = part(std::uint32_t(tries) + 1)](const core::Progress&) { return play(); },
        [this, rate = audition_.rateHz()](std::vector<float> volts) {
            auto* const at = room();
            if (at && at->rateHz() == rate && !audition_.recorder().isRecording()) at->setPerformance(std::move(volts));
        });
}

void SimulatedPlayer::useTestClock()
{
    const double rate =
        session_.isOpen() && session_.document().sampleRateHz > 0 ? session_.document().sampleRateHz : 48000.0;
    using engine::SimulatedDevice;
    audition_.setDevice(
        std::make_unique<SimulatedDevice>(rate, 256, SimulatedDevice::Clock::Manual, engine::standardRoom(rate)));
}

void SimulatedPlayer::runFor(double seconds)
{
    auto* device = deviceOf(audition_);
    const auto look = std::size_t(kLookS * audition_.rateHz());
    for (auto left = std::size_t(seconds * audition_.rateHz()); device && left > 0;) {
        const std::size_t frames = std::min(left, look);
        device->advance(frames);
        device->forget();
        emit passed();
        left -= frames;
    }
}

} // namespace gristle::app
