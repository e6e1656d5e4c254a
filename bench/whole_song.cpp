// A song of 12 parts of 4 layers of 5 minutes, through an estimated amplifier and a cabinet, in 4 buses: how long it
// takes to open, to plan, to note an edit, to hear a changed layer, to render it all.
// Usage: whole-song FOLDER [PARTS] [MINUTES]; bounds: opening 1 s, an edit 50 ms, first sound 0.3 s, 8 x real time.

#include "core/actions/mix_layers.h"
#include "core/mix/render/render_cache.h"
#include "core/session/bus_edit.h"
#include "core/session/session_folder.h"

#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <fmt/format.h>
#include <random>

using namespace gristle::core;
namespace fs = std::filesystem;

namespace {

constexpr int kRate = 48000;

template<typename Work> double seconds(const Work& work)
{
    const auto start = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

/// Plucks every 0.3 s, so that rigs have something to do.
Recording plucks(double minutes, unsigned seed)
{
    std::mt19937 random(seed);
    std::normal_distribution<float> normal(0.0f, 0.2f);
    Recording out{kRate, AudioBuffer(1, std::size_t(minutes * 60.0 * kRate))};
    float held = 0.0f;
    for (std::size_t i = 0; i < out.audio.frames(); ++i) {
        const float since = float(i % 14400) / 4000.0f;
        held += 0.3f * (normal(random) * std::exp(-since) - held);
        out.audio.channel(0)[i] = held;
    }
    return out;
}

template<typename T> T good(Result<T> result)
{
    if (result) return std::move(*result);
    fmt::print(stderr, "{}\n", result.error().line());
    std::exit(1);
}

} // namespace

int main(int argc, char** argv)
{
    if (argc < 2) return 2;
    const fs::path folder = fs::path(argv[1]) / "song.gristle";
    const int parts = argc > 2 ? std::atoi(argv[2]) : 12;
    const double minutes = argc > 3 ? std::atof(argv[3]) : 5.0;
    auto session = good(SessionFolder::create(folder, {}, localNow()));
    SessionDocument d = session.document();
    d.sampleRateHz = kRate;
    const std::string rig = session.rigFiles().front();
    Song song;
    song.name = "Long";
    for (int p = 0; p < parts; ++p) {
        Part part;
        part.name = "Part " + std::to_string(p + 1);
        for (int l = 0; l < 4; ++l) {
            Layer layer;
            layer.name = (l % 2 ? "Right " : "Left ") + std::to_string(1 + l / 2);
            layer.place = l % 2 ? 80.0 : -80.0, layer.gainDb = -20.0, layer.rig = rig;
            Take take;
            take.file = fmt::format("audio/{} {}.wav", p, l);
            take.sampleRateHz = kRate, take.frames = std::int64_t(minutes * 60.0 * kRate);
            const auto wrote =
                writeRecording(folder / take.file, plucks(minutes, unsigned(4 * p + l)), SampleFormat::Int24);
            if (!wrote) return 1;
            layer.takes.push_back(take);
            part.layers.push_back(layer);
        }
        song.parts.push_back(part);
    }
    (void)makeBuses(song, BusesBy::Side);
    d.songs = {song};
    if (!session.save(d)) return 1;

    fmt::print("opening             {:.3f} s (1)\n",
               seconds([&] { (void)good(SessionFolder::open(folder, Access::Read)); }));
    fmt::print("an edit noted       {:.4f} s (0.05)\n", seconds([&] {
                   d.songs[0].parts[0].layers[0].gainDb = -19.0;
                   (void)session.put(d);
               }));
    MixPlan plan;
    fmt::print("planning the song   {:.4f} s\n", seconds([&] { plan = good(planMix(session, d.songs[0], false)); }));
    RenderCache cache;
    auto part = good(planMix(session, d.songs[0], d.songs[0].parts[0], false));
    for (MixLayer& l : part.layers) l.recipe.effort = Effort::Playing;
    (void)good(mixToMemory(part.layers, part.options, 8.0, 16.0, {}, &cache));
    part.layers[0].recipe.rig.outputDb += 1.0;
    fmt::print("a changed layer, 8 s of its part   {:.3f} s (0.3)\n",
               seconds([&] { (void)good(mixToMemory(part.layers, part.options, 8.0, 16.0, {}, &cache)); }));
    MixReport report;
    const double took = seconds([&] {
        report = good(mixToFile(folder / "cache" / "all.wav", plan.layers, plan.options, SampleFormat::Int24));
    });
    fmt::print("all of it           {:.1f} s for {:.0f} s: {:.1f} x real time (8), {} layers\n", took,
               double(report.frames) / kRate, double(report.frames) / kRate / took, report.layers.size());
    return 0;
}
