#pragma once

#include <filesystem>

namespace gristle::test {

/// Copies the demo session that the build has made once for all tests. @returns whether it could
inline bool copyDemo(const std::filesystem::path& to)
{
    std::error_code failed;
    std::filesystem::create_directories(to.parent_path(), failed);
    std::filesystem::copy(GRISTLE_DEMO, to, std::filesystem::copy_options::recursive, failed);
    return !failed;
}

} // namespace gristle::test
