#include "core/rig/circuit/guitar_circuit.h"

#include "core/signal/minimum_phase.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

using Complex = std::complex<double>;
constexpr double kPi = std::numbers::pi;
constexpr double kReferenceHz = 100.0;

/// A two-port by its chain matrix: [V1; I1] = [a b; c d] [V2; I2].
struct TwoPort {
    Complex a = 1.0, b = 0.0, c = 0.0, d = 1.0;
    TwoPort& operator*=(const TwoPort& n)
    {
        *this = {a * n.a + b * n.c, a * n.b + b * n.d, c * n.a + d * n.c, c * n.b + d * n.d};
        return *this;
    }
};

TwoPort series(Complex impedance) { return {1.0, impedance, 0.0, 1.0}; }
TwoPort shunt(Complex admittance) { return {1.0, 0.0, admittance, 1.0}; }

/// Part of an audio-taper control's resistance, 0 to 1, at a turn of 0 to 10: (81^x - 1) / 80, a tenth at the middle.
double audioTaper(double turn) { return (std::pow(81.0, std::clamp(turn, 0.0, 10.0) / 10.0) - 1.0) / 80.0; }

Complex admittanceOf(const InputImpedance& input, double w) { return {1.0 / input.ohm, w * input.farad}; }

/// From the pickup's source to the guitar's socket.
TwoPort guitarPort(const GuitarCircuit& g, double w)
{
    const Complex jw(0.0, w);
    const GuitarControls& c = g.controls;
    TwoPort port;
    const Complex coil = 1.0 / (1.0 / (jw * g.pickup.inductanceH) + 1.0 / g.pickup.lossOhm);
    port *= series(g.pickup.resistanceOhm + coil);
    port *= shunt(jw * g.pickup.capacitanceF);
    const TwoPort tone = shunt(1.0 / (audioTaper(c.tone) * c.toneOhm + 1.0 / (jw * c.toneF)));
    if (c.wiring == ToneWiring::BeforeVolume) port *= tone;
    const double below = std::max(audioTaper(c.volume) * c.volumeOhm, 1e-3); // a control turned down is a short
    port *= series(c.volumeOhm - std::min(below, c.volumeOhm));
    port *= shunt(1.0 / below);
    if (c.wiring == ToneWiring::AfterVolume) port *= tone;
    return port;
}

double levelDb(const GuitarCircuit& circuit, double hz) { return amplitudeToDb(std::abs(responseAt(circuit, hz))); }

/// The same guitar and cable into an input that draws nothing.
GuitarCircuit intoIdealInput(GuitarCircuit circuit)
{
    if (circuit.buffer) circuit.cable.metres += circuit.buffer->after.metres;
    circuit.buffer.reset();
    circuit.input = {1e15, 0.0};
    return circuit;
}

} // namespace

const std::vector<PickupKind>& pickupKinds()
{
    static const std::vector<PickupKind> kinds = {
        {"narrow", "one narrow coil, bright", {5800.0, 2.2, 110e-12, 600e3}},
        {"wide", "one wide flat coil", {8200.0, 4.4, 90e-12, 250e3}},
        {"double", "two coils against hum", {7800.0, 4.0, 130e-12, 280e3}},
        {"hot", "two coils, many turns", {15500.0, 8.0, 160e-12, 450e3}},
    };
    return kinds;
}

Complex responseAt(const GuitarCircuit& circuit, double hz)
{
    const double w = 2.0 * kPi * hz;
    TwoPort port = guitarPort(circuit, w);
    port *= shunt(Complex(0.0, w * circuit.cable.farad()));
    if (!circuit.buffer) {
        port *= shunt(admittanceOf(circuit.input, w));
        return 1.0 / port.a; // nothing is drawn behind the input
    }
    port *= shunt(admittanceOf(circuit.buffer->input, w));
    TwoPort behind = series(circuit.buffer->outputOhm);
    behind *= shunt(Complex(0.0, w * circuit.buffer->after.farad()) + admittanceOf(circuit.input, w));
    return 1.0 / (port.a * behind.a);
}

ResonanceFigures resonanceOf(const GuitarCircuit& circuit)
{
    constexpr double kStep = 1.0029; // 240 an octave
    double best = 0.0, high = -1e9;
    for (double hz = 300.0; hz <= 20000.0; hz *= kStep)
        if (const double level = levelDb(circuit, hz); level > high) high = level, best = hz;
    ResonanceFigures out;
    out.peakDb = high - levelDb(circuit, kReferenceHz);
    if (out.peakDb < 0.1 || best <= 300.0) return out;
    // The top of a parabola through three points, over the logarithm of frequency.
    const double below = levelDb(circuit, best / kStep), above = levelDb(circuit, best * kStep);
    const double bend = below - 2.0 * high + above;
    const double shift = bend < 0.0 ? 0.5 * (below - above) / bend : 0.0;
    out.hz = best * std::pow(kStep, shift);
    out.peakDb = levelDb(circuit, *out.hz) - levelDb(circuit, kReferenceHz);
    // A second-order low pass peaks at Q^2 / sqrt(Q^2 - 1/4) over its low end.
    const double m = dbToAmplitude(out.peakDb);
    out.q = std::sqrt(0.5 * (m * m + m * std::sqrt(m * m - 1.0)));
    return out;
}

double insertionLossDb(const GuitarCircuit& circuit, double hz)
{
    return levelDb(intoIdealInput(circuit), hz) - levelDb(circuit, hz);
}

double thermalNoiseV(const GuitarCircuit& g)
{
    constexpr double kBoltzmann = 1.380649e-23, kKelvin = 293.15, kLow = 20.0, kHigh = 20000.0;
    constexpr int kSteps = 600;
    const double ratio = std::pow(kHigh / kLow, 1.0 / kSteps);
    double square = 0.0;
    for (int i = 0; i < kSteps; ++i) { // over the logarithm of frequency, where resonances are as wide everywhere
        const double low = kLow * std::pow(ratio, i), hz = low * std::sqrt(ratio), w = 2.0 * kPi * hz;
        TwoPort port = guitarPort(g, w);
        port *= shunt(Complex(0.0, w * g.cable.farad()));
        // From behind, with the source shorted: output impedance b / a of the chain.
        Complex z = port.b / port.a;
        double gain = 1.0;
        if (g.buffer) {
            z = 1.0 / (1.0 / z + admittanceOf(g.buffer->input, w));
            TwoPort behind = series(g.buffer->outputOhm);
            behind *= shunt(Complex(0.0, w * g.buffer->after.farad()) + admittanceOf(g.input, w));
            gain = 1.0 / std::norm(behind.a);
        } else {
            z = 1.0 / (1.0 / z + admittanceOf(g.input, w));
        }
        square += 4.0 * kBoltzmann * kKelvin * z.real() * gain * low * (ratio - 1.0);
    }
    return std::sqrt(square);
}

std::vector<float> loadingFilter(const GuitarCircuit& from, const GuitarCircuit& to, double rateHz, std::size_t taps)
{
    return minimumPhase([&](double hz) { return std::abs(responseAt(to, hz)) / std::abs(responseAt(from, hz)); },
                        rateHz, taps);
}

std::vector<float> circuitFilter(const GuitarCircuit& circuit, double rateHz, std::size_t taps)
{
    return minimumPhase([&](double hz) { return std::abs(responseAt(circuit, hz)); }, rateHz, taps);
}

} // namespace gristle::core
