#pragma once

#include <cstddef>
#include <filesystem>
#include <string>

namespace gristle::core {

/// A text as valid UTF-8: bytes that are none become U+FFFD, one for each. Valid text comes back as it is. Source: RFC
/// 3629 (no overlong forms, no surrogates, nothing past U+10FFFF).
std::string validText(const std::string& text);

/// A text cut to at most `mostBytes` bytes, never inside a character; what is no UTF-8 is cut at a byte.
std::string cutText(const std::string& text, std::size_t mostBytes);

/// The name of a file as it is shown and written into JSON: valid UTF-8, whatever is on disk; a path that ends in a
/// separator has its last folder's name.
std::string shownName(const std::filesystem::path& path);

} // namespace gristle::core
