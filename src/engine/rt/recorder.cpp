#include "engine/rt/recorder.h"

#include "core/audio/file_place.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <mutex>
#include <utility>

namespace gristle::engine {

namespace {

constexpr auto kDrainEvery = std::chrono::milliseconds(20);
constexpr int kDrainsPerSync = 12; // the header is brought up to date about four times a second
constexpr std::size_t kDrainFrames = 16384;
constexpr auto kForceEvery = std::chrono::milliseconds(500);

} // namespace

Recorder::~Recorder() { finish(); }

core::Outcome Recorder::start(const RecordPlan& plan)
{
    if (thread_.joinable())
        return core::Error{core::ErrorCode::Usage, "recording: it records already", "stop it first"};
    plan_ = plan;
    plan_.format.channels = plan.inputs.size();
    auto writer = core::TakeWriter::create(plan_.file, plan_.format);
    if (!writer) return writer.error();
    writer_ = std::move(*writer);
    ringFrames_ = static_cast<std::size_t>(plan_.ringSeconds * plan_.format.sampleRateHz) + 1;
    ring_.assign(ringFrames_ * plan_.inputs.size(), 0.0f);
    block_.resize(kDrainFrames * plan_.inputs.size());
    taken_ = written_ = lost_ = 0;
    gaps_.resize(kMostGaps);
    gapCount_ = 0;
    overrun_ = false;
    failure_.reset();
    diskFailure_.reset(), headerFailure_.reset();
    recording_ = true;
    thread_ = std::jthread([this](std::stop_token stop) { write(stop); });
    disk_ = std::jthread([this](std::stop_token stop) { forceToDisk(stop); });
    return core::Done{};
}

void Recorder::mark(const Gap& gap) noexcept
{
    const std::size_t at = gapCount_.load(std::memory_order_relaxed);
    if (at >= kMostGaps) return;
    gaps_[at] = gap;
    gapCount_.store(at + 1, std::memory_order_release);
}

void Recorder::Meter::add(float blockPeak, double blockSizes, std::int64_t blockFrames,
                          std::int64_t blockClipped) noexcept
{
    constexpr auto kRelaxed = std::memory_order_relaxed;
    float before = peak.load(kRelaxed); // whoever looks takes it away meanwhile: no peak is lost, none seen twice
    while (blockPeak > before && !peak.compare_exchange_weak(before, blockPeak)) {}
    turn.fetch_add(1);
    sizes.store(sizes.load(kRelaxed) + blockSizes);
    frames.store(frames.load(kRelaxed) + blockFrames);
    clipped.store(clipped.load(kRelaxed) + blockClipped);
    turn.fetch_add(1);
}

void Recorder::take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept
{
    for (std::size_t c = 0; c < std::min(channels, kMostChannels); ++c) {
        float peak = 0.0f;
        double sizes = 0.0;
        std::int64_t clipped = 0;
        for (std::size_t i = 0; i < frames; ++i) {
            const float x = inputs[c][i], size = std::abs(x);
            peak = std::max(peak, size);
            sizes += double(size);
            clipped += size >= 1.0f - 0x1p-15f;
        }
        meters_[c].add(peak, sizes, std::int64_t(frames), clipped);
    }
    inTake_.store(true); // finish() waits for this block, so that the ring is not touched behind its back
    if (recording_.load()) {
        const std::int64_t at = taken_.load(std::memory_order_relaxed);
        if (lost) mark({at, true});
        const auto free = std::int64_t(ringFrames_) - (at - written_.load(std::memory_order_acquire));
        auto wanted = std::int64_t(frames);
        if (plan_.frames > 0) wanted = std::min(wanted, plan_.frames - at);
        const auto fits = std::min(wanted, free);
        if (fits < wanted) {
            if (!overrun_) mark({at + fits, false});
            lost_.fetch_add(wanted - fits, std::memory_order_relaxed);
        }
        overrun_ = fits < wanted;
        const std::size_t width = plan_.inputs.size();
        for (std::int64_t i = 0; i < fits; ++i) {
            float* const to = ring_.data() + std::size_t((at + i) % std::int64_t(ringFrames_)) * width;
            for (std::size_t k = 0; k < width; ++k)
                to[k] = plan_.inputs[k] < channels ? inputs[plan_.inputs[k]][i] : 0.0f;
        }
        taken_.store(at + fits, std::memory_order_release);
        if (plan_.frames > 0 && at + fits >= plan_.frames) recording_.store(false);
    }
    inTake_.store(false);
}

/// Writes what is in the ring; false where writing failed.
bool Recorder::drain()
{
    const std::size_t width = plan_.inputs.size();
    while (true) {
        const std::int64_t from = written_.load(std::memory_order_relaxed);
        const auto count = std::min<std::int64_t>(taken_.load(std::memory_order_acquire) - from, kDrainFrames);
        if (count <= 0) return true;
        for (std::int64_t i = 0; i < count; ++i)
            std::copy_n(ring_.data() + std::size_t((from + i) % std::int64_t(ringFrames_)) * width, width,
                        block_.data() + std::size_t(i) * width);
        const auto wrote = writer_->write({block_.data(), std::size_t(count) * width});
        if (!wrote) {
            failure_ = wrote.error();
            recording_.store(false);
            return false;
        }
        written_.store(from + count, std::memory_order_release);
    }
}

void Recorder::write(std::stop_token stop)
{
    bool hasSome = false; // the header counts the first frames at once
    for (int round = 1; !stop.stop_requested(); ++round) {
        if (!drain()) return;
        const bool isFirst = !std::exchange(hasSome, written_.load() > 0) && written_.load() > 0;
        if (isFirst || round % kDrainsPerSync == 0)
            if (const auto synced = writer_->sync(); !synced && !headerFailure_) headerFailure_ = synced.error();
        std::this_thread::sleep_for(kDrainEvery);
    }
    drain();
}

/// The disk may take its time: neither the writer nor anybody else waits for it.
void Recorder::forceToDisk(std::stop_token stop)
{
    std::mutex mutex;
    std::condition_variable_any wake;
    while (!stop.stop_requested()) {
        if (const auto forced = core::forceToDisk(plan_.file); !forced && !diskFailure_) diskFailure_ = forced.error();
        std::unique_lock lock(mutex);
        wake.wait_for(lock, stop, kForceEvery, [] { return false; });
    }
}

RecordReport Recorder::finish()
{
    RecordReport report;
    if (!thread_.joinable()) return report;
    recording_.store(false);
    while (inTake_.load()) std::this_thread::yield(); // a block at most
    thread_.request_stop();
    disk_.request_stop();
    thread_.join();
    disk_.join();
    report.frames = writer_->frames();
    report.lostFrames = lost_.load();
    report.gaps.assign(gaps_.begin(), gaps_.begin() + long(gapCount_.load(std::memory_order_acquire)));
    report.failure = failure_ ? failure_ : headerFailure_ ? headerFailure_ : diskFailure_;
    if (const auto closed = writer_->close(); !closed && !report.failure) report.failure = closed.error();
    writer_.reset();
    return report;
}

InputLevel Recorder::level(std::size_t input) noexcept
{
    InputLevel out;
    if (input >= kMostChannels) return out;
    Meter& m = meters_[input];
    out.peak = m.peak.exchange(0.0f);
    Seen now;
    for (std::uint32_t turn = 1; turn % 2 != 0 || turn != m.turn.load();) { // until no block came between
        turn = m.turn.load();
        now = {m.sizes.load(), m.frames.load()};
        out.clipped = m.clipped.load();
    }
    Seen& before = seen_[input];
    out.frames = now.frames - before.frames;
    out.rectified = out.frames > 0 ? (now.sizes - before.sizes) / double(out.frames) : 0.0;
    before = now;
    return out;
}

double bytesPerSecond(const core::TakeFormat& format)
{
    const double bytes = format.format == core::SampleFormat::Int16   ? 2.0
                         : format.format == core::SampleFormat::Int24 ? 3.0
                                                                      : 4.0;
    return bytes * double(format.channels) * format.sampleRateHz;
}

std::optional<double> secondsLeft(const std::filesystem::path& folder, const core::TakeFormat& format)
{
    std::error_code failure;
    const auto space = std::filesystem::space(folder, failure);
    if (failure) return std::nullopt;
    return double(space.available) / bytesPerSecond(format);
}

} // namespace gristle::engine
