#include "engine/simulated/standard_room.h"

#include "core/sim/repertoire.h"

namespace gristle::engine {

std::vector<float> simulatedPerformance(const Playing& what, double rateHz)
{
    core::PlayingStyle style;
    style.seed = what.seed;
    style.leadInS = what.restBeforeS;
    style.restAfterS = what.restAfterS;
    if (what.lateBar > 0) {
        style.lateFromBeat = (what.lateBar - 1) * what.quartersPerBar;
        style.lateToBeat = what.lateBar * what.quartersPerBar;
        style.lateMs = what.lateMs;
    }
    style.pickupHz = 0.0; // the guitar's circuit comes after
    return core::perform(core::partFor(what.part, what.bars, what.quartersPerBar), what.tempoBpm,
                         core::stringsOf(what.tuning), style, rateHz)
        .volts;
}

std::shared_ptr<SimulatedRoom> standardRoom(double rateHz)
{
    SimulatedRoom::Setup setup;
    setup.rateHz = rateHz;
    setup.inputs = kStandardInputs;
    setup.performanceV = simulatedPerformance({}, rateHz);
    setup.guitar = core::GuitarCircuit{};
    setup.loopbackFrames = 96;
    return std::make_shared<SimulatedRoom>(std::move(setup));
}

} // namespace gristle::engine
