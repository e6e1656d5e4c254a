#include "core/audio/sound_head.h"

#include "core/audio/file_place.h"

#include <algorithm>
#include <array>
#include <cerrno>
#include <fstream>
#include <string_view>

namespace gristle::core {

namespace {

std::int64_t numberAt(std::string_view bytes, std::size_t at, std::size_t width, bool bigEndian)
{
    std::uint64_t value = 0;
    for (std::size_t i = 0; i < width; ++i)
        value = (value << 8) | static_cast<unsigned char>(bytes[bigEndian ? at + i : at + width - 1 - i]);
    return value > std::uint64_t{INT64_MAX} ? INT64_MAX : static_cast<std::int64_t>(value);
}

/// How the chunks of a container are written.
struct Chunks {
    std::string_view data; ///< the chunk that holds the samples
    std::size_t nameBytes; ///< of a chunk's name
    std::size_t sizeBytes; ///< of its size
    std::int64_t align;    ///< chunks begin at multiples of it
    bool bigEndian;
    bool sizeHasHead; ///< the size counts name and size, too
};

constexpr std::uint32_t kOpen = 0xFFFFFFFFu; ///< a size that was left open, or stands in ds64

class Reader {
public:
    explicit Reader(const std::filesystem::path& path) : file_(path, std::ios::binary) {}
    bool isOpen() const { return file_.is_open(); }
    bool failed() const { return file_.bad(); } ///< the disk, not the end
    void to(std::int64_t at) { file_.seekg(at); }
    template<std::size_t N> bool read(std::array<char, N>& into, std::size_t bytes)
    {
        return bool(file_.read(into.data(), static_cast<std::streamsize>(bytes)));
    }

private:
    std::ifstream file_;
};

/// Whether a WAV is read as its bits a sample say although its bytes a frame say otherwise, and those a second do not
/// back the bits. What is left open (0) says nothing, nor do coded kinds (ADPCM and others).
bool contradicts(std::string_view format, bool bigEndian)
{
    constexpr std::int64_t kPcm = 1, kFloat = 3, kExtensible = 0xFFFE;
    const auto number = [&](std::size_t at, std::size_t width) { return numberAt(format, at, width, bigEndian); };
    const std::int64_t kind = number(0, 2), channels = number(2, 2), rate = number(4, 4);
    if (kind != kPcm && kind != kFloat && kind != kExtensible) return false;
    const std::int64_t byBits = (number(14, 2) + 7) / 8 * channels, byFrame = number(12, 2),
                       byRate = rate > 0 ? number(8, 4) / rate : 0;
    return byFrame != byBits && byRate != byBits && (byFrame != 0 || byRate != 0);
}

void findData(Reader& file, std::int64_t at, const Chunks& kind, SoundHead& head)
{
    constexpr int kMostChunks = 4096;
    std::optional<std::int64_t> longSize; // of ds64
    std::array<char, 28> bytes{};
    const std::size_t headBytes = kind.nameBytes + kind.sizeBytes;
    for (int i = 0; i < kMostChunks; ++i) {
        file.to(at);
        if (!file.read(bytes, headBytes)) return;
        const std::string_view text(bytes.data(), headBytes);
        const std::int64_t raw = numberAt(text, kind.nameBytes, kind.sizeBytes, kind.bigEndian);
        const std::int64_t size = kind.sizeHasHead ? std::max<std::int64_t>(0, raw - std::int64_t(headBytes)) : raw;
        const std::int64_t body = at + std::int64_t(headBytes);
        if (text.substr(0, 4) == "ds64" && file.read(bytes, 16))
            longSize = numberAt({bytes.data(), 16}, 8, 8, false);
        else if (kind.data == "data" && text.substr(0, 4) == "fmt " && kind.nameBytes == 4 && file.read(bytes, 16))
            head.contradictsItself = contradicts({bytes.data(), 16}, kind.bigEndian);
        else if (text.substr(0, 4) == kind.data) {
            const bool isOpen = kind.sizeBytes == 4 && std::uint32_t(raw) == kOpen;
            head.dataOffset = body;
            if (kind.data == "SSND") { // the samples begin after an offset and a block size
                if (!file.read(bytes, 8)) return;
                const std::int64_t offset = numberAt({bytes.data(), 8}, 0, 4, true);
                head.dataOffset = body + 8 + offset;
                head.dataBytes = std::max<std::int64_t>(0, size - 8 - offset);
            } else if (!isOpen) {
                head.dataBytes = size;
            } else if (longSize) {
                head.dataBytes = longSize;
            }
            return;
        }
        if (size > (std::int64_t{1} << 60) - body) return;
        at = body + size;
        at += (kind.align - at % kind.align) % kind.align;
    }
}

} // namespace

Result<SoundHead> readSoundHead(const std::filesystem::path& path)
{
    SoundHead head;
    errno = 0;
    Reader file(path);
    if (!file.isOpen()) return readError(path, errno ? errno : EACCES);
    std::int64_t start = 0;
    std::array<char, 16> bytes{};
    if (file.read(bytes, 10) && std::string_view(bytes.data(), 3) == "ID3") { // its length has seven bits a byte
        for (std::size_t i = 6; i < 10; ++i) start = (start << 7) | (bytes[i] & 0x7F);
        start += 10;
    }
    file.to(start);
    if (file.failed()) return readError(path, EIO);
    Reader again(path); // what ended at the end of a short file starts anew
    again.to(start);
    const bool hasKind = again.read(bytes, 12);
    if (again.failed()) return readError(path, EIO);
    if (!hasKind) return head;
    const std::string_view name(bytes.data(), 4), form(bytes.data() + 8, 4);
    if (name == "fLaC") {
        head.isKnown = true;
    } else if (name == "RIFF" || name == "RIFX" || name == "RF64") {
        head.isKnown = true;
        if (form == "WAVE") findData(again, start + 12, {"data", 4, 4, 2, name == "RIFX", false}, head);
    } else if (name == "FORM") {
        head.isKnown = true;
        if (form == "AIFF" || form == "AIFC") findData(again, start + 12, {"SSND", 4, 4, 2, true, false}, head);
    } else if (name == "riff") {
        head.isKnown = true;
        findData(again, start + 40, {"data", 16, 8, 8, false, true}, head);
    }
    if (again.failed()) return readError(path, EIO);
    return head;
}

} // namespace gristle::core
