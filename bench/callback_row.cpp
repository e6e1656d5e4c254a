// What recording eight channels and playing a rig costs the audio callback, beside a callback that does nothing, on the
// JACK server that JACK_DEFAULT_SERVER names: `callback-row SECONDS ROUNDS FOLDER`. `bench/callback` starts a server.

#include "core/rig/rig_document.h"
#include "core/sim/repertoire.h"
#include "engine/rt/live_chain.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <thread>

using namespace gristle;
using namespace gristle::engine;
using Clock = std::chrono::steady_clock;

namespace {

constexpr double kRate = 96000.0;
constexpr std::size_t kBuffer = 64, kChannels = 8;

/// Notes when each block came and whether the server had gone on without us, then passes it on.
class Stopwatch final : public AudioSink {
public:
    explicit Stopwatch(AudioSink* next) : next_(next), cameS_(1 << 20) {}
    void take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept override
    {
        const std::size_t n = blocks_.load();
        if (n < cameS_.size()) {
            cameS_[n] = std::chrono::duration<double>(Clock::now().time_since_epoch()).count();
            blocks_.store(n + 1);
        }
        missed_ += lost;
        if (next_) next_->take(inputs, channels, frames, lost);
    }
    struct Figures {
        int missed = 0;
        std::size_t blocks = 0;
        double p50Us = 0.0, p99Us = 0.0; ///< error of the interval between two blocks
    };
    Figures figures() const
    {
        Figures out{missed_.load(), blocks_.load(), 0.0, 0.0};
        std::vector<double> errors;
        for (std::size_t i = 1; i < out.blocks; ++i)
            errors.push_back(1e6 * std::abs(cameS_[i] - cameS_[i - 1] - double(kBuffer) / kRate));
        if (errors.empty()) return out;
        std::ranges::sort(errors);
        out.p50Us = errors[errors.size() / 2];
        out.p99Us = errors[errors.size() * 99 / 100];
        return out;
    }

private:
    AudioSink* next_;
    std::vector<double> cameS_;
    std::atomic<std::size_t> blocks_{0};
    std::atomic<int> missed_{0};
};

class Quiet final : public AudioSource {
public:
    void fill(float* left, float* right, std::size_t frames) noexcept override
    {
        std::fill_n(left, frames, 0.0f);
        std::fill_n(right, frames, 0.0f);
    }
};

[[noreturn]] void giveUp(const core::Error& error)
{
    std::fprintf(stderr, "%s\n", error.line().c_str());
    std::exit(1);
}

std::unique_ptr<AudioDevice> open()
{
    auto device = openDevice({"JACK:system", kRate, kBuffer, kChannels});
    if (!device) giveUp(device.error());
    return std::move(*device);
}

Stopwatch::Figures idle(double seconds)
{
    auto device = open();
    Quiet quiet;
    Stopwatch watch(nullptr);
    if (!device->start(quiet, &watch)) std::exit(1);
    std::this_thread::sleep_for(std::chrono::duration<double>(seconds));
    device->stop();
    return watch.figures();
}

/// Eight channels to disk, one of them heard through a rig, and a loop played besides.
Stopwatch::Figures busy(double seconds, const std::filesystem::path& file)
{
    auto device = open();
    Recorder recorder;
    Player player(kRate);
    LiveChain chain(recorder, kRate);
    player.setOverlay(&chain);
    core::RigDocument rig;
    auto nodes = core::parseRecallLine("drive drive=14 | amplifier drive=7 | delay time=380ms mix=0.2");
    if (!nodes) giveUp(nodes.error());
    rig.chain = std::move(*nodes);
    core::CompileOptions options;
    options.context.rateHz = kRate;
    options.maxBlock = LiveChain::kMostFrames;
    options.live = true;
    auto compiled = core::CompiledRig::compile(rig, options);
    if (!compiled) giveUp(compiled.error());
    LiveVoice voice;
    voice.rig = std::make_shared<RigSwap>(std::make_shared<core::CompiledRig>(std::move(*compiled)), 96000.0,
                                          LiveChain::kMostFrames);
    chain.setProgram({voice});
    chain.setListening(true);
    auto recording = std::make_shared<core::Recording>(core::Recording{int(kRate), core::AudioBuffer(2, 8 * 96000)});
    const auto volts = core::perform(core::rhythmRiff(2), 104.0, core::standardTuning(), {}, kRate).volts;
    for (std::size_t c = 0; c < 2; ++c)
        std::copy_n(volts.begin(), std::min(volts.size(), recording->audio.frames()),
                    recording->audio.channel(c).begin());
    auto program = std::make_shared<Program>();
    program->entries.push_back({recording, 1.0f});
    program->loopEnd = recording->audio.frames();
    player.setProgram(program);
    player.setPlaying(true);
    Stopwatch watch(&chain);
    if (!device->start(player, &watch)) std::exit(1);
    RecordPlan plan;
    plan.file = file;
    plan.format = {int(kRate), kChannels, core::SampleFormat::Int24, "callback", ""};
    plan.inputs.clear();
    for (std::size_t c = 0; c < kChannels; ++c) plan.inputs.push_back(c);
    if (!recorder.start(plan)) std::exit(1);
    std::this_thread::sleep_for(std::chrono::duration<double>(seconds));
    const auto report = recorder.finish();
    device->stop();
    if (report.lostFrames > 0)
        std::printf("  %lld frames lost at the disk\n", static_cast<long long>(report.lostFrames));
    return watch.figures();
}

} // namespace

int main(int argc, char** argv)
{
    if (argc < 4) return 2;
    const double seconds = std::atof(argv[1]);
    const int rounds = std::atoi(argv[2]);
    int idleMissed = 0, busyMissed = 0;
    std::vector<double> ratios;
    for (int r = 0; r < rounds; ++r) {
        const std::filesystem::path file = std::filesystem::path(argv[3]) / "callback.wav";
        std::filesystem::remove(file);
        const auto i = idle(seconds);
        const auto b = busy(seconds, file);
        std::filesystem::remove(file);
        std::printf("  idle: %d of %zu missed, interval error %.0f us median, %.0f us 99th percentile\n", i.missed,
                    i.blocks, i.p50Us, i.p99Us);
        std::printf("  busy: %d of %zu missed, interval error %.0f us median, %.0f us 99th percentile (%.2f x)\n",
                    b.missed, b.blocks, b.p50Us, b.p99Us, b.p99Us / i.p99Us);
        idleMissed += i.missed, busyMissed += b.missed;
        ratios.push_back(b.p99Us / i.p99Us);
    }
    std::ranges::sort(ratios);
    std::printf("deadline misses %d, bound 3 x %d + 5 = %d; 99th percentile of the interval error %.2f x (reach 1.5)\n",
                busyMissed, idleMissed, 3 * idleMissed + 5, ratios[ratios.size() / 2]);
    return 0;
}
