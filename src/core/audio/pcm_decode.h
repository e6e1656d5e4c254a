#pragma once

#include <cstddef>
#include <span>

namespace gristle::core {

/// Signed little-endian samples of 16 or 24 bits as floats, full scale 1.0: exact, as both fit into a float's 24 bits.
/// @param bytes  out.size() * bits / 8 of them
/// @param bits   16 or 24
void decodePcm(std::span<const std::byte> bytes, int bits, std::span<float> out) noexcept;

/// Takes interleaved samples apart: out[i] = interleaved[i * channels + channel].
void takeChannel(std::span<const float> interleaved, std::size_t channels, std::size_t channel,
                 std::span<float> out) noexcept;

} // namespace gristle::core
