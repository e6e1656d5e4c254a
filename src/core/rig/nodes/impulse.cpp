#include "core/rig/nodes/nodes.h"

#include "core/audio/audio_reader.h"
#include "core/audio/file_place.h"
#include "core/audio/resampler.h"
#include "core/signal/live_convolver.h"
#include "core/units/decibels.h"

#include <nlohmann/json.hpp>
#include <numeric>

namespace gristle::core {

namespace {

namespace fs = std::filesystem;
constexpr double kLongestS = 20.0;

class Impulse final : public NodeProcessor {
public:
    /// @param lead  frames of the response that stand before its time zero
    Impulse(Recording response, std::size_t lead) : response_(std::move(response)), lead_(lead) {}
    void prepare(const PrepareSpec& spec) override
    {
        sides_.clear();
        for (std::size_t c = 0; c < outputChannels(spec.channels); ++c)
            sides_.emplace_back(response_.audio.channel(std::min(c, response_.audio.channels() - 1)), spec.live);
    }
    void reset() noexcept override
    {
        for (auto& side : sides_) side.reset();
    }
    void takeOver(const NodeProcessor& other) noexcept override
    {
        const auto& before = static_cast<const Impulse&>(other).sides_;
        for (std::size_t c = 0; c < std::min(sides_.size(), before.size()); ++c) sides_[c].takeOver(before[c]);
    }
    std::size_t outputChannels(std::size_t in) const noexcept override
    {
        return std::max(in, response_.audio.channels());
    }
    std::size_t latency() const noexcept override { return sides_.empty() ? 0 : sides_[0].latency() + lead_; }
    double tailSeconds() const noexcept override { return double(response_.audio.frames()) / response_.sampleRateHz; }
    void process(AudioBlock& block) noexcept override
    {
        if (block.channels == 1 && sides_.size() == 2) {
            std::copy_n(block.channel[0], block.frames, block.channel[1]);
            block.channels = 2;
        }
        for (std::size_t c = 0; c < block.channels; ++c) sides_[c].process({block.channel[c], block.frames});
    }

private:
    Recording response_;
    std::size_t lead_;
    std::vector<Convolution> sides_;
};

/// The gain stored beside an impulse, in NAME.wav.json as {"matched_gain_db": n}.
Result<double> storedGain(const fs::path& file)
{
    const fs::path beside = file.string() + ".json";
    const auto text = readText(beside, 1u << 20);
    if (text) {
        const auto json = nlohmann::json::parse(*text, nullptr, false);
        if (json.is_object() && json.contains("matched_gain_db") && json["matched_gain_db"].is_number())
            return json["matched_gain_db"].get<double>();
    }
    return Error{ErrorCode::BadDocument, file.filename().string() + ": no gain is stored with this impulse",
                 "take level=plain"};
}

/// The response and the gain that it is played with.
struct Loaded {
    Recording recording;
    double gain = 1.0;
};

Result<Loaded> load(const std::string& name, bool isMatched, const NodeContext& context)
{
    if (const auto held = context.held.find(name); held != context.held.end())
        return Loaded{*held->second.recording, isMatched ? dbToAmplitude(held->second.matchedGainDb) : 1.0};
    const fs::path file = context.folder / name;
    if (!context.boundary.empty() && !liesInside(file, context.boundary))
        return Error{ErrorCode::BadDocument, "impulse file=" + name + ": it lies outside the session's folder",
                     "bring the impulse into the session"};
    const auto reader = AudioReader::open(file);
    if (!reader) return reader.error();
    if (reader->info().channels > 2)
        return Error{ErrorCode::Unsupported, name + ": an impulse has one or two channels", "split the file"};
    if (reader->info().durationS() > kLongestS)
        return Error{ErrorCode::Unsupported, name + ": it lasts over 20 s and is no impulse", "shorten it"};
    auto recording = readRecording(file);
    if (!recording) return recording.error();
    Loaded out{std::move(*recording), 1.0};
    if (!isMatched) return out;
    const auto db = storedGain(file);
    if (!db) return db.error();
    out.gain = dbToAmplitude(*db);
    return out;
}

Result<std::unique_ptr<NodeProcessor>> makeImpulse(const ParameterValues& v, const NodeContext& context)
{
    const std::string& name = textOf(v, "file");
    if (name.empty()) return Error{ErrorCode::Usage, "impulse: no file is named", "write impulse file=NAME.wav"};
    auto loaded = load(name, textOf(v, "level") == "matched", context);
    if (!loaded) return loaded.error();
    Recording* recording = &loaded->recording;
    double gain = loaded->gain;
    // Convolution sums over samples: at another rate the same response has samples scaled by the ratio of the rates.
    // The resampler rings a little before an onset; silence put in front keeps that, and the node's latency takes it
    // out again.
    const int rate = static_cast<int>(context.rateHz), own = recording->sampleRateHz;
    std::size_t lead = 0;
    if (rate != own) {
        const int common = std::gcd(rate, own);
        const std::size_t unit = std::size_t(own / common),
                          units = (128 + unit - 1) / unit; // a whole number at both rates
        AudioBuffer padded(recording->audio.channels(), recording->audio.frames() + 2 * units * unit);
        for (std::size_t c = 0; c < padded.channels(); ++c)
            std::ranges::copy(std::as_const(recording->audio).channel(c),
                              padded.channel(c).begin() + long(units * unit));
        recording->audio = std::move(padded);
        lead = units * std::size_t(rate / common);
    }
    gain *= double(own) / rate;
    Recording response = resampled(*recording, rate);
    for (std::size_t c = 0; c < response.audio.channels(); ++c)
        for (float& x : response.audio.channel(c)) x = static_cast<float>(double(x) * gain);
    return std::unique_ptr<NodeProcessor>(std::make_unique<Impulse>(std::move(response), lead));
}

} // namespace

NodeType impulseNode()
{
    return {.type = "impulse",
            .title = "Impulse",
            .about =
                "Convolves with a file: a loudspeaker and its microphone, or a room. At another rate its frequency "
                "response stays.",
            .channels = "any; 1 to 2 with a stereo file",
            .parameters =
                {{.key = "file", .label = "file", .kind = ParameterKind::File, .about = "a WAV file of up to 20 s"},
                 {.key = "level",
                  .label = "level",
                  .kind = ParameterKind::Choice,
                  .initial = "plain",
                  .choices = {"plain", "matched"},
                  .about = "matched applies the gain stored with the impulse"}},
            .make = makeImpulse};
}

} // namespace gristle::core
