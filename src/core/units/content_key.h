#pragma once

#include <concepts>
#include <cstdint>
#include <filesystem>
#include <span>
#include <string>

struct XXH3_state_s;

namespace gristle::core {

/// A key of values by their content: XXH3 of 128 bits over all that is added, in order. What may vary in length goes in
/// with its length, so that no two rows of values run together.
class ContentKey {
public:
    ContentKey();
    ~ContentKey();
    ContentKey(const ContentKey&) = delete;
    ContentKey& operator=(const ContentKey&) = delete;

    void add(double v) { bytes(&v, sizeof v); }
    void add(std::integral auto v)
    {
        const auto wide = std::int64_t(v);
        bytes(&wide, sizeof wide);
    }
    void add(const std::string& s);
    void add(std::span<const float> samples);
    /// A file as it is now, by path, length and time of change: one that is replaced is another.
    void addFile(const std::filesystem::path& file);

    std::string text() const; ///< hexadecimal, 32 digits

private:
    void bytes(const void* data, std::size_t count);
    XXH3_state_s* state_;
};

} // namespace gristle::core
