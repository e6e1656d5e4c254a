// How long a folder of impulses takes to be shown, against reading its files: `bench/impulse-folder FOLDER [FILES]`

#include "core/audio/audio_reader.h"
#include "core/audio/audio_writer.h"
#include "core/impulse/impulse_shelf.h"
#include "core/impulse/loudspeaker_model.h"
#include "core/units/decibels.h"

#include <chrono>
#include <cmath>
#include <fmt/format.h>

using namespace gristle::core;
namespace fs = std::filesystem;

namespace {

double since(std::chrono::steady_clock::time_point start)
{
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

/// Impulses of different length, every one another: 43 to 500 ms, as folders hold them.
void makeFolder(const fs::path& folder, int files)
{
    const auto plain = loudspeakerImpulse({}, 48000);
    for (int i = 0; i < files; ++i) {
        const auto name = folder / fmt::format("{:02}", i / 100) / fmt::format("cabinet {:04}.wav", i);
        if (fs::exists(name)) continue;
        fs::create_directories(name.parent_path());
        Recording out{48000, AudioBuffer(1, std::size_t(2048 + (i * 7919) % 22000))};
        const auto x = out.audio.channel(0);
        for (std::size_t k = 0; k < plain.audio.frames(); ++k)
            x[k] = plain.audio.channel(0)[k] * (1.0f + 0.001f * float(i));
        for (std::size_t k = 64; k < x.size(); k += 997) x[k] += 0.01f * float(std::exp(-double(k) / 4000.0));
        (void)writeRecording(name, out, SampleFormat::Int24);
    }
}

} // namespace

int main(int argc, char** argv)
{
    if (argc < 2) return 2;
    const fs::path folder = argv[1], cache = folder / "cards.jsonl";
    const int files = argc > 2 ? std::atoi(argv[2]) : 5000;
    makeFolder(folder, files);
    const auto names = impulseFilesIn(folder);
    if (!names) return fmt::print("{}\n", names.error().line()), 3;
    for (int run = 0; run < 3; ++run) {
        auto start = std::chrono::steady_clock::now();
        for (const auto& name : *names) (void)readRecording(folder / name);
        const double reading = since(start);
        fs::remove(cache);
        double firstRow = -1.0;
        start = std::chrono::steady_clock::now();
        const auto told = [&](const std::vector<ImpulseCard>&) {
            if (firstRow < 0.0) firstRow = since(start);
        };
        const auto cards = lookThrough(folder, {}, told);
        const double shown = since(start);
        (void)writeShelf(cache, *cards);
        start = std::chrono::steady_clock::now();
        const auto known = readShelf(cache);
        const double again = since(start); // the first row stands there as soon as the cache is read
        const auto same = lookThrough(folder, known, {});
        fmt::print("{} files: reading {:.2f} s, shown {:.2f} s ({:.2f} x), first row after {:.3f} s; again: first row "
                   "{:.3f} s, looked through {:.2f} s, {}\n",
                   names->size(), reading, shown, shown / reading, firstRow, again, since(start),
                   *same == *cards ? "the same" : "ANOTHER");
    }
}
