#include "core/units/text.h"

#include <cstdint>

namespace gristle::core {

namespace {

bool follows(char c) { return (static_cast<unsigned char>(c) & 0xC0) == 0x80; }

/// Bytes of the character that begins at `at`; 0 where there is no valid one.
std::size_t characterAt(const std::string& text, std::size_t at)
{
    const auto first = static_cast<unsigned char>(text[at]);
    if (first < 0x80) return 1;
    const std::size_t length = first >= 0xF0 ? 4 : first >= 0xE0 ? 3 : 2;
    if (first < 0xC2 || first > 0xF4 || at + length > text.size()) return 0;
    std::uint32_t code = first & (0xFF >> (length + 1));
    for (std::size_t i = 1; i < length; ++i) {
        if (!follows(text[at + i])) return 0;
        code = (code << 6) | (static_cast<unsigned char>(text[at + i]) & 0x3F);
    }
    constexpr std::uint32_t kLeast[] = {0, 0, 0x80, 0x800, 0x10000};
    const bool isSurrogate = code >= 0xD800 && code <= 0xDFFF;
    return code < kLeast[length] || code > 0x10FFFF || isSurrogate ? 0 : length;
}

} // namespace

std::string validText(const std::string& text)
{
    std::string out;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t length = characterAt(text, at);
        if (length == 0) {
            out += "\uFFFD";
            ++at;
        } else {
            out.append(text, at, length);
            at += length;
        }
    }
    return out;
}

std::string cutText(const std::string& text, std::size_t mostBytes)
{
    if (text.size() <= mostBytes) return text;
    std::size_t end = mostBytes;
    for (std::size_t back = 0; back < 4 && end > back; ++back) { // the character that the cut would fall into
        const std::size_t length = characterAt(text, end - back);
        if (length == 0) continue;
        if (length > back && back > 0) end -= back;
        break;
    }
    return text.substr(0, end);
}

std::string shownName(const std::filesystem::path& path)
{
    return validText((path.has_filename() ? path : path.parent_path()).filename().string());
}

} // namespace gristle::core
