#pragma once

#include "core/audio/take_writer.h"
#include "engine/devices/audio_device.h"

#include <array>
#include <atomic>
#include <filesystem>
#include <optional>
#include <thread>

namespace gristle::engine {

struct RecordPlan {
    std::filesystem::path file;
    core::TakeFormat format;            ///< its channels are those of `inputs`
    std::vector<std::size_t> inputs{0}; ///< device channels, from 0, in the order of the file
    std::int64_t frames = 0;            ///< stops by itself after so many; 0: when told
    double ringSeconds = 4.0;           ///< how long the disk may stand still
};

/// A place in a recording where samples are missing.
struct Gap {
    std::int64_t frame = 0; ///< of the file
    bool fromSystem = true; ///< an xrun; else the disk was too slow
    bool operator==(const Gap&) const = default;
};

struct RecordReport {
    std::int64_t frames = 0;
    std::vector<Gap> gaps;
    std::int64_t lostFrames = 0;        ///< that the disk was too slow for
    std::optional<core::Error> failure; ///< writing ended early; what is in the file is whole
};

/// What a meter shows of one channel.
struct InputLevel {
    float peak = 0.0f;        ///< since the last look
    double rectified = 0.0;   ///< mean of the sizes since the last look, as a VU meter weighs them
    std::int64_t frames = 0;  ///< since the last look
    std::int64_t clipped = 0; ///< samples at full scale since the start
};

/// Records inputs to a file: the audio thread puts them into a lock-free ring, a thread of its own writes them and
/// brings the header up to date four times a second, and another one forces all of that to disk twice a second, so that
/// the end of the program loses less than a second and a power cut less than two. Levels are metered whether it records
/// or not. Control thread but for take().
class Recorder final : public AudioSink {
public:
    static constexpr std::size_t kMostChannels = 32;

    Recorder() = default;
    ~Recorder() override; ///< finishes

    /// Begins with the next block. @error as TakeWriter; Usage where it records already
    core::Outcome start(const RecordPlan& plan);
    /// Stops, writes what is held, closes the file.
    RecordReport finish();
    bool isRecording() const noexcept { return recording_.load(); } ///< false too once `frames` are there or it failed
    std::int64_t frames() const noexcept { return taken_.load(); }
    std::size_t gaps() const noexcept { return gapCount_.load(); }
    /// The level of a device channel since this was last asked. One thread.
    InputLevel level(std::size_t input) noexcept;

    void take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept override;

private:
    /// Sums since the start that only the audio thread changes; `turn` is odd while it does, so that who reads sees all
    /// of one block or none.
    struct Meter {
        std::atomic<std::uint32_t> turn{0};
        std::atomic<float> peak{0.0f}; ///< since the last look
        std::atomic<double> sizes{0.0};
        std::atomic<std::int64_t> frames{0}, clipped{0};
        void add(float blockPeak, double blockSizes, std::int64_t blockFrames, std::int64_t blockClipped) noexcept;
    };
    struct Seen {
        double sizes = 0.0;
        std::int64_t frames = 0;
    };
    void write(std::stop_token stop);
    void forceToDisk(std::stop_token stop);
    bool drain();
    void mark(const Gap& gap) noexcept;

    RecordPlan plan_;
    std::optional<core::TakeWriter> writer_;
    std::vector<float> ring_; ///< interleaved, a power of two is not needed: positions only grow
    std::size_t ringFrames_ = 0;
    std::atomic<std::int64_t> taken_{0};   ///< frames put in, by the audio thread
    std::atomic<std::int64_t> written_{0}; ///< frames taken out, by the writer
    std::atomic<std::int64_t> lost_{0};
    std::atomic<bool> recording_{false};
    std::atomic<bool> inTake_{false};
    static constexpr std::size_t kMostGaps = 1 << 16; // beyond, the take is of no use
    std::vector<Gap> gaps_;
    std::atomic<std::size_t> gapCount_{0};
    bool overrun_ = false; ///< audio thread: inside a stretch that the disk was too slow for
    std::array<Meter, kMostChannels> meters_;
    std::array<Seen, kMostChannels> seen_;               ///< of who asks for the level
    std::optional<core::Error> failure_, headerFailure_; ///< the writer's; the header's is told, and it goes on
    std::optional<core::Error> diskFailure_;             ///< of forcing to disk
    std::vector<float> block_;
    std::jthread thread_, disk_;
};

/// Bytes a second that a recording takes.
double bytesPerSecond(const core::TakeFormat& format);
/// How long a disk that holds `folder` lasts for such a recording, seconds; none where it cannot be asked.
std::optional<double> secondsLeft(const std::filesystem::path& folder, const core::TakeFormat& format);

} // namespace gristle::engine
