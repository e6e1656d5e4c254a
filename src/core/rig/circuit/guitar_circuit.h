#pragma once

#include <complex>
#include <optional>
#include <string>
#include <vector>

namespace gristle::core {

/// A magnetic pickup as its equivalent circuit: a source behind resistance and inductance, the winding's own
/// capacitance across them. Losses in metal parts stand as a resistance across the inductance.
/// Source: Zollner, Physics of the Electric Guitar (2014), ch. 5: equivalent circuits of magnetic pickups.
struct Pickup {
    double resistanceOhm = 6000.0;
    double inductanceH = 2.5;
    double capacitanceF = 110e-12;
    double lossOhm = 400e3;
};

/// Typical pickups by build; every guitar differs, so the values can be edited.
struct PickupKind {
    const char* key;
    const char* about;
    Pickup pickup;
};
const std::vector<PickupKind>& pickupKinds();

enum class ToneWiring { BeforeVolume, AfterVolume }; ///< the tone control on the pickup's or on the output's side

/// Volume and tone, 0 to 10 of their turn. Audio taper: a tenth of the resistance at half the turn.
struct GuitarControls {
    double volumeOhm = 500e3, volume = 10.0;
    double toneOhm = 500e3, toneF = 22e-9, tone = 10.0;
    ToneWiring wiring = ToneWiring::BeforeVolume;
};

struct Cable {
    double metres = 6.0;
    double pFPerMetre = 100.0;
    double farad() const noexcept { return metres * pFPerMetre * 1e-12; }
};

struct InputImpedance {
    double ohm = 1e6;
    double farad = 20e-12;
};

/// An active stage between two cables. Its output drives what follows; what follows no longer loads the guitar.
struct Buffer {
    InputImpedance input;
    double outputOhm = 1000.0;
    Cable after; ///< from the buffer to the input
};

/// What stands between the string and the first input.
struct GuitarCircuit {
    Pickup pickup;
    GuitarControls controls;
    Cable cable; ///< from the guitar to the buffer, or to the input where there is none
    std::optional<Buffer> buffer;
    InputImpedance input;
};

/// The voltage at the input over that of the pickup's source, at one frequency. The chain of two-ports is multiplied
/// up, so every part loads those before it. @param hz  over 0
std::complex<double> responseAt(const GuitarCircuit& circuit, double hz);

struct ResonanceFigures {
    std::optional<double> hz; ///< where the response is highest, if that is over its level at 100 Hz by 0.1 dB
    std::optional<double> q;  ///< of the second-order low pass that has as high a peak over its low end
    double peakDb = 0.0;      ///< over the level at 100 Hz
};
ResonanceFigures resonanceOf(const GuitarCircuit& circuit);

/// What the input costs at a frequency, in dB: the same guitar and all of its cable into an ideal input, less this one.
/// Below 0 where a buffer near the guitar spares it the cable.
double insertionLossDb(const GuitarCircuit& circuit, double hz);

/// The RMS voltage of thermal noise at the input from 20 Hz to 20 kHz: 4 k T times the real part of the impedance that
/// the input looks into and stands across, at 20 degrees. The least that any circuit of these parts can have. Source:
/// Nyquist 1928.
double thermalNoiseV(const GuitarCircuit& circuit);

/// A minimum-phase FIR that turns what was recorded through `from` into what `to` would have given, exact in level to
/// 0.01 dB below 16 kHz. Both circuits are minimum phase, so their quotient is.
/// @return  `taps` samples
std::vector<float> loadingFilter(const GuitarCircuit& from, const GuitarCircuit& to, double rateHz,
                                 std::size_t taps = 1024);
/// The same from the pickup's source: what the string gives to what the input sees.
std::vector<float> circuitFilter(const GuitarCircuit& circuit, double rateHz, std::size_t taps = 1024);

} // namespace gristle::core
