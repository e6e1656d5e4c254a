#include "support/natural_guitar.h"

#include "support/sampled_guitar.h"

#include <array>
#include <map>
#include <numbers>
#include <random>

namespace gristle::test {

namespace {

struct Written {
    double beat;
    double beats; ///< until it is damped
    std::vector<int> midi;
    bool isUp = false;
};

constexpr double kBeatS = 0.5; // 120 a minute

/// Two bars that are repeated; the last beat of every second time is a rest, into which all decays.
std::vector<Written> twoBars(NaturalPart part)
{
    std::vector<Written> out;
    const auto each = [&](double from, double step, std::initializer_list<int> notes, double length) {
        double beat = from;
        for (const int n : notes) {
            if (n > 0) out.push_back({beat, length, {n}});
            beat += step;
        }
    };
    constexpr std::array<std::array<int, 6>, 4> kChords{
        {{40, 47, 52, 56, 59, 64}, {45, 52, 57, 61, 64, 69}, {43, 47, 50, 55, 59, 67}, {48, 52, 55, 60, 64, 67}}};
    switch (part) {
    case NaturalPart::Riff: each(0.0, 0.5, {40, 43, 45, 40, 47, 45, 43, 0, 40, 43, 46, 45, 43, 40, 38, 0}, 0.48); break;
    case NaturalPart::Chug:
        for (int i = 0; i < 14; ++i) {
            const int root = i < 8 ? 40 : 43;
            out.push_back({0.5 * i, 0.3, {root, root + 7, root + 12}});
        }
        break;
    case NaturalPart::Strum:
        for (int i = 0; i < 7; ++i) {
            const auto& chord = kChords[std::size_t(i / 2)];
            out.push_back({double(i), 0.98, {chord.begin(), chord.end()}, i % 2 == 1});
        }
        break;
    case NaturalPart::Sixteenths:
        each(0.0, 0.25, {52, 52, 55, 52, 57, 52, 55, 52, 50, 50, 53, 50, 55, 50, 53, 50}, 0.22);
        each(4.0, 0.25, {48, 48, 52, 48, 53, 48, 52, 48, 47, 47, 50, 47}, 0.22);
        break;
    case NaturalPart::Arpeggio:
        for (int i = 0; i < 14; ++i) {
            constexpr std::array<int, 8> kStrings{0, 2, 3, 4, 5, 4, 3, 2};
            out.push_back({0.5 * i, 2.0, {kChords[std::size_t(i / 8)][std::size_t(kStrings[std::size_t(i % 8)])]}});
        }
        break;
    case NaturalPart::Lead:
        each(0.0, 0.75, {64, 67, 69, 71, 69, 67}, 0.72);
        each(4.5, 0.5, {74, 72, 71, 67, 0}, 0.48);
        break;
    }
    return out;
}

/// A string as a delay line that loses a little in each round (source: Smith 1992, Physical modeling using digital
/// waveguides), plucked by a bent shape; its own weak tail of fingers when it is damped.
void addString(std::vector<float>& out, double fromS, double lengthS, int midi, int velocity, double rateHz)
{
    const double hz = 440.0 * std::exp2((midi - 69) / 12.0), hard = velocity / 127.0;
    const double bright = 0.15 + 0.5 * (1.0 - hard); // share of the sample before, in the loss
    const double period = rateHz / hz - bright;
    const auto whole = std::size_t(period);
    const double part = period - double(whole);
    std::vector<double> line(whole + 2);
    const double plucked = 0.17 * double(line.size());
    double mean = 0.0;
    for (std::size_t i = 0; i < line.size(); ++i) {
        const double at = double(i);
        line[i] = at < plucked ? at / plucked : (double(line.size()) - at) / (double(line.size()) - plucked);
        mean += line[i] / double(line.size());
    }
    for (double& v : line) v -= mean;
    const double size = 0.4 * std::pow(hard, 1.5), stays = std::pow(10.0, -3.0 / (hz * (1.2 + 200.0 / hz)));
    const double damped = std::pow(10.0, -3.0 / (hz * 0.06));
    double before = 0.0;
    std::size_t at = 0;
    const auto from = std::size_t(fromS * rateHz);
    const auto end = std::size_t(lengthS * rateHz);
    for (std::size_t i = 0; from + i < out.size(); ++i) {
        if (i > end + std::size_t(0.2 * rateHz)) break;
        const std::size_t next = (at + 1) % line.size();
        const double now = (1.0 - part) * line[next] + part * line[at]; // a part of a sample, linearly
        const double lost = (i < end ? stays : damped) * ((1.0 - bright) * now + bright * before);
        before = now;
        // The bridge hears the slope: what goes out is the difference, as a coil hears it.
        out[from + i] += float(size * (now - lost) * 8.0 + size * 0.5 * now);
        line[at] = lost;
        at = next;
    }
}

/// All that a part has in that time, with what is added.
std::vector<Written> strokesOf(NaturalPart part, const NaturalPlaying& playing)
{
    std::vector<Written> out;
    const auto written = twoBars(part);
    for (int round = 0; (8.0 * round + 8.0) * kBeatS < playing.seconds; ++round)
        for (const Written& w : written) {
            out.push_back(w);
            out.back().beat += 8.0 * round;
        }
    if (const auto at = std::size_t(playing.added); playing.added >= 0 && at + 1 < out.size()) {
        const double half = 0.5 * (out[at + 1].beat - out[at].beat);
        Written more = out[at];
        more.beat += half, more.beats = std::min(more.beats, 0.96 * half);
        out[at].beats = more.beats;
        out.insert(out.begin() + playing.added + 1, more);
    }
    return out;
}

constexpr int kLowest = 30, kNotes = 60; // MIDI, that a sampled guitar is asked for

/// How long after a note is begun its string is heard, s: what was recorded may begin with the pick's way to it. By a
/// plain rule on each note alone: where 3 ms first hold a tenth of the energy that 3 ms hold at most in 150.
double releaseS(const NaturalVoice& voice, int midi, int rateHz)
{
    static std::map<std::string, std::array<double, kNotes>> known;
    const auto [at, isNew] = known.try_emplace(voice.name + std::to_string(rateHz));
    if (isNew) {
        std::vector<SampledNote> notes;
        for (int i = 0; i < kNotes; ++i) notes.push_back({0.5 * i + 0.1, 0.2, kLowest + i, 90});
        const auto x = playSampled(notes, SampledGuitar(voice.program), rateHz, 0.5 * kNotes, 0.3,
                                   QString::fromStdString(voice.font));
        const auto window = std::size_t(0.003 * rateHz);
        for (int i = 0; i < kNotes && !x.empty(); ++i) {
            const auto from = std::size_t(sampledOnsetS(notes[std::size_t(i)].startS, rateHz) * rateHz);
            std::vector<double> energy(std::size_t(0.15 * rateHz));
            for (std::size_t k = 0; k < energy.size(); ++k)
                for (std::size_t n = 0; n < window; ++n) energy[k] += std::pow(double(x[from + k + n]), 2.0);
            const double most = *std::ranges::max_element(energy);
            const auto first = std::ranges::find_if(energy, [&](double e) { return e > 0.1 * most; });
            at->second[std::size_t(i)] = double(first - energy.begin() + std::ptrdiff_t(window) / 2) / rateHz;
        }
    }
    return at->second[std::size_t(std::clamp(midi - kLowest, 0, kNotes - 1))];
}

} // namespace

const char* nameOf(NaturalPart part)
{
    constexpr const char* kNames[] = {"riff", "chug", "strum", "sixteenths", "arpeggio", "lead"};
    return kNames[int(part)];
}

std::vector<NaturalVoice> naturalVoices()
{
    std::vector<NaturalVoice> out;
    for (const auto& [font, mark] : {std::pair("/usr/share/sounds/sf2/TimGM6mb.sf2", "A"),
                                     std::pair("/usr/share/sounds/sf2/FluidR3_GM.sf2", "B")}) {
        if (!QFile::exists(font) || QStandardPaths::findExecutable("fluidsynth").isEmpty()) continue;
        for (const auto& [name, program] :
             {std::pair("nylon", 24), {"steel", 25}, {"jazz", 26}, {"clean", 27}, {"muted", 28}})
            out.push_back({std::string(name) + " " + mark, font, program, program == 28});
    }
    out.push_back({"waveguide", "", 0, false});
    return out;
}

NaturalTake playNatural(const NaturalVoice& voice, NaturalPart part, const NaturalPlaying& playing, int rateHz)
{
    std::mt19937 random(playing.seed);
    std::uniform_int_distribution<int> velocity(40, 120);
    std::uniform_real_distribution<double> strumMs(10.0, 25.0);
    std::normal_distribution<double> off(0.0, 1e-3 * playing.spreadMs);
    NaturalTake out;
    std::vector<SampledNote> notes;
    int count = 0;
    for (const Written& w : strokesOf(part, playing)) {
        const double asked = 0.3 + w.beat * kBeatS + (playing.spreadMs > 0.0 ? off(random) : 0.0);
        double stroke = 1e9; // the first of its strings that is heard
        const bool isLost = count++ == playing.lost;
        const int struck = velocity(random), hard = playing.isEven ? 100 : struck;
        constexpr std::array<int, 8> kSteps{-5, -4, -3, -2, 2, 3, 5, 7};
        const int step = playing.isOther ? kSteps[random() % kSteps.size()] : 0;
        const double strumS = w.midi.size() > 3 ? 1e-3 * strumMs(random) : 0.002;
        for (std::size_t i = 0; i < w.midi.size(); ++i) {
            const std::size_t string = w.isUp ? w.midi.size() - 1 - i : i;
            const double later = w.midi.size() > 1 ? strumS * double(i) / double(w.midi.size() - 1) : 0.0;
            const int unlike = int(random() % 13) - 6, v = playing.isEven ? hard : std::clamp(hard + unlike, 40, 120);
            const int midi = w.midi[string] + playing.semitones + step;
            if (isLost) continue;
            notes.push_back({asked + later, w.beats * kBeatS - later, midi, v});
            const double heard = voice.font.empty()
                                     ? asked + later
                                     : sampledOnsetS(std::floor(1000.0 * (asked + later)) / 1000.0, rateHz) +
                                           releaseS(voice, midi, rateHz);
            stroke = std::min(stroke, heard);
        }
        if (!isLost) out.strokesS.push_back(stroke);
    }
    if (voice.font.empty()) {
        out.x.resize(std::size_t(playing.seconds * rateHz));
        for (const SampledNote& n : notes) addString(out.x, n.startS, n.lengthS, n.midi, n.velocity, rateHz);
        float most = 0.0f;
        for (const float v : out.x) most = std::max(most, std::abs(v));
        for (float& v : out.x) v *= 0.3f / most;
    } else {
        out.x = playSampled(notes, SampledGuitar(voice.program), rateHz, playing.seconds, 0.3,
                            QString::fromStdString(voice.font));
    }
    return out;
}

std::vector<float> driven(std::vector<float> x, double gain, double rateHz)
{
    const double w = std::tan(std::numbers::pi * 5000.0 / rateHz), q = std::numbers::sqrt2;
    const double norm = 1.0 / (1.0 + q * w + w * w), b = w * w * norm;
    const double a1 = 2.0 * (w * w - 1.0) * norm, a2 = (1.0 - q * w + w * w) * norm;
    double z1 = 0.0, z2 = 0.0;
    for (float& v : x) {
        const double in = 0.3 * std::tanh(gain * double(v)), y = b * in + z1;
        z1 = 2.0 * b * in - a1 * y + z2;
        z2 = b * in - a2 * y;
        v = float(y);
    }
    return x;
}

} // namespace gristle::test
