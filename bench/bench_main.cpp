// Timing, each figure beside its peer or bound in the same run: `gristle-bench FOLDER [files|convolution|rig|session]`
// (the folder takes test files).
// The machines are shared: every pair is run in turns, and the ratio is that of the medians.

#include "overlap_bound.h"

#include "core/audio/audio_writer.h"
#include "core/audio/peak_pyramid.h"
#include "core/measure/measure_file.h"
#include "core/mix/render/render.h"
#include "core/session/session_folder.h"
#include "core/signal/convolver.h"
#include "core/sim/repertoire.h"

#include <algorithm>
#include <chrono>
#include <ebur128.h>
#include <fftw3.h>
#include <fmt/format.h>
#include <functional>
#include <random>
#include <sndfile.h>

using namespace gristle::core;
namespace fs = std::filesystem;

namespace {

using Work = std::function<void()>;

double secondsOf(const Work& work)
{
    const auto began = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - began).count();
}

/// Runs ours and the peer in turns and prints the ratio of the medians beside what is to be reached.
void compare(const char* what, int rounds, const Work& ours, const char* peerName, const Work& peer, double reach)
{
    std::vector<double> a, b;
    for (int i = 0; i < rounds; ++i) {
        b.push_back(secondsOf(peer));
        a.push_back(secondsOf(ours));
    }
    std::ranges::sort(a);
    std::ranges::sort(b);
    const double mine = a[a.size() / 2], theirs = b[b.size() / 2];
    fmt::print("{:<44} {:>9.4f} s   {:<34} {:>9.4f} s   ratio {:>6.2f}   reach {:.2f}\n", what, mine, peerName, theirs,
               mine / theirs, reach);
    std::fflush(stdout);
}

fs::path makeLongFile(const fs::path& folder, double minutes)
{
    const fs::path file = folder / "long.wav";
    const auto frames = static_cast<std::int64_t>(minutes * 60.0 * 48000.0);
    auto writer = AudioWriter::create(file, {48000, 2, SampleFormat::Int24, frames});
    if (!writer) return {};
    std::minstd_rand random(1);
    AudioBuffer block(2, 48000);
    for (std::int64_t at = 0; at < frames; at += 48000) {
        const bool rest = (at / 48000) % 20 == 0; // a second in twenty nobody plays
        const float size = rest ? 1e-4f : 0.25f;
        for (std::size_t c = 0; c < 2; ++c)
            for (float& x : block.channel(c))
                x = size * (float(random()) / float(std::minstd_rand::max()) * 2.0f - 1.0f);
        if (!writer->write(block)) return {};
    }
    return writer->commit() ? file : fs::path();
}

/// A part by the simulated player, a hand of its own on each side, over and over: rests that hum, notes that die away.
fs::path makeGuitarFile(const fs::path& folder, const std::vector<WrittenNote>& part, double minutes)
{
    const fs::path file = folder / "guitar.wav";
    AudioBuffer song;
    for (std::uint32_t c = 0; c < 2; ++c) {
        PlayingStyle hand;
        hand.seed = c + 1;
        SimulatedInterface interface;
        interface.humDbfs = -66.0;
        const auto sound = digitise(perform(part, 96.0, standardTuning(), hand, 48000.0).volts, interface, 48000.0);
        if (c == 0) song = AudioBuffer(2, sound.size());
        std::copy_n(sound.begin(), std::min(sound.size(), song.frames()), song.channel(c).begin());
    }
    const auto frames = static_cast<std::int64_t>(minutes * 60.0 * 48000.0);
    auto writer = AudioWriter::create(file, {48000, 2, SampleFormat::Int24, frames});
    if (!writer) return {};
    for (std::int64_t at = 0; at < frames; at += std::int64_t(song.frames())) {
        song.resize(std::min(song.frames(), std::size_t(frames - at)));
        if (!writer->write(song)) return {};
    }
    return writer->commit() ? file : fs::path();
}

void readPlain(const fs::path& file, const std::function<void(const float*, std::size_t)>& take)
{
    SF_INFO info{};
    SNDFILE* f = sf_open(file.c_str(), SFM_READ, &info);
    std::vector<float> block(32768);
    for (sf_count_t got = 0; (got = sf_readf_float(f, block.data(), 16384)) > 0;) take(block.data(), std::size_t(got));
    sf_close(f);
}

void files(const fs::path& folder)
{
    const fs::path file = makeLongFile(folder, 10.0);
    const Work read = [&] { readPlain(file, [](const float*, std::size_t) {}); };
    const Work ourRead = [&] {
        auto reader = AudioReader::open(file);
        while (!reader->readInterleaved(16384)->empty()) {}
    };
    compare("read and decode, 10 min stereo 24 bit", 7, ourRead, "libsndfile float read", read, 1.2);
    compare(
        "peak pyramid of it", 5,
        [&] {
            auto reader = AudioReader::open(file);
            PeakPyramid pyramids[2];
            AudioBuffer block;
            while (*reader->read(block, 16384) > 0)
                for (std::size_t c = 0; c < 2; ++c) pyramids[c].push(block.channel(c));
            for (auto& p : pyramids) p.finish();
        },
        "libsndfile float read", read, 1.3);
    const auto library = [](const fs::path& of) {
        auto* state = ebur128_init(2, 48000, EBUR128_MODE_I | EBUR128_MODE_LRA | EBUR128_MODE_TRUE_PEAK);
        readPlain(of, [&](const float* x, std::size_t n) { ebur128_add_frames_float(state, x, n); });
        double value = 0.0;
        ebur128_loudness_global(state, &value);
        ebur128_loudness_range(state, &value);
        ebur128_destroy(&state);
    };
    const auto measured = [&](const char* what, const fs::path& of) {
        compare(
            what, 3, [&] { (void)measureFile(of, {}); }, "libebur128: loudness, range, true peak", [&] { library(of); },
            0.25);
    };
    measured("measure, whole, noise", file);
    measured("measure, whole, riff", makeGuitarFile(folder, rhythmRiff(32), 10.0));
    measured("measure, whole, strummed", makeGuitarFile(folder, strummedChords(32), 10.0));
    measured("measure, whole, lead of two minutes", makeGuitarFile(folder, leadLine(16), 2.0));
    MeasureOptions picture;
    picture.keepPicture = true;
    compare(
        "measure and pyramid in one pass", 3, [&] { (void)measureFile(file, picture); }, "libsndfile float read", read,
        18.0);
    fs::remove(file);
    fs::remove(folder / "guitar.wav");
}

void convolution()
{
    std::minstd_rand random(2);
    std::vector<float> x(48000 * 60);
    for (float& v : x) v = float(random()) / float(std::minstd_rand::max()) - 0.5f;
    for (const std::size_t taps : {1024u, 4096u, 24000u}) {
        const std::size_t best = bestOverlapSize(x, taps);
        std::vector<float> h(x.begin(), x.begin() + long(taps));
        OverlapSave convolver(h);
        const std::string name = fmt::format("convolution offline, {} taps, 60 s", taps),
                          peer = fmt::format("FFTW overlap-save at {}", best);
        compare(
            name.c_str(), 7,
            [&] {
                auto y = x;
                convolver.process(y);
            },
            peer.c_str(), [&] { overlapSeconds(x, taps, best); }, 1.5);
    }
}

/// The first rig against the chain of a general sound tool that does the same kind of work.
void rig(const fs::path& folder)
{
    const fs::path dry = folder / "dry.wav", impulse = folder / "impulse.wav", out = folder / "out.wav";
    std::minstd_rand random(3);
    Recording recording{48000, AudioBuffer(1, 48000 * 120)}, response{48000, AudioBuffer(1, 2048)};
    for (float& v : recording.audio.channel(0)) v = 0.3f * (float(random()) / float(std::minstd_rand::max()) - 0.5f);
    for (std::size_t i = 0; i < 2048; ++i)
        response.audio.channel(0)[i] =
            float(0.1 * std::exp(-double(i) / 200.0) * (double(random()) / double(std::minstd_rand::max()) - 0.5));
    (void)writeRecording(dry, recording, SampleFormat::Int24);
    (void)writeRecording(impulse, response);
    std::string taps;
    for (const float v : response.audio.channel(0)) taps += fmt::format("{}\n", v);
    FILE* f = std::fopen((folder / "fir.txt").c_str(), "w");
    std::fputs(taps.c_str(), f);
    std::fclose(f);
    LayerRecipe recipe;
    recipe.file = dry;
    recipe.context.folder = folder;
    recipe.rig.chain = *parseRecallLine("gain db=2 | drive drive=10 | amplifier drive=5 | impulse file=impulse.wav | "
                                        "delay time=300ms feedback=0.3 mix=0.2");
    const std::string sox = "sox -q '" + dry.string() + "' -b 24 '" + (folder / "sox.wav").string() +
                            "' gain -3 overdrive 10 fir '" + (folder / "fir.txt").string() +
                            "' echo 0.8 0.8 300 0.3 reverb 30";
    compare(
        "first rig, 2 min (drive, amplifier, impulse)", 7,
        [&] { (void)renderToFile(out, recipe, SampleFormat::Int24); }, "sox: overdrive, fir, echo, reverb",
        [&] {
            if (std::system(sox.c_str()) != 0) fmt::print("sox is not there\n");
        },
        2.0);
}

void session(const fs::path& folder)
{
    SessionDocument d;
    for (int s = 0; s < 100; ++s) {
        Song song;
        song.name = fmt::format("Song {}", s);
        song.parts.resize(5);
        for (Part& p : song.parts)
            for (int l = 0; l < 10; ++l) {
                Layer layer;
                layer.name = fmt::format("Layer {}", l);
                Take take;
                take.file = fmt::format("audio/{} {} {}.wav", s, l, song.parts.size());
                take.hash = "0123456789abcdef0123456789abcdef";
                layer.takes.push_back(take);
                p.layers.push_back(layer);
            }
        d.songs.push_back(song);
    }
    const fs::path place = folder / "large.gristle";
    auto made = SessionFolder::create(place, d, "");
    double put = 0.0, write = 0.0; // the longest of ten edits in different songs, and of what a worker does after each
    for (std::size_t i = 0; i < 10; ++i) {
        d.songs[i * 7].parts[2].layers[3].gainDb = 1.0;
        put = std::max(put, secondsOf([&] { (void)made->put(d); }));
        const PendingSave pending = made->pendingSave();
        write = std::max(write, secondsOf([&] { (void)writeSave(pending); }));
        made->settle(pending);
    }
    const double open = secondsOf([&] { (void)SessionFolder::open(place, Access::Read); });
    fmt::print("{:<44} open {:.3f} s (reach 1), save {:.4f} s (reach 0.05); in the background to disk {:.3f} s\n",
               "session of 100 songs, 5,000 takes", open, put, write);
    fs::remove_all(place);
}

} // namespace

int main(int argc, char** argv)
{
    if (argc < 2) {
        fmt::print(stderr, "Usage: gristle-bench FOLDER [files|convolution|rig|session]\n");
        return 2;
    }
    const fs::path folder = argv[1];
    const std::string only = argc > 2 ? argv[2] : "";
    fs::create_directories(folder);
    if (only.empty() || only == "files") files(folder);
    if (only.empty() || only == "convolution") convolution();
    if (only.empty() || only == "rig") rig(folder);
    if (only.empty() || only == "session") session(folder);
    return 0;
}
