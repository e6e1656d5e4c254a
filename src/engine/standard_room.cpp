#include "engine/standard_room.h"

#include "core/sim/performance.h"

namespace gristle::engine {

std::vector<float> standardPerformance(double rateHz)
{
    using core::WrittenNote;
    std::vector<WrittenNote> riff; // two bars: chords on the accents, muted eighths between
    for (int bar = 0; bar < 2; ++bar) {
        const double at = 4.0 * bar;
        const int root = bar == 0 ? 0 : 3;
        for (const double beat : {0.0, 2.5}) riff.push_back({at + beat, 0.9, {{0, root}, {1, root + 2}}, 0.9, false});
        for (const double beat : {1.0, 1.5, 2.0, 3.5}) riff.push_back({at + beat, 0.45, {{0, root}}, 0.7, true});
    }
    return core::perform(riff, 104.0, core::standardTuning(), {}, rateHz).volts;
}

std::shared_ptr<SimulatedRoom> standardRoom(double rateHz)
{
    SimulatedRoom::Setup setup;
    setup.rateHz = rateHz;
    setup.performanceV = standardPerformance(rateHz);
    setup.loopbackFrames = 96;
    return std::make_shared<SimulatedRoom>(std::move(setup));
}

} // namespace gristle::engine
