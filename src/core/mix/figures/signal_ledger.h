#pragma once

#include "core/measure/measure_file.h"
#include "core/rig/circuit/guitar_circuit.h"
#include "core/session/session_document.h"

namespace gristle::core {

/// One point of the way from the string to the amplifier. Levels are RMS in dBu, peaks as the dBu of a sine with that
/// peak. What cannot be known is not there.
struct PathRung {
    std::string name;  ///< stable: "pickup", "guitar", "buffer", "input", "disk", "output", "amplifier"
    std::string title; ///< for people
    std::optional<double> levelDbu, peakDbu;
    std::optional<double> noiseDbu;   ///< at this point, with all that came before
    std::optional<double> ceilingDbu; ///< where it clips
    std::optional<double> headroomDb() const
    {
        return peakDbu && ceilingDbu ? std::optional(*ceilingDbu - *peakDbu) : std::nullopt;
    }
    std::optional<double> snrDb() const
    {
        return levelDbu && noiseDbu ? std::optional(*levelDbu - *noiseDbu) : std::nullopt;
    }
    double doubtDb = 0.0;  ///< of its volts, from the calibration that they hang on; dBFS are certain
    bool estimate = false; ///< from a circuit with typical values, not measured
    bool limitsNoise = false, limitsHeadroom = false;
};

struct SignalLedger {
    std::vector<PathRung> rungs;
    bool assumed = false; ///< the input or the output is not calibrated: all volts hang on that
    /// What the reamp output has to be turned by so that the amplifier sees the very voltage that the guitar gave.
    double unityTrimDb = 0.0;
    double trimDoubtDb = 0.0; ///< from both calibrations, as independent
    /// After that trim: whether the output can give it, dB left under its full scale at the loudest peak.
    std::optional<double> outputHeadroomDb;
    /// Of a recorded return from the amplifier's input: level less that of the DI, both in volts; 0 is unity.
    std::optional<double> returnErrorDb;
};

struct LedgerWish {
    GuitarCircuit circuit;
    Calibration input;
    ReampPath reamp;
    std::size_t channel = 0; ///< of the measured file
};

/// The ledger of a measured DI. Level, peak and noise are measured at the input; what lies before is inferred through
/// the circuit (level by its response over 82 Hz to 1.2 kHz, noise by Nyquist), what lies behind by the calibrations.
/// @param di        measured with a reference of 0 dBFS or with readings relative to options.referenceDbfs
/// @param returned  a recording of what arrived at the amplifier's input, through the same input; may be null
SignalLedger signalLedger(const FileMeasurement& di, const LedgerWish& wish, double referenceDbfs,
                          const FileMeasurement* returned = nullptr);

} // namespace gristle::core
