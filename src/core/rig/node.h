#pragma once

#include "core/audio/audio_buffer.h"
#include "core/signal/oversampler.h"
#include "core/units/result.h"

#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

namespace gristle::core {

/// One or two channels of a block, in volts, processed in place. Two channels of storage are always there, so a node
/// may turn one channel into two.
struct AudioBlock {
    float* channel[2] = {nullptr, nullptr};
    std::size_t channels = 1;
    std::size_t frames = 0;
    /// What came into the rig with this block, before any node: for nodes that listen to the DI wherever they sit.
    const float* di = nullptr;
};

/// How much work a node may take for a sound without folding: the solved amplifier's rate.
enum class Effort { Draft, Playing, Full }; ///< Draft: for figures on the screen

/// What a node needs to know before it runs. Everything it allocates, it allocates then.
struct PrepareSpec {
    double rateHz = 48000.0;
    std::size_t maxBlock = 4096; ///< frames, the longest block that process() will be given
    std::size_t channels = 1;    ///< that come in
    bool live = false;           ///< somebody plays: no delay that can be avoided, at more work
    Effort effort = Effort::Full;
    std::size_t diLate = 0; ///< frames by which what comes in is later than AudioBlock::di
    Oversampler::Phase phase() const noexcept { return live ? Oversampler::Phase::Least : Oversampler::Phase::Linear; }
};

/// A node at work. Phases: prepare (control thread, allocates) -> process (audio thread, any block length up to
/// maxBlock, also 0) -> reset. process() never allocates, locks or waits.
class NodeProcessor {
public:
    virtual ~NodeProcessor() = default;
    virtual void prepare(const PrepareSpec& spec) = 0;
    virtual void process(AudioBlock& block) noexcept = 0;
    virtual void reset() noexcept = 0; ///< as new, after prepare
    /// Takes up what a processor of the same type, prepared alike, remembers, so that changed values are heard without
    /// a start from silence. Audio thread: copies, allocates nothing. What cannot be taken up starts anew.
    virtual void takeOver(const NodeProcessor& before) noexcept { (void)before; }
    virtual std::size_t outputChannels(std::size_t in) const noexcept { return in; }
    virtual std::size_t latency() const noexcept { return 0; }  ///< frames, valid after prepare
    virtual double tailSeconds() const noexcept { return 0.0; } ///< until -90 dB after the input ends
    /// Where it sums lanes: their power apart over that of the sum, dB, since the last reset; see SumLoss.
    virtual std::optional<double> lanesLossDb() const noexcept { return std::nullopt; }
    virtual bool ranAway() const noexcept { return false; } ///< its feedback was held since the last reset
    /// Whether long blocks are quicker than the same in slices; otherwise it is given kSlice frames at most.
    virtual bool takesLong() const noexcept { return false; }
    static constexpr std::size_t kSlice = 4096;
    /// A long block may be played in parts, instead of by process(): begun; taken in, slice by slice, in order; each
    /// part played once all up to its end is taken in, beside what else is done; handed out, part by part, in order.
    /// Allocates. @return frames at which the parts end, none where this block is for process()
    virtual std::vector<std::size_t> beginParts(const AudioBlock& block)
    {
        return (void)block, std::vector<std::size_t>{};
    }
    virtual void takeIn(std::size_t at, std::size_t frames) noexcept { (void)at, (void)frames; }
    virtual void playPart(std::size_t part) noexcept { (void)part; }
    virtual void handOut(std::size_t part) noexcept { (void)part; } ///< then it stands in the block
};

enum class ParameterKind { Number, Time, Choice, File };
enum class Scale { Linear, Logarithmic };

/// A parameter, declared once: file format, command line, inspector, docs and range checks all come from here.
struct ParameterSpec {
    std::string key;
    std::string label;
    std::string unit{}; ///< "dB", "Hz", "ms", "BPM", "%" or empty
    ParameterKind kind = ParameterKind::Number;
    double min = 0.0; ///< of numbers; of times in seconds
    double max = 1.0;
    std::string initial{}; ///< as it would be written in the recall line; empty for a file that must be named
    std::vector<std::string> choices{};
    Scale scale = Scale::Linear;
    std::string about;
    /// It does something only while the choice `of` is one of these.
    struct Condition {
        std::string of;
        std::vector<std::string> choices;
    };
    Condition onlyIf{};
    bool worksWith(const std::map<std::string, std::variant<double, std::string>>& values) const; ///< a complete set
};

/// A number, or the text of a time, choice or file.
using ParameterValue = std::variant<double, std::string>;
using ParameterValues = std::map<std::string, ParameterValue>;

/// An impulse in memory, in the place of a file.
struct HeldImpulse {
    std::shared_ptr<const Recording> recording;
    double matchedGainDb = 0.0; ///< for level=matched
    bool operator==(const HeldImpulse&) const = default;
};

/// What a node's maker is given besides its values.
struct NodeContext {
    std::filesystem::path folder;   ///< relative file names start here
    std::filesystem::path boundary; ///< if not empty, files outside this folder are refused
    double rateHz = 48000.0;
    double fullScaleV = 1.0;                   ///< volts at sample value 1.0 of what comes in
    std::map<std::string, HeldImpulse> held{}; ///< by the names that the rig gives them: no file is read for these
    bool operator==(const NodeContext&) const = default;
};

/// What is most worth seeing of a node.
enum class Character { Filters, Bends, Follows, Echoes, Shows }; ///< Follows: its gain follows the level

struct NodeType {
    std::string type; ///< as in the recall line
    std::string title;
    std::string about;
    std::string channels; ///< "any": as many out as in; "1 to 2": two come out
    std::vector<ParameterSpec> parameters;
    /// Makes a processor from a complete, checked set of values. @error what its files give
    std::function<Result<std::unique_ptr<NodeProcessor>>(const ParameterValues&, const NodeContext&)> make;
    std::string group{}; ///< under which it is listed
    Character character = Character::Filters;

    const ParameterSpec* find(const std::string& key) const noexcept;
};

/// All nodes, in the order in which they are listed. Read-only after the first call; any thread.
const std::vector<NodeType>& nodeTypes();
const NodeType* findNodeType(const std::string& type);

/// Reads a value as written in a recall line. @error Usage with the allowed range
Result<ParameterValue> parseValue(const NodeType& node, const ParameterSpec& spec, const std::string& text);
/// Checks kind and range of a value. @error `code` with the allowed range
Outcome checkValue(const NodeType& node, const ParameterSpec& spec, const ParameterValue& value, ErrorCode code);
std::string valueText(const ParameterValue& value);

/// Access to a complete set of values.
double numberOf(const ParameterValues& values, const std::string& key);
const std::string& textOf(const ParameterValues& values, const std::string& key);

} // namespace gristle::core
