#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

/// What each target gives: valid inputs to start from, words that belong to its grammar, and one run. `fuzz/driver.cpp`
/// changes the seeds at random; a library for coverage-guided fuzzing can call LLVMFuzzerTestOneInput as it is.
namespace gristle::fuzz {

std::vector<std::string> seeds();
std::vector<std::string> words();

/// A file in memory that holds `bytes`; its path lives until the next call.
std::string fileOf(const std::uint8_t* bytes, std::size_t size);

} // namespace gristle::fuzz

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size);
