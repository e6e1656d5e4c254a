#include "core/impulse/impulse_shelf.h"

#include "core/audio/audio_reader.h"
#include "core/audio/file_place.h"
#include "core/impulse/impulse_info.h"
#include "core/signal/fft.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <thread>
#include <unordered_map>
#include <unordered_set>
#include <xxhash.h>

namespace gristle::core {

namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;

constexpr double kLongestS = 20.0;
constexpr double kFirstHz = 40.0;
constexpr std::size_t kMostFiles = 100000;

std::string lower(std::string text)
{
    for (char& c : text)
        if (c >= 'A' && c <= 'Z') c = char(c - 'A' + 'a');
    return text;
}

bool isAudioName(const fs::path& path)
{
    static constexpr std::string_view kEndings[] = {".wav", ".flac", ".aif", ".aiff", ".w64", ".rf64"};
    const std::string end = lower(path.extension().string());
    return std::ranges::find(kEndings, std::string_view(end)) != std::end(kEndings);
}

std::int64_t changedAt(const fs::path& path)
{
    std::error_code error;
    const auto time = fs::last_write_time(path, error);
    return error ? 0 : std::int64_t(time.time_since_epoch().count());
}

/// Of all channels, between the first and the last sample that is none.
std::string hashOf(const AudioBuffer& audio)
{
    std::size_t from = audio.frames(), to = 0;
    for (std::size_t c = 0; c < audio.channels(); ++c) {
        const auto x = audio.channel(c);
        std::size_t first = 0, last = x.size();
        while (first < last && x[first] == 0.0f) ++first;
        while (last > first && x[last - 1] == 0.0f) --last;
        if (first < last) from = std::min(from, first), to = std::max(to, last);
    }
    std::uint64_t hash = audio.channels();
    for (std::size_t c = 0; c < audio.channels() && from < to; ++c)
        hash = XXH3_64bits_withSeed(audio.channel(c).data() + from, (to - from) * sizeof(float), hash);
    return fmt::format("{:016x}", hash);
}

/// A transform for each length, kept by the thread that reads.
RealFft& transformOf(std::size_t n)
{
    static thread_local std::unordered_map<std::size_t, RealFft> kept;
    return kept.try_emplace(n, n).first->second;
}

void fillResponse(ImpulseCard& card, std::span<const float> taps)
{
    // Fine enough for a sixth of an octave at 40 Hz, as the picture needs it; longer ones fold their late part in.
    const std::size_t n = fastFftSize(std::size_t(double(card.rateHz) / 5.0));
    RealFft& fft = transformOf(n);
    const auto time = fft.time();
    std::ranges::fill(time, 0.0f);
    for (std::size_t i = 0; i < taps.size(); i += n)
        for (std::size_t k = 0; k < std::min(n, taps.size() - i); ++k) time[k] += taps[i + k];
    fft.forward();
    const auto bins = fft.spectrum();
    const double perHz = double(n) / card.rateHz;
    const auto powerOver = [&](double low, double high) { // parts of bins counted as parts
        const double from = low * perHz + 0.5, to = std::min(high * perHz + 0.5, double(bins.size()));
        double sum = 0.0;
        for (auto k = std::size_t(from); k < bins.size() && double(k) < to; ++k)
            sum += double(std::norm(bins[k])) * (std::min(to, double(k + 1)) - std::max(from, double(k)));
        return sum / std::max(1e-9, to - from);
    };
    const double half = std::exp2(1.0 / 12.0);
    double middle = 0.0;
    int count = 0;
    for (std::size_t i = 0; i < ImpulseCard::kPoints; ++i) {
        const double hz = ImpulseCard::hzOf(i);
        const double db =
            hz < 0.49 * card.rateHz ? 10.0 * std::log10(std::max(1e-12, powerOver(hz / half, hz * half))) : -120.0;
        card.db[i] = float(db);
        if (hz >= 200.0 && hz <= 2000.0) middle += db, ++count;
    }
    for (float& db : card.db) db = std::round(10.0f * std::clamp(db - float(middle / count), -99.0f, 99.0f)) / 10.0f;
}

Json toJson(const ImpulseCard& c)
{
    Json out = {{"file", c.file}, {"bytes", c.bytes}, {"changed", c.changed}};
    if (!c.isImpulse()) {
        out["why"] = c.why;
        return out;
    }
    std::array<int, ImpulseCard::kPoints> tenths{};
    for (std::size_t i = 0; i < tenths.size(); ++i) tenths[i] = int(std::lround(10.0f * c.db[i]));
    out["hash"] = c.hash, out["rate"] = c.rateHz, out["channels"] = c.channels, out["s"] = c.seconds;
    out["energy90_ms"] = c.energy90Ms, out["db10"] = tenths;
    return out;
}

std::optional<ImpulseCard> fromJson(std::string_view line)
{
    const Json json = Json::parse(line, nullptr, false);
    if (!json.is_object()) return std::nullopt;
    try {
        ImpulseCard c;
        c.file = json.at("file"), c.bytes = json.at("bytes"), c.changed = json.at("changed");
        c.why = json.value("why", "");
        if (!c.isImpulse()) return c;
        c.hash = json.at("hash"), c.rateHz = json.at("rate"), c.channels = json.at("channels");
        c.seconds = json.at("s"), c.energy90Ms = json.at("energy90_ms");
        const std::array<int, ImpulseCard::kPoints> tenths = json.at("db10");
        for (std::size_t i = 0; i < tenths.size(); ++i) c.db[i] = float(tenths[i]) / 10.0f;
        return c;
    } catch (const Json::exception&) {
        return std::nullopt; // of another version: read anew
    }
}

} // namespace

double ImpulseCard::hzOf(std::size_t point) noexcept { return kFirstHz * std::exp2(double(point) / 6.0); }

ImpulseCard readCard(const fs::path& folder, const std::string& file)
{
    ImpulseCard card;
    card.file = file;
    const fs::path path = folder / file;
    std::error_code error;
    card.bytes = fs::file_size(path, error);
    if (error) card.bytes = 0;
    card.changed = changedAt(path);
    auto reader = AudioReader::open(path);
    if (!reader) {
        card.why = reader.error().message;
        return card;
    }
    const AudioInfo& info = reader->info();
    card.rateHz = info.sampleRateHz, card.channels = int(info.channels), card.seconds = info.durationS();
    if (card.seconds > kLongestS) {
        card.why = fmt::format("{:.0f} s long: a recording", card.seconds);
        return card;
    }
    AudioBuffer audio(info.channels, 0);
    if (const auto read = reader->read(audio, std::size_t(info.frames)); !read) {
        card.why = read.error().message;
        return card;
    }
    const auto taps = std::as_const(audio).channel(0);
    double all = 0.0;
    float highest = 0.0f;
    for (const float v : taps) all += double(v) * double(v), highest = std::max(highest, std::abs(v));
    if (!(all > 1e-14) || highest > kMostSample) {
        card.why = highest > kMostSample ? "samples far over full scale" : "silent";
        return card;
    }
    std::size_t arrival = 0, i = 0;
    while (arrival < taps.size() && double(std::abs(taps[arrival])) < 0.1 * double(highest)) ++arrival;
    double sum = 0.0;
    for (; i < taps.size() && sum < 0.9 * all; ++i) sum += double(taps[i]) * double(taps[i]);
    card.energy90Ms = 1000.0 * std::max(0.0, double(i) - double(arrival)) / card.rateHz;
    const double outstandingDb = 10.0 * std::log10(double(highest) * double(highest) * double(taps.size()) / all);
    if (looksPerformed(outstandingDb, card.energy90Ms, card.seconds)) card.why = "nothing arrives in it: a performance";
    card.hash = hashOf(audio);
    if (card.isImpulse()) fillResponse(card, taps);
    return card;
}

Result<std::vector<std::string>> impulseFilesIn(const fs::path& folder, const Progress& progress)
{
    std::error_code error;
    if (!fs::is_directory(folder, error))
        return Error{ErrorCode::FileMissing, folder.string() + ": there is no such folder", "choose another one"};
    std::vector<std::string> out;
    auto at = fs::recursive_directory_iterator(folder, fs::directory_options::skip_permission_denied, error);
    for (; !error && at != fs::recursive_directory_iterator(); at.increment(error)) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "impulses: stopped", ""};
        std::error_code ignored;
        if (!isAudioName(at->path()) || !at->is_regular_file(ignored)) continue;
        out.push_back(at->path().lexically_relative(folder).generic_string());
        if (out.size() > kMostFiles)
            return Error{ErrorCode::Unsupported,
                         fmt::format("{}: it holds over {} audio files", folder.string(), kMostFiles),
                         "choose a folder inside it"};
    }
    std::ranges::sort(out);
    return out;
}

std::vector<ImpulseCard> readShelf(const fs::path& cache)
{
    std::vector<ImpulseCard> out;
    const auto text = readText(cache);
    if (!text) return out;
    for (std::size_t at = 0; at < text->size();) {
        const std::size_t end = std::min(text->find('\n', at), text->size());
        if (auto card = fromJson(std::string_view(*text).substr(at, end - at))) out.push_back(std::move(*card));
        at = end + 1;
    }
    return out;
}

Outcome writeShelf(const fs::path& cache, const std::vector<ImpulseCard>& cards)
{
    std::string text;
    for (const ImpulseCard& c : cards) text += toJson(c).dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
    return writeTextWhole(cache, text);
}

Result<std::vector<ImpulseCard>> lookThrough(const fs::path& folder, std::vector<ImpulseCard> known,
                                             const std::function<void(const std::vector<ImpulseCard>&)>& told,
                                             const Progress& progress)
{
    const auto files = impulseFilesIn(folder, progress);
    if (!files) return files.error();
    std::unordered_map<std::string, const ImpulseCard*> before;
    for (const ImpulseCard& c : known) before.emplace(c.file, &c);
    std::vector<ImpulseCard> out(files->size());
    std::vector<std::size_t> fresh;
    for (std::size_t i = 0; i < files->size(); ++i) {
        const auto at = before.find((*files)[i]);
        std::error_code error;
        const bool isKnown = at != before.end() && fs::file_size(folder / (*files)[i], error) == at->second->bytes &&
                             changedAt(folder / (*files)[i]) == at->second->changed;
        if (isKnown)
            out[i] = *at->second;
        else
            fresh.push_back(i);
    }
    // Read by a helper and by this thread, each taking the next; the finished ones are told in parts, in their order.
    std::atomic<std::size_t> next{0};
    std::vector<std::atomic<bool>> done(fresh.size());
    const auto readNext = [&] {
        const std::size_t i = next.fetch_add(1);
        if (i >= fresh.size() || progress.stopped()) return false;
        out[fresh[i]] = readCard(folder, (*files)[fresh[i]]);
        done[i].store(true, std::memory_order_release);
        return true;
    };
    std::size_t toldTo = 0; // of all files
    std::size_t freshTold = 0;
    const auto tell = [&](std::size_t least) {
        std::size_t end = toldTo, f = freshTold;
        while (end < out.size() && (f >= fresh.size() || fresh[f] != end || done[f].load(std::memory_order_acquire))) {
            if (f < fresh.size() && fresh[f] == end) ++f;
            ++end;
        }
        if (end - toldTo < std::max<std::size_t>(1, least)) return;
        if (told) told({out.begin() + long(toldTo), out.begin() + long(end)});
        toldTo = end, freshTold = f;
        progress.at(out.empty() ? 1.0 : double(end) / double(out.size()));
    };
    {
        std::jthread helper;
        if (fresh.size() > 8)
            helper = std::jthread([&] {
                while (readNext()) {}
            });
        tell(1);
        for (std::size_t i = 0; readNext(); ++i)
            if (i % 32 == 31) tell(std::max<std::size_t>(64, out.size() / 20));
    }
    if (progress.stopped()) return Error{ErrorCode::Cancelled, "impulses: stopped", ""};
    tell(1);
    return out;
}

bool matches(const ImpulseCard& card, const std::vector<std::string>& tags, const std::string& words)
{
    std::string all = lower(card.file);
    for (const std::string& tag : tags) all += " " + lower(tag);
    const std::string wanted = lower(words);
    for (std::size_t at = 0; at < wanted.size();) {
        const std::size_t end = std::min(wanted.find(' ', at), wanted.size());
        if (end > at && all.find(wanted.substr(at, end - at)) == std::string::npos) return false;
        at = end + 1;
    }
    return true;
}

std::vector<std::size_t> duplicatesIn(const std::vector<ImpulseCard>& cards)
{
    std::vector<std::size_t> out;
    std::unordered_set<std::string> seen;
    for (std::size_t i = 0; i < cards.size(); ++i)
        if (cards[i].isImpulse() && !seen.insert(cards[i].hash + "/" + std::to_string(cards[i].rateHz)).second)
            out.push_back(i);
    return out;
}

} // namespace gristle::core
