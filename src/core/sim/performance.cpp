#include "core/sim/performance.h"

#include "core/signal/biquad.h"
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

std::array<StringMake, 6> lightStrings() noexcept
{
    return {{{0.40, 78.0, true}, {0.38, 81.0, true}, {0.36, 80.0, true}, {0.43, 74.0}, {0.33, 68.0}, {0.25, 73.0}}};
}

namespace {

constexpr double kFretShiftS = 0.006; // from one fret to the next, while sliding
constexpr double kPlainPickNoise = 0.5;

/// A string that was plucked.
struct Sounding {
    std::size_t string;
    double onsetS;
    PluckedNote note;
};

std::vector<PitchPoint> travelOf(const WrittenNote& note, double beatS)
{
    std::vector<PitchPoint> out;
    double cents = 0.0;
    for (const Glide& g : note.glides) {
        const double from = g.fromBeat * beatS, over = std::max(g.overBeats * beatS, kFretShiftS);
        const int steps = g.kind == Glide::Kind::Slide ? std::max(1, int(std::abs(std::round(g.semitones)))) : 1;
        const double shift = g.kind == Glide::Kind::Slide ? std::min(kFretShiftS, over / steps) : over;
        for (int s = 0; s < steps; ++s) {
            const double at = from + over * (s + 1.0) / steps - shift;
            out.push_back({at, cents});
            cents += 100.0 * g.semitones / steps;
            out.push_back({at + shift, cents});
        }
    }
    return out;
}

void addAt(std::vector<float>& to, double second, double rateHz, const std::vector<float>& sound, float gain)
{
    const auto start = std::llround(second * rateHz);
    for (std::size_t i = 0; i < sound.size(); ++i) {
        const auto at = start + std::int64_t(i);
        if (at >= 0 && at < std::int64_t(to.size())) to[std::size_t(at)] += gain * sound[i];
    }
}

} // namespace

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
    std::vector<Sounding> sounding;
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
            const StringMake& make = style.strings[static_cast<std::size_t>(string)];
            PluckedNote plucked;
            const double cents = style.tuningCents + style.tuningSdCents * normal(random);
            plucked.hz = strings[static_cast<std::size_t>(string)] * std::pow(2.0, fret / 12.0 + cents / 1200.0);
            plucked.velocity = velocity;
            plucked.seconds = note.beats * beatS * 0.97;
            plucked.muted = note.muted;
            plucked.pickupAt = style.pickupAt;
            plucked.inharmonicity = inharmonicityOf(make, style.scaleM * std::exp2(-fret / 12.0));
            plucked.secondPlane = style.secondPlane;
            plucked.travel = travelOf(note, beatS);
            const bool slides = std::ranges::find(note.glides, Glide::Kind::Slide, &Glide::kind) != note.glides.end();
            plucked.friction = slides ? (make.wound ? 1.0 : 0.3) : 0.0;
            plucked.seed = random();
            const double strum = (string - note.frets.front().first) * style.strumMs / 5.0 * 1e-3;
            sounding.push_back({static_cast<std::size_t>(string), onset + std::max(0.0, strum), std::move(plucked)});
        }
    }
    // A string sounds one note at a time: the next one ends it.
    std::array<double, 6> next;
    next.fill(1e9);
    for (auto s = sounding.rbegin(); s != sounding.rend(); ++s) {
        s->note.seconds = std::clamp(next[s->string] - s->onsetS, 0.02, s->note.seconds);
        next[s->string] = s->onsetS;
    }
    for (const Sounding& s : sounding) {
        const auto volts = static_cast<float>(style.volts);
        addAt(out.volts, s.onsetS, rateHz, pluck(s.note, rateHz), volts);
        if (style.pickNoise <= 0.0) continue;
        const auto noise =
            scrape(s.note, style.pickNoise * (style.strings[s.string].wound ? 1.0 : kPlainPickNoise), rateHz);
        addAt(out.volts, s.onsetS - double(noise.size()) / rateHz, rateHz, noise, volts);
    }
    // Wide swings leave the even part of the magnet's field: a soft limit.
    const double limit = 1.6 * style.volts;
    for (float& v : out.volts) v = static_cast<float>(limit * std::tanh(double(v) / limit));
    if (style.pickupHz > 0.0) Biquad(lowPass(style.pickupHz, style.pickupQ, rateHz)).process(out.volts);
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
