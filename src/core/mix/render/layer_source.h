#pragma once

#include "core/mix/render/take_reader.h"
#include "core/rig/compiled_rig.h"
#include "core/stereo/pan_law.h"
#include "core/units/calibration.h"

namespace gristle::core {

/// An impulse that is heard in the place of a file that the rig names, without being kept first: it lies elsewhere, or
/// was only just made. At the level of what it replaces.
struct ImpulseInPlace {
    std::string name; ///< as the rig names it
    std::filesystem::path file;
    std::shared_ptr<const Recording> recording; ///< of no file
    bool operator==(const ImpulseInPlace&) const = default;
};

/// One performance on its way through a rig. A value; equal where it sounds alike, see soundKey().
struct LayerRecipe {
    std::filesystem::path file;
    std::string name;
    int channelFromOne = 0;          ///< 0: the only one, or any where all are alike
    bool isStereo = false;           ///< the first two channels, each through a rig of its own, which is mono
    std::vector<PieceRecipe> pieces; ///< where any, in the place of the file: frame 0 is the beginning of the song
    RigDocument rig;                 ///< an empty chain: dry
    NodeContext context;             ///< where the rig's files are; its rate is set by the source
    std::vector<ImpulseInPlace> impulses{};
    Calibration input;     ///< of the take
    Calibration output;    ///< of the session's output
    int rateHz = 0;        ///< of what comes out; 0: the take's own
    double startS = 0.0;   ///< of the take, from where it is heard
    double endS = -1.0;    ///< up to where; negative: to its end and then the rig's tail
    double earlierS = 0.0; ///< that the take is moved by; below 0: later. Any part of a sample
    bool isInverted = false;
    double tailS = -1.0; ///< after the end; negative: what the rig declares
    bool allowMissing = false;
    Effort effort = Effort::Full;
    bool operator==(const LayerRecipe&) const = default;
};

/// The take of a recipe, joined of its pieces, without rig; of a stereo one the left side. @error as TakeReader
Result<TakeReader> openTake(const LayerRecipe& recipe);

/// Pulls a layer block by block: file, channel, rate, volts, rig, full scale again; latency taken out, so that frame 0
/// is the take's frame 0. A start in the middle is preceded by 2 s that are rendered and not heard, so that echoes and
/// memory are there. A take that is moved has its frames elsewhere; what comes from before its start is silence. Memory
/// is constant whatever the length. One thread at a time.
class LayerSource {
public:
    /// @error as AudioReader, chooseChannel and CompiledRig; Unsupported for a stereo take through a stereo rig
    static Result<LayerSource> open(const LayerRecipe& recipe);
    LayerSource(LayerSource&&) noexcept;
    LayerSource& operator=(LayerSource&&) noexcept;
    ~LayerSource();

    int rateHz() const noexcept;
    std::size_t channels() const noexcept; ///< 1 or 2
    std::int64_t frames() const noexcept;  ///< in all, tail included
    std::size_t latency() const noexcept;
    const CompiledRig& rig() const noexcept;
    double inputFullScaleVolts() const noexcept;
    const AudioInfo& info() const noexcept;

    /// Fills `out` (its channels as channels()) with up to `frames` frames; fewer at the end, 0 past it.
    /// @error what reading the file gives
    Result<std::size_t> pull(AudioBuffer& out, std::size_t frames);

private:
    struct State;
    explicit LayerSource(std::unique_ptr<State> state);
    static Result<LayerSource> openBoth(const LayerRecipe& recipe);
    Result<std::size_t> pullOwn(AudioBuffer& out, std::size_t frames);
    std::unique_ptr<State> state_;
    std::unique_ptr<LayerSource> right_; ///< of a stereo recipe, whose left side this is
    AudioBuffer side_;                   ///< of one of them, on its way out
};

} // namespace gristle::core
