// A full rig: live in blocks of 64 frames as a device would ask for them, and rendered beside sox doing the like.
// `bench/full-rig WORK-FOLDER`

#include "core/audio/audio_writer.h"
#include "core/mix/render/render.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <fmt/format.h>
#include <fstream>
#include <numbers>
#include <random>
#include <thread>

using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;
constexpr std::size_t kBlock = 64, kImpulse = 2048;
constexpr double kLiveS = 30.0, kFileS = 600.0;

using Clock = std::chrono::steady_clock;
double now() { return std::chrono::duration<double>(Clock::now().time_since_epoch()).count(); }

/// Chords, twice a second, peaks of some 0.3.
std::vector<float> chords(double seconds)
{
    std::vector<float> out(std::size_t(seconds * kRate));
    for (std::size_t i = 0; i < out.size(); ++i) {
        const double t = std::fmod(double(i) / kRate, 0.5);
        double sum = 0.0;
        for (const double hz : {110.0, 164.8, 220.0, 277.2, 329.6})
            for (int h = 1; h < 6; ++h)
                sum += std::sin(2.0 * std::numbers::pi * hz * h * t + h) * std::exp(-t * (1.0 + h)) / h;
        out[i] = float(0.06 * sum);
    }
    return out;
}

void write(const std::filesystem::path& path, const std::vector<float>& x)
{
    auto writer = AudioWriter::create(path, {int(kRate), 1, SampleFormat::Float32, std::int64_t(x.size())}).value();
    AudioBuffer block(1, x.size());
    std::ranges::copy(x, block.channel(0).begin());
    (void)writer.write(block);
    (void)writer.commit();
}

std::vector<float> impulse(unsigned seed)
{
    std::mt19937 random(seed);
    std::normal_distribution<float> draw(0.0f, 0.05f);
    std::vector<float> out(kImpulse);
    for (std::size_t i = 0; i < out.size(); ++i) out[i] = draw(random) * std::exp(-float(i) / 200.0f);
    return out;
}

RigDocument rigWith(const char* amplifier)
{
    RigDocument rig;
    rig.chain = parseRecallLine(fmt::format("gate | compressor | softclip | {} | {{ impulse file=a.wav ; impulse "
                                            "file=b.wav }} gain=-6 | delay time=300ms | reverb",
                                            amplifier))
                    .value();
    return rig;
}

constexpr double kBlockS = double(kBlock) / kRate;

/// What a block takes, shortest first, where one is asked for each 1.33 ms.
/// @param work  of the frame at which the block begins
template<typename Work> std::vector<double> paced(std::size_t frames, const Work& work)
{
    std::vector<double> took;
    const double began = now();
    for (std::size_t at = 0; at + kBlock <= frames; at += kBlock) {
        const double due = began + double(took.size()) * kBlockS;
        if (const double wait = due - now(); wait > 0.0)
            std::this_thread::sleep_for(std::chrono::duration<double>(wait));
        const double start = now();
        work(at);
        took.push_back(now() - start);
    }
    std::ranges::sort(took);
    return took;
}
double partOf(const std::vector<double>& sorted, double part)
{
    return sorted[std::size_t(part * double(sorted.size() - 1))];
}

void live(const RigDocument& rig, const char* name, const std::filesystem::path& work)
{
    CompileOptions options;
    options.context.folder = work;
    options.context.fullScaleV = 1.0;
    options.maxBlock = kBlock;
    options.live = true;
    auto compiled = CompiledRig::compile(rig, options).value();
    const auto x = chords(kLiveS);
    const auto took = paced(x.size(), [&](std::size_t at) {
        float left[kBlock], right[kBlock];
        std::copy_n(x.begin() + long(at), kBlock, left);
        AudioBlock block{{left, right}, 1, kBlock};
        compiled.process(block);
    });
    const double median = partOf(took, 0.5);
    fmt::print(
        "full rig live, {}: median {:.0f} % of a block (reach 25), 10th percentile {:.0f} %, 99.9th {:.1f} x the "
        "median (reach 4); the rig's own delay {} frames\n",
        name, 100.0 * median / kBlockS, 100.0 * partOf(took, 0.1) / kBlockS, partOf(took, 0.999) / median,
        compiled.latency());
}

/// What the machine does to work that takes a fifth of a block and always the same.
void sameWork()
{
    volatile double sum = 0.0;
    const auto add = [&](std::size_t count) {
        for (std::size_t i = 0; i < count; ++i) sum = sum + std::sqrt(double(i));
    };
    constexpr std::size_t kTrial = 100000;
    double trialS = 1e9;
    for (int i = 0; i < 20; ++i) {
        const double began = now();
        add(kTrial);
        trialS = std::min(trialS, now() - began);
    }
    const auto count = std::size_t(0.2 * kBlockS / trialS * kTrial);
    const auto took = paced(std::size_t(kLiveS * kRate), [&](std::size_t) { add(count); });
    const double median = partOf(took, 0.5);
    fmt::print("work that is always the same: median {:.0f} % of a block, 99.9th {:.1f} x the median\n",
               100.0 * median / kBlockS, partOf(took, 0.999) / median);
}

} // namespace

int main(int argc, char** argv)
{
    const std::filesystem::path work = argc > 1 ? argv[1] : ".";
    write(work / "a.wav", impulse(1));
    write(work / "b.wav", impulse(2));
    write(work / "di.wav", chords(kFileS));
    for (const char* amplifier : {"circuit voice=clean", "circuit voice=tight", "amplifier"})
        live(rigWith(amplifier), amplifier, work);
    sameWork();

    std::ofstream taps(work / "taps.txt");
    for (const float v : impulse(1)) taps << v << "\n";
    taps.close();
    const std::string line =
        fmt::format("cd '{}' && sox -q di.wav -b 32 sox.wav gain -3 overdrive 20 fir taps.txt echo 0.8 "
                    "0.7 300 0.3 reverb 40 gain -6",
                    work.string());
    for (const auto& [amplifier, part] :
         {std::pair("circuit voice=clean", 0.125), {"circuit voice=tight", 0.125}, {"amplifier", 0.5}}) {
        LayerRecipe recipe;
        recipe.file = work / "di.wav";
        recipe.rig = rigWith(amplifier);
        recipe.context.folder = work;
        double soxS = 1e9, oursS = 1e9; // the best of each, in turns: the machine has better minutes and worse
        for (int round = 0; round < 2; ++round) {
            const double began = now();
            if (std::system(line.c_str()) != 0) return fmt::print("sox is missing\n"), 1;
            const double between = now();
            if (!renderToFile(work / "rendered.wav", recipe, SampleFormat::Float32)) return 1;
            soxS = std::min(soxS, between - began);
            oursS = std::min(oursS, now() - between);
        }
        fmt::print("full rig rendered, {} s, {}: {:.1f} x real time, sox {:.0f} x: {:.3f} of its speed (reach {})\n",
                   kFileS, amplifier, kFileS / oursS, kFileS / soxS, soxS / oursS, part);
    }
}
