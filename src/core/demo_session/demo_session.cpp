#include "core/demo_session/demo_session.h"

#include "core/audio/audio_writer.h"
#include "core/measure/activity.h"
#include "core/measure/vu.h"
#include "core/session/session_folder.h"
#include "core/session/take_import.h"
#include "core/signal/biquad.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "core/timing/alignment.h"

#include <algorithm>
#include <cmath>

namespace gristle::core {

namespace fs = std::filesystem;

namespace {

constexpr double kRate = 48000.0;
/// The typical VU reading, by the rule of measure.
double typicalDbfs(const std::vector<float>& samples)
{
    VuMeter meter(kRate);
    HopTrack hops(kRate);
    meter.push(samples);
    hops.push(samples);
    meter.finish();
    const auto playing = findPlaying(hops.powers(), std::nullopt);
    std::vector<float> readings;
    for (std::size_t i = 0; i < std::min(playing.size(), meter.readings().size()); ++i)
        if (playing[i]) readings.push_back(meter.readings()[i]);
    std::ranges::nth_element(readings, readings.begin() + long(readings.size() / 2));
    return powerToDb(double(readings[readings.size() / 2]));
}

/// One take to be made.
struct Planned {
    std::string song, part, layer, guitar, pickup, rig;
    double place = 0.0;
    std::vector<WrittenNote> notes;
    double tempo = 120.0;
    double barBeats = 4.0;
    OpenStrings strings;
    PlayingStyle style;
    double averageDbfs = -18.0;
    SimulatedInterface interface;
    bool turnedOver = false;
    int microphone = -1; ///< before an amplifier, which; -1: the DI
    std::string file;
    std::string recorded;
};

PlayingStyle playing(std::uint32_t seed, double pickupHz, double pickupAt)
{
    PlayingStyle style;
    style.seed = seed;
    style.pickupHz = pickupHz;
    style.pickupAt = pickupAt;
    return style;
}

std::vector<Planned> plan(const std::string& crunch, const std::string& clean)
{
    std::vector<Planned> out;
    const auto carDeck = [&](const char* part, const char* layer, double place) -> Planned& {
        Planned p;
        p.song = "Car Deck", p.part = part, p.layer = layer, p.place = place;
        p.tempo = 104.0, p.strings = standardTuning(), p.rig = crunch;
        return out.emplace_back(std::move(p));
    };
    {
        Planned& p = carDeck("Rhythm A", "Left 1", -100.0);
        p.notes = rhythmRiff(8);
        p.style = playing(11, 3300.0, 0.085);
        p.averageDbfs = -23.5; // planted: 5.5 dB low
        p.guitar = "the short one", p.pickup = "bridge", p.recorded = "2026-10-03T19:42:10";
    }
    {
        Planned& p = carDeck("Rhythm A", "Right 1", 100.0);
        p.notes = rhythmRiff(8);
        p.style = playing(12, 4400.0, 0.12);
        p.style.lateFromBeat = 20.0, p.style.lateToBeat = 28.0,
        p.style.lateMs = 24.0; // planted: bars 7 and 8 drag, the count-in being bar 1
        p.averageDbfs = -17.8;
        p.interface.humDbfs = -66.0; // planted: hum on one pickup
        p.guitar = "the long one", p.pickup = "middle", p.recorded = "2026-10-03T20:05:31";
    }
    {
        Planned& p = carDeck("Lead", "Middle", 0.0);
        p.notes = leadLine(8);
        p.style = playing(13, 3300.0, 0.10);
        p.averageDbfs = -19.6;
        p.guitar = "the short one", p.pickup = "neck", p.recorded = "2026-10-04T10:12:00";
    }
    for (const bool right : {false, true}) {
        Planned p;
        p.song = "Breakwater", p.part = "Clean", p.layer = right ? "Right" : "Left", p.place = right ? 60.0 : -60.0;
        p.tempo = 76.0, p.strings = dropDTuning(), p.rig = clean;
        p.notes = brokenChords(6, 4.0);
        p.style = playing(right ? 22 : 21, right ? 4400.0 : 3300.0, right ? 0.14 : 0.11);
        p.averageDbfs = right ? -8.5 : -18.6; // planted: the right one is far too hot and clips
        p.guitar = right ? "the long one" : "the short one", p.pickup = right ? "neck" : "both";
        p.recorded = right ? "2026-10-10T18:44:52" : "2026-10-10T18:20:07";
        out.push_back(std::move(p));
    }
    for (const bool right : {false, true}) {
        Planned p;
        p.song = "Last Crossing", p.part = "Texture", p.layer = right ? "Wide right" : "Wide left";
        p.place = right ? 80.0 : -80.0;
        p.barBeats = 3.0, p.tempo = 138.0, p.strings = standardTuning(), p.rig = clean;
        p.notes = brokenChords(10, 3.0);
        p.style = playing(31, 4400.0, 0.11); // planted: the same performance twice, one inverted
        p.averageDbfs = -18.2;
        p.turnedOver = right;
        p.guitar = "the long one", p.pickup = "bridge",
        p.recorded = right ? "2026-10-17T21:18:30" : "2026-10-17T21:09:12";
        p.interface.seed = right ? 8 : 7;
        out.push_back(std::move(p));
    }
    for (int microphone = 0; microphone < 3; ++microphone) {
        Planned p;
        p.song = "Breakwater", p.part = "Chords, three microphones";
        p.layer = microphone == 0 ? "Close" : microphone == 1 ? "Second" : "Room";
        p.place = microphone == 2 ? 30.0 : 0.0;
        p.tempo = 76.0, p.strings = dropDTuning();
        p.notes = rhythmRiff(6);
        p.style = playing(41, 3300.0, 0.09);
        p.averageDbfs = -18.0 - double(microphone);
        p.microphone = microphone; // planted: one is inverted, one stands far off
        p.guitar = "the short one", p.pickup = "bridge", p.recorded = "2026-10-18T11:02:44";
        p.interface.seed = std::uint32_t(20 + microphone);
        out.push_back(std::move(p));
    }
    return out;
}

/// What a microphone before a driven amplifier hears: close; 21 cm further off and inverted; in the room, where the
/// floor and a wall answer.
std::vector<float> atMicrophone(std::vector<float> volts, int which)
{
    const auto through = [&](const BiquadCoefficients& c) { Biquad(c).process(volts); };
    through(highPass(120.0, 0.7, kRate));
    for (float& v : volts) v = std::tanh(9.0f * v);
    through(highPass(85.0, 1.1, kRate));
    through(bell(2600.0, 7.0, 1.0, kRate));
    through(lowPass(4900.0, 0.9, kRate));
    through(lowPass(5600.0, 0.6, kRate));
    if (which == 0) {
        through(lowShelf(180.0, 4.0, kRate)); // near, a gradient receiver has more of the low end
    } else if (which == 1) {
        through(bell(4200.0, -4.0, 0.8, kRate));
    } else {
        through(lowShelf(300.0, -3.0, kRate));
    }
    struct Path {
        double metres, gain;
    };
    const std::vector<Path> paths = which == 0   ? std::vector<Path>{{0.03, 1.0}}
                                    : which == 1 ? std::vector<Path>{{0.24, -1.0}}
                                                 : std::vector<Path>{{3.1, 1.0}, {3.5, 0.45}, {5.2, 0.3}, {7.9, 0.2}};
    std::vector<float> out(volts.size());
    for (const Path& path : paths) {
        const auto heard = movedEarlier(volts, -path.metres / 343.0 * kRate, path.gain < 0.0);
        for (std::size_t i = 0; i < out.size(); ++i) out[i] += float(std::abs(path.gain)) * heard[i];
    }
    return out;
}

Recording record(const Planned& p)
{
    PlayingStyle style = p.style;
    style.leadInS = p.barBeats * 60.0 / p.tempo; // one bar of count-in, nobody plays
    Performance performance = perform(p.notes, p.tempo, p.strings, style, kRate);
    if (p.microphone >= 0) performance.volts = atMicrophone(std::move(performance.volts), p.microphone);
    SimulatedInterface interface = p.interface;
    SimulatedInterface quiet = interface;
    quiet.noiseDbfs = quiet.humDbfs = -200.0;
    interface.gainDb = p.averageDbfs - typicalDbfs(digitise(performance.volts, quiet, kRate));
    auto samples = digitise(performance.volts, interface, kRate);
    if (p.turnedOver)
        for (float& x : samples) x = -x;
    Recording recording{static_cast<int>(kRate), AudioBuffer(1, samples.size())};
    std::ranges::copy(samples, recording.audio.channel(0).begin());
    return recording;
}

Song& songOf(SessionDocument& d, const Planned& p)
{
    for (Song& s : d.songs)
        if (s.name == p.song) return s;
    Song song;
    song.name = p.song;
    song.tempoBpm = p.tempo;
    if (p.song == "Last Crossing") song.meter = "6/8";
    if (p.song == "Breakwater") song.tuning = "drop D";
    return d.songs.emplace_back(std::move(song));
}

/// Sections, and a bus for the rhythm guitars with the lead beside it.
void arrange(Song& song)
{
    const BarGrid grid = song.grid();
    const auto section = [&](const char* name, double bar) { song.sections.push_back({name, grid.quarterOfBar(bar)}); };
    if (song.name == "Car Deck") {
        section("verse", 2.0), section("chorus", 6.0);
        song.buses = {{"rhythm", "", 0.0, ""}};
        for (Layer& layer : song.parts.front().layers) layer.bus = "rhythm";
    }
    if (song.name == "Breakwater") section("intro", 2.0), section("verse", 4.0);
    if (song.name == "Last Crossing") section("swell", 2.0), section("crossing", 7.0);
}

} // namespace

Outcome makeDemoSession(const fs::path& folder, const Progress& progress)
{
    SessionDocument document;
    document.name = "Night Ferry";
    document.sampleRateHz = static_cast<int>(kRate);
    auto session = SessionFolder::create(folder, document, "2026-10-03T19:30:00");
    if (!session) return session.error();
    // An open cabinet with three microphones, as the Cab bench has it, and what each of them gives.
    document.cab.cabinet = "one-open";
    document.cab.microphones = {
        {"coil-presence", {0.03, 0.04, 0.0}}, {"ribbon", {0.2, 0.0, 0.0}}, {"condenser", {1.0, 0.2, 0.0}}};
    const char* const names[] = {"open back, edge", "open back, ribbon", "open back, room"};
    for (std::size_t i = 0; i < std::size(names); ++i) {
        const auto made =
            placementImpulse(settingOf(document.cab).value(), document.cab.microphones[i], int(kRate), 0.2);
        if (!made) return made.error();
        if (const auto kept = session->addImpulse(*made, names[i], "model"); !kept) return kept.error();
    }
    RigDocument clean;
    clean.name = "clean, late edge";
    auto chain = parseRecallLine("amplifier drive=2 bass=4 middle=5 treble=6.5 master=3.5 | "
                                 "impulse file=\"impulses/closed back, near.wav\" level=matched | "
                                 "delay time=1/8d tempo=76 feedback=0.3 mix=0.16");
    if (!chain) return chain.error();
    clean.chain = std::move(*chain);
    clean.outputDb = 20.0;
    const auto cleanFile = session->saveRig(clean);
    if (!cleanFile) return cleanFile.error();
    const auto planned = plan("rigs/crunch, plain.v1.json", *cleanFile);
    for (std::size_t i = 0; i < planned.size(); ++i) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "demo: stopped", ""};
        const Planned& p = planned[i];
        const std::string name = p.song + ", " + p.part + ", " + p.layer;
        const fs::path made = folder / "cache" / (name + ".wav");
        if (const auto wrote = writeRecording(made, record(p), SampleFormat::Int24); !wrote) return wrote;
        auto take = importTake(folder, document.interface, made, {}, p.recorded);
        std::error_code ignored;
        fs::remove(made, ignored);
        if (!take) return take.error();
        Song& song = songOf(document, p);
        if (song.parts.empty() || song.parts.back().name != p.part) song.parts.push_back({p.part, {}});
        Layer layer;
        layer.name = p.layer, layer.place = p.place, layer.guitar = p.guitar, layer.pickup = p.pickup,
        layer.rig = p.rig;
        if (p.microphone >= 0) layer.role = LayerRole::Microphone;
        layer.takes.push_back(std::move(*take));
        song.parts.back().layers.push_back(std::move(layer));
        const auto logged =
            session->log({p.recorded, "take", "Take 1 brought in (synthesised)", p.song, p.part, p.layer});
        if (!logged) return logged;
        progress.at(double(i + 1) / double(planned.size()));
    }
    for (Song& song : document.songs) arrange(song);
    return session->save(document);
}

} // namespace gristle::core
