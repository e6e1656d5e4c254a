#include "core/session/take_import.h"

#include "core/audio/audio_writer.h"

#include <fstream>
#include <xxhash.h>

namespace gristle::core {

namespace fs = std::filesystem;

std::string safeStem(const std::string& text)
{
    std::string out;
    for (const char c : text) {
        const auto u = static_cast<unsigned char>(c);
        const bool plain = std::isalnum(u) || u >= 0x80 || c == ' ' || c == '-' || c == '_' || c == '.' || c == ',';
        out += plain ? c : '-';
    }
    while (!out.empty() && (out.front() == '.' || out.front() == ' ')) out.erase(out.begin());
    if (out.size() > 80) out.resize(80);
    return out.empty() ? "take" : out;
}

std::string freeName(const fs::path& base, const std::string& folder, const std::string& stem)
{
    std::string name = folder + "/" + stem + ".wav";
    for (int n = 2; fs::exists(base / name); ++n) name = folder + "/" + stem + " " + std::to_string(n) + ".wav";
    return name;
}

Result<Take> importTake(const fs::path& folder, const Calibration& input, const fs::path& file, int channelFromOne,
                        const std::string& now)
{
    const auto channel = chooseChannel(file, channelFromOne);
    if (!channel) return channel.error();
    Take take;
    take.file = freeName(folder, "audio", safeStem(file.stem().string()));
    const fs::path target = folder / take.file;
    const auto info = copyLosslessly(file, target);
    if (!info) return info.error();
    auto hash = hashFile(target);
    if (!hash) return hash.error();
    take.hash = std::move(*hash);
    take.frames = info->frames;
    take.sampleRateHz = info->sampleRateHz;
    take.channels = static_cast<int>(info->channels);
    take.channel = info->channels > 1 ? static_cast<int>(*channel) + 1 : 0;
    take.recorded = now;
    take.source = file.filename().string();
    take.input = input;
    return take;
}

Result<std::string> hashFile(const fs::path& path)
{
    std::ifstream file(path, std::ios::binary);
    if (!file) {
        std::error_code ignored;
        const bool there = fs::exists(path, ignored);
        return Error{there ? ErrorCode::FileUnreadable : ErrorCode::FileMissing,
                     path.filename().string() + (there ? ": it cannot be read" : ": there is no such file"),
                     "check the name and its permissions"};
    }
    const std::unique_ptr<XXH3_state_t, decltype(&XXH3_freeState)> state(XXH3_createState(), &XXH3_freeState);
    XXH3_128bits_reset(state.get());
    std::vector<char> block(1 << 20);
    while (file.read(block.data(), static_cast<std::streamsize>(block.size())) || file.gcount() > 0)
        XXH3_128bits_update(state.get(), block.data(), static_cast<std::size_t>(file.gcount()));
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
