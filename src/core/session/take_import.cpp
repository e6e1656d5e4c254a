#include "core/session/take_import.h"

#include "core/audio/file_place.h"
#include "core/units/text.h"

#include <algorithm>
#include <cerrno>
#include <fmt/format.h>
#include <fstream>
#include <xxhash.h>

namespace gristle::core {

namespace fs = std::filesystem;

std::string safeStem(const std::string& text)
{
    constexpr std::size_t kMostBytes = 80;
    std::string out;
    for (const char c : validText(text)) {
        const auto u = static_cast<unsigned char>(c);
        const bool plain = std::isalnum(u) || u >= 0x80 || c == ' ' || c == '-' || c == '_' || c == '.' || c == ',';
        out += plain ? c : '-';
    }
    out.erase(0, std::min(out.find_first_not_of(". "), out.size()));
    out = cutText(out, kMostBytes);
    return out.empty() ? "take" : out;
}

std::string freeName(const fs::path& base, const std::string& folder, const std::string& stem)
{
    std::string name = folder + "/" + stem + ".wav";
    for (int n = 2; isThere(base / name); ++n) name = folder + "/" + stem + " " + std::to_string(n) + ".wav";
    return name;
}

Result<StagedTake> stageTake(const fs::path& folder, const Calibration& input, const fs::path& file,
                             const ImportOptions& options, const std::string& now)
{
    const auto channel =
        options.sides == ImportSides::One ? chooseChannel(file, options.channelFromOne) : Result<std::size_t>(0);
    if (!channel) return channel.error();
    StagedTake out;
    out.stem = safeStem(file.stem().string());
    const fs::path to = folder / "audio" / (out.stem + ".wav");
    auto copy = options.sides == ImportSides::Mean ? meanBeside(file, to, options.ifShort)
                                                   : copyBeside(file, to, options.ifShort);
    if (!copy) return copy.error();
    if (options.sides == ImportSides::Both && copy->info.channels > 2)
        return discard(copy->temporary), Error{ErrorCode::Unsupported,
                                               fmt::format("{}: it has {} channels, and two sides are wanted",
                                                           shownName(file), copy->info.channels),
                                               "choose one of its channels, or export two"};
    out.temporary = std::move(copy->temporary);
    auto hash = hashFile(out.temporary);
    if (!hash) return discard(out.temporary), hash.error();
    Take& take = out.take;
    take.hash = std::move(*hash);
    take.frames = copy->info.frames;
    take.sampleRateHz = copy->info.sampleRateHz;
    take.channels = static_cast<int>(copy->info.channels);
    take.isStereo = options.sides == ImportSides::Both && take.channels == 2;
    take.channel = take.channels > 1 && !take.isStereo ? static_cast<int>(*channel) + 1 : 0;
    take.recorded = now;
    take.source = shownName(file);
    take.input = input;
    return out;
}

Result<std::vector<Take>> placeTakes(const fs::path& folder, std::vector<StagedTake> staged)
{
    std::vector<Take> out;
    for (StagedTake& s : staged) {
        s.take.file = freeName(folder, "audio", s.stem);
        if (const auto placed = putInNewPlace(s.temporary, folder / s.take.file); !placed) {
            discardTakes(staged);
            if (placed.error().code == ErrorCode::NotConfirmed) discard(folder / s.take.file);
            for (const Take& take : out) discard(folder / take.file);
            return placed.error();
        }
        out.push_back(std::move(s.take));
    }
    return out;
}

void discardTakes(const std::vector<StagedTake>& staged)
{
    for (const StagedTake& s : staged) discard(s.temporary);
}

Result<Take> importTake(const fs::path& folder, const Calibration& input, const fs::path& file,
                        const ImportOptions& options, const std::string& now)
{
    auto staged = stageTake(folder, input, file, options, now);
    if (!staged) return staged.error();
    auto placed = placeTakes(folder, {std::move(*staged)});
    if (!placed) return placed.error();
    return std::move(placed->front());
}

Result<std::string> hashFile(const fs::path& path)
{
    errno = 0;
    std::ifstream file(path, std::ios::binary);
    if (!file) return readError(path, errno ? errno : EACCES);
    const std::unique_ptr<XXH3_state_t, decltype(&XXH3_freeState)> state(XXH3_createState(), &XXH3_freeState);
    XXH3_128bits_reset(state.get());
    std::vector<char> block(1 << 20);
    while (file.read(block.data(), static_cast<std::streamsize>(block.size())) || file.gcount() > 0)
        XXH3_128bits_update(state.get(), block.data(), static_cast<std::size_t>(file.gcount()));
    if (file.bad()) return readError(path, EIO); // else a part would pass for the whole
    XXH128_canonical_t canonical;
    XXH128_canonicalFromHash(&canonical, XXH3_128bits_digest(state.get()));
    std::string out;
    for (const unsigned char byte : canonical.digest) {
        constexpr char kDigits[] = "0123456789abcdef";
        out += kDigits[byte >> 4];
        out += kDigits[byte & 15];
    }
    return out;
}

} // namespace gristle::core
