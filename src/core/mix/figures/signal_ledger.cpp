#include "core/mix/figures/signal_ledger.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace {

constexpr double kLowestHz = 82.0, kHighestHz = 1200.0; // where most of a guitar's power is

/// Level of a circuit's response over the guitar's range, as power over the logarithm of frequency.
double gainDb(const GuitarCircuit& g)
{
    constexpr int kSteps = 48;
    double power = 0.0;
    for (int i = 0; i < kSteps; ++i)
        power += std::norm(responseAt(g, kLowestHz * std::pow(kHighestHz / kLowestHz, (i + 0.5) / kSteps))) / kSteps;
    return powerToDb(power);
}

std::optional<double> plus(std::optional<double> a, double b) { return a ? std::optional(*a + b) : std::nullopt; }

/// Marks the rung after which the signal stands closest to its noise or its ceiling.
void markLimits(std::vector<PathRung>& rungs)
{
    PathRung* tight = nullptr;
    for (PathRung& r : rungs)
        if (r.headroomDb() && (!tight || *r.headroomDb() < *tight->headroomDb())) tight = &r;
    if (tight) tight->limitsHeadroom = true;
    // Noise only adds up on the way: the rung that adds most of it is the first with the final distance, within 1 dB.
    std::optional<double> last;
    for (const PathRung& r : rungs)
        if (r.snrDb()) last = r.snrDb();
    for (PathRung& r : rungs)
        if (last && r.snrDb() && *r.snrDb() <= *last + 1.0) {
            r.limitsNoise = true;
            break;
        }
}

} // namespace

SignalLedger signalLedger(const FileMeasurement& di, const LedgerWish& wish, double referenceDbfs,
                          const FileMeasurement* returned)
{
    SignalLedger out;
    out.assumed = wish.input.assumed || wish.reamp.output.assumed;
    const ChannelMeasurement& c = di.channels[std::min(wish.channel, di.channels.size() - 1)];
    const double input = wish.input.dbuAtFullScale;
    const auto averageDbfs = plus(c.vuTypical, referenceDbfs);
    const auto level = plus(averageDbfs, input), peak = plus(c.truePeakDbtp, input),
               noise = plus(c.noise.floorDbfs, input);

    GuitarCircuit direct = wish.circuit; // the guitar's socket: all that hangs on it, buffer's input where there is one
    if (direct.buffer) direct.input = direct.buffer->input, direct.buffer.reset();
    const double whole = gainDb(wish.circuit), socket = gainDb(direct);
    const double thermal = voltsRmsToDbu(thermalNoiseV(wish.circuit)),
                 thermalSocket = voltsRmsToDbu(thermalNoiseV(direct));
    const auto add = [&](const char* name, const char* title, double db, std::optional<double> noiseDbu) {
        PathRung r;
        r.name = name, r.title = title, r.estimate = true, r.doubtDb = wish.input.doubtDb();
        r.levelDbu = plus(level, db), r.peakDbu = plus(peak, db), r.noiseDbu = noiseDbu;
        out.rungs.push_back(std::move(r));
    };
    add("pickup", "string and pickup", -whole, std::nullopt);
    add("guitar", "guitar and cable", socket - whole, thermalSocket);
    if (wish.circuit.buffer) add("buffer", "buffer", 0.0, thermal);
    PathRung in;
    in.name = "input", in.title = "interface input", in.doubtDb = wish.input.doubtDb();
    in.levelDbu = level, in.peakDbu = peak, in.noiseDbu = noise, in.ceilingDbu = input;
    out.rungs.push_back(in);
    PathRung disk = in; // the same samples: what is on disk is what came in
    disk.name = "disk", disk.title = "on disk";
    disk.ceilingDbu.reset();
    out.rungs.push_back(disk);

    const double output = wish.reamp.output.dbuAtFullScale, box = wish.reamp.boxDb;
    out.unityTrimDb = input - output - box;
    out.trimDoubtDb = std::hypot(wish.input.doubtDb(), wish.reamp.output.doubtDb());
    PathRung o;
    o.name = "output", o.title = "reamp output", o.doubtDb = out.trimDoubtDb;
    o.levelDbu = plus(level, -box), o.peakDbu = plus(peak, -box), o.noiseDbu = plus(noise, -box), o.ceilingDbu = output;
    out.outputHeadroomDb = o.headroomDb();
    out.rungs.push_back(o);
    PathRung amplifier;
    amplifier.name = "amplifier", amplifier.title = "amplifier input", amplifier.doubtDb = out.trimDoubtDb;
    amplifier.levelDbu = level, amplifier.peakDbu = peak, amplifier.noiseDbu = noise;
    out.rungs.push_back(amplifier);
    markLimits(out.rungs);
    if (returned && !returned->channels.empty() && returned->channels.front().vuTypical && c.vuTypical)
        out.returnErrorDb = *returned->channels.front().vuTypical - *c.vuTypical;
    return out;
}

} // namespace gristle::core
