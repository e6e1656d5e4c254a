#include "core/mix/render/take_reader.h"

#include "core/signal/sinc_read.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace gristle::core {

namespace {

constexpr double kWhole = 1e-6; // parts of a sample that are none

struct Source {
    AudioReader reader;
    std::size_t channel;
    std::int64_t next = 0; ///< the frame that comes without winding
};

Result<Source> openSource(const std::filesystem::path& file, int channelFromOne)
{
    auto reader = AudioReader::open(file);
    if (!reader) return reader.error();
    const auto channel = chooseChannel(file, channelFromOne);
    if (!channel) return channel.error();
    return Source{std::move(*reader), *channel, 0};
}

/// Frames [from, from + count) of the chosen channel; silence outside of the file.
Outcome readStretch(Source& source, std::int64_t from, std::size_t count, std::vector<float>& out)
{
    out.assign(count, 0.0f);
    const std::int64_t all = source.reader.info().frames;
    const std::int64_t first = std::clamp<std::int64_t>(from, 0, all);
    const std::int64_t last = std::clamp<std::int64_t>(from + std::int64_t(count), first, all);
    if (first == last) return Done{};
    if (first != source.next)
        if (const auto wound = source.reader.seek(first); !wound) return wound;
    source.next = first;
    AudioBuffer block;
    while (source.next < last) {
        const auto got = source.reader.read(block, std::size_t(last - source.next));
        if (!got) return got.error();
        if (*got == 0) break;
        const auto x = std::as_const(block).channel(source.channel);
        std::ranges::copy(x, out.begin() + long(source.next - from));
        source.next += std::int64_t(*got);
    }
    return Done{};
}

} // namespace

struct TakeReader::State {
    std::vector<Source> sources;
    std::vector<PieceRecipe> pieces; ///< none: the first source as it is
    AudioInfo info;
    std::int64_t at = 0;
    std::vector<float> stretch;

    double rate() const { return info.sampleRateHz; }
    double endOf(std::size_t i) const
    {
        return std::min(pieces[i].toS, i + 1 < pieces.size() ? pieces[i + 1].fromS : info.durationS());
    }

    /// Adds a piece's share of the frames [from, from + out.size()) of the song.
    Outcome addPiece(std::size_t i, std::int64_t from, std::span<float> out)
    {
        const PieceRecipe& p = pieces[i];
        const double fadeIn = p.fromS <= 0.0 ? 0.0 : p.fadeS;
        const double fadeOut = i + 1 < pieces.size() ? pieces[i + 1].fadeS : p.toS < 1e9 ? p.fadeS : 0.0;
        const double begins = std::max(0.0, p.fromS - 0.5 * fadeIn), ends = endOf(i) + 0.5 * fadeOut;
        const std::int64_t first = std::max(from, std::int64_t(std::ceil(begins * rate())));
        const std::int64_t last = std::min(from + std::int64_t(out.size()), std::int64_t(std::ceil(ends * rate())));
        if (first >= last) return Done{};
        // Where in the file a frame of the song is read: straight, about the middle of the piece.
        const double middle = 0.5 * (p.fromS + endOf(i));
        const double ratio = std::exp2(p.cents / 1200.0);
        const auto place = [&](std::int64_t frame) {
            const double t = double(frame) / rate();
            return (middle + (t - middle) * ratio - p.laterS - p.atS) * rate();
        };
        const bool isWhole = p.cents == 0.0 && std::abs(place(first) - std::round(place(first))) < kWhole;
        const auto lowest = std::int64_t(std::floor(place(first))) - std::int64_t(kSincTaps);
        const auto highest = std::int64_t(std::ceil(place(last - 1))) + std::int64_t(kSincTaps);
        if (const auto got = readStretch(sources[i], lowest, std::size_t(highest - lowest), stretch); !got) return got;
        for (std::int64_t f = first; f < last; ++f) {
            const double t = double(f) / rate();
            double gain = p.gain;
            if (fadeIn > 0.0 && t < p.fromS + 0.5 * fadeIn)
                gain *= std::sin(0.5 * std::numbers::pi * std::max(0.0, (t - begins) / fadeIn));
            if (fadeOut > 0.0 && t > ends - fadeOut)
                gain *= std::sin(0.5 * std::numbers::pi * std::max(0.0, (ends - t) / fadeOut));
            const double inStretch = place(f) - double(lowest);
            const float value =
                isWhole ? stretch[std::size_t(std::llround(inStretch))] : readBetween(stretch, inStretch);
            out[std::size_t(f - from)] += static_cast<float>(gain) * value;
        }
        return Done{};
    }
};

TakeReader::TakeReader(std::unique_ptr<State> state) : state_(std::move(state)) {}
TakeReader::TakeReader(TakeReader&&) noexcept = default;
TakeReader& TakeReader::operator=(TakeReader&&) noexcept = default;
TakeReader::~TakeReader() = default;

Result<TakeReader> TakeReader::open(const std::filesystem::path& file, int channelFromOne)
{
    auto source = openSource(file, channelFromOne);
    if (!source) return source.error();
    auto state = std::make_unique<State>();
    state->info = source->reader.info();
    state->sources.push_back(std::move(*source));
    return TakeReader(std::move(state));
}

Result<TakeReader> TakeReader::join(const std::vector<PieceRecipe>& pieces)
{
    if (pieces.empty()) return Error{ErrorCode::Usage, "joined takes: there is no piece", "take at least one"};
    auto state = std::make_unique<State>();
    state->pieces = pieces;
    std::ranges::stable_sort(state->pieces, {}, &PieceRecipe::fromS);
    double endS = 0.0;
    for (const PieceRecipe& p : state->pieces) {
        auto source = openSource(p.file, p.channelFromOne);
        if (!source) return source.error();
        const AudioInfo& info = source->reader.info();
        if (state->sources.empty()) state->info = info;
        if (info.sampleRateHz != state->info.sampleRateHz)
            return Error{ErrorCode::Unsupported,
                         p.file.filename().string() + ": its rate is another than that of the take it is joined with",
                         "join takes of one rate"};
        endS = std::max(endS, p.atS + p.laterS + info.durationS());
        state->sources.push_back(std::move(*source));
    }
    // The first piece lasts from its take's beginning; what the song has ends with the last piece's take.
    const PieceRecipe& last = state->pieces.back();
    endS = std::min(
        {endS, last.toS + last.fadeS, last.atS + last.laterS + state->sources.back().reader.info().durationS()});
    state->info.frames = std::max<std::int64_t>(0, std::llround(endS * state->info.sampleRateHz));
    state->info.promisedFrames = state->info.frames;
    state->info.channels = 1;
    return TakeReader(std::move(state));
}

const AudioInfo& TakeReader::info() const noexcept { return state_->info; }

Outcome TakeReader::seek(std::int64_t frame)
{
    state_->at = std::clamp<std::int64_t>(frame, 0, state_->info.frames);
    return Done{};
}

Result<std::size_t> TakeReader::read(std::vector<float>& into, std::size_t frames)
{
    State& s = *state_;
    const auto count = std::size_t(std::min<std::int64_t>(std::int64_t(frames), s.info.frames - s.at));
    if (count == 0) return std::size_t{0};
    const std::size_t old = into.size();
    if (s.pieces.empty()) {
        if (const auto got = readStretch(s.sources[0], s.at, count, s.stretch); !got) return got.error();
        into.insert(into.end(), s.stretch.begin(), s.stretch.end());
    } else {
        into.resize(old + count, 0.0f);
        const std::span<float> out(into.data() + old, count);
        for (std::size_t i = 0; i < s.pieces.size(); ++i)
            if (const auto added = s.addPiece(i, s.at, out); !added) return added.error();
    }
    s.at += std::int64_t(count);
    return count;
}

} // namespace gristle::core
