#include "core/sim/performance.h"

#include "core/signal/biquad.h"
#include "core/sim/plucked_string.h"
#include "core/units/calibration.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <random>

namespace gristle::core {

namespace {

/// MIDI note numbers to Hz.
OpenStrings fromNotes(const std::array<int, 6>& notes)
{
    OpenStrings out{};
    for (std::size_t i = 0; i < 6; ++i) out[i] = 440.0 * std::pow(2.0, (notes[i] - 69) / 12.0);
    return out;
}

} // namespace

OpenStrings standardTuning() { return fromNotes({40, 45, 50, 55, 59, 64}); }
OpenStrings dropDTuning() { return fromNotes({38, 45, 50, 55, 59, 64}); }

Performance perform(const std::vector<WrittenNote>& part, double tempoBpm, const OpenStrings& strings,
                    const PlayingStyle& style, double rateHz)
{
    std::mt19937 random(style.seed);
    std::normal_distribution<double> normal;
    const double beatS = 60.0 / tempoBpm;
    Performance out;
    double endS = style.leadInS;
    for (const WrittenNote& note : part) endS = std::max(endS, style.leadInS + (note.beat + note.beats) * beatS);
    out.volts.assign(static_cast<std::size_t>((endS + style.restAfterS) * rateHz), 0.0f);
    double drift = 0.0;
    for (const WrittenNote& note : part) {
        drift = 0.9 * drift + 0.3 * normal(random); // hands wander slowly around the beat
        const bool dragged = note.beat >= style.lateFromBeat && note.beat < style.lateToBeat;
        const double lateMs = style.timingMeanMs + style.timingSdMs * (0.7 * normal(random) + 0.7 * drift) +
                              (dragged ? style.lateMs : 0.0);
        const double onset = std::max(0.0, style.leadInS + note.beat * beatS + lateMs * 1e-3);
        const double velocity =
            std::clamp(note.velocity * std::pow(10.0, style.dynamicsSdDb * normal(random) / 20.0), 0.05, 1.0);
        out.onsetS.push_back(onset);
        for (const auto& [string, fret] : note.frets) {
            PluckedNote pluckedNote;
            const double cents = style.tuningCents + style.tuningSdCents * normal(random);
            pluckedNote.hz = strings[static_cast<std::size_t>(string)] * std::pow(2.0, fret / 12.0 + cents / 1200.0);
            pluckedNote.velocity = velocity;
            pluckedNote.seconds = note.beats * beatS * 0.97;
            pluckedNote.muted = note.muted;
            pluckedNote.pickupAt = style.pickupAt;
            pluckedNote.seed = random();
            const double strum = (string - note.frets.front().first) * style.strumMs / 5.0 * 1e-3;
            const auto start = static_cast<std::size_t>((onset + std::max(0.0, strum)) * rateHz);
            const auto sound = pluck(pluckedNote, rateHz);
            for (std::size_t i = 0; i < sound.size() && start + i < out.volts.size(); ++i)
                out.volts[start + i] += static_cast<float>(style.volts) * sound[i];
        }
    }
    // Wide swings leave the even part of the magnet's field: a soft limit.
    const double limit = 1.6 * style.volts;
    for (float& v : out.volts) v = static_cast<float>(limit * std::tanh(double(v) / limit));
    Biquad(lowPass(style.pickupHz, style.pickupQ, rateHz)).process(out.volts);
    Biquad(highPass(12.0, 0.7071, rateHz)).process(out.volts); // the pickup has no DC
    return out;
}

std::vector<float> digitise(const std::vector<float>& volts, const SimulatedInterface& interface, double rateHz)
{
    // Hum as a row of odd harmonics with some even ones, falling; the parts' powers sum to 1.
    constexpr double kSeries[] = {0.62, 0.25, 0.55, 0.10, 0.40, 0.06, 0.25};
    double power = 0.0;
    for (const double a : kSeries) power += a * a;
    const Calibration calibration{interface.fullScaleDbu, false};
    const double gain = dbToAmplitude(interface.gainDb) / calibration.fullScaleVolts();
    const double hum = dbToAmplitude(interface.humDbfs) / std::sqrt(power);
    const double noise = dbToAmplitude(interface.noiseDbfs) / std::numbers::sqrt2; // AES17 to plain RMS
    std::mt19937 random(interface.seed);
    std::normal_distribution<double> normal;
    std::vector<float> out(volts.size());
    for (std::size_t i = 0; i < out.size(); ++i) {
        double x = double(volts[i]) * gain + noise * normal(random);
        if (interface.humDbfs > -150.0) {
            const double phase = 2.0 * std::numbers::pi * interface.mainsHz * double(i) / rateHz;
            double order = 0.0;
            for (const double a : kSeries) {
                order += 1.0;
                x += hum * a * std::sin(order * phase + 0.7 * order * order);
            }
        }
        out[i] = static_cast<float>(std::clamp(x, -1.0, 1.0));
    }
    return out;
}

} // namespace gristle::core
