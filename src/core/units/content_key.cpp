#include "core/units/content_key.h"

#include <fmt/format.h>
#include <xxhash.h>

namespace gristle::core {

namespace fs = std::filesystem;

ContentKey::ContentKey() : state_(XXH3_createState()) { XXH3_128bits_reset(state_); }
ContentKey::~ContentKey() { XXH3_freeState(state_); }

void ContentKey::bytes(const void* data, std::size_t count) { XXH3_128bits_update(state_, data, count); }

void ContentKey::add(const std::string& s)
{
    add(s.size());
    bytes(s.data(), s.size());
}

void ContentKey::add(std::span<const float> samples)
{
    add(samples.size());
    bytes(samples.data(), samples.size_bytes());
}

void ContentKey::addFile(const fs::path& file)
{
    std::error_code none;
    add(file.string());
    const auto size = fs::file_size(file, none);
    add(none ? -1 : std::int64_t(size));
    const auto changed = fs::last_write_time(file, none);
    add(none ? 0 : changed.time_since_epoch().count());
}

std::string ContentKey::text() const
{
    const XXH128_hash_t hash = XXH3_128bits_digest(state_);
    return fmt::format("{:016x}{:016x}", hash.high64, hash.low64);
}

} // namespace gristle::core
