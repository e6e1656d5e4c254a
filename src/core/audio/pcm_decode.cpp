#include "core/audio/pcm_decode.h"

#include "core/units/vectorised.h"

#include <bit>
#include <cassert>
#include <cstdint>
#include <cstring>

namespace gristle::core {

static_assert(std::endian::native == std::endian::little, "samples are taken from the file as they lie there");

namespace {

using Bytes = std::uint8_t __attribute__((vector_size(16)));
using Words = std::int32_t __attribute__((vector_size(16)));
using Floats = float __attribute__((vector_size(16)));

GRISTLE_VECTORISED
void decode16(const std::byte* bytes, float* out, std::size_t count) noexcept
{
    for (std::size_t i = 0; i < count; ++i) {
        std::int16_t code;
        std::memcpy(&code, bytes + 2 * i, sizeof code);
        out[i] = float(code) * 0x1p-15f;
    }
}

/// Four codes at a time: each code's three bytes become the upper three of a word, whose value is 256 times the code.
GRISTLE_VECTORISED
void decode24(const std::byte* bytes, float* out, std::size_t count) noexcept
{
    std::size_t i = 0;
    for (; i + 6 <= count; i += 4) { // 16 bytes are loaded, 12 of them used: two codes more must be there
        Bytes packed;
        std::memcpy(&packed, bytes + 3 * i, sizeof packed);
        const Bytes order = {16, 0, 1, 2, 16, 3, 4, 5, 16, 6, 7, 8, 16, 9, 10, 11};
        const Bytes spread = __builtin_shuffle(packed, Bytes{}, order);
        const Floats values = __builtin_convertvector(std::bit_cast<Words>(spread), Floats) * 0x1p-31f;
        std::memcpy(out + i, &values, sizeof values);
    }
    for (; i < count; ++i) {
        std::uint32_t word = 0;
        std::memcpy(&word, bytes + 3 * i, 3);
        out[i] = float(static_cast<std::int32_t>(word << 8)) * 0x1p-31f;
    }
}

GRISTLE_VECTORISED
void takeOfTwo(const float* interleaved, float* out, std::size_t count) noexcept
{
    for (std::size_t i = 0; i < count; ++i) out[i] = interleaved[2 * i];
}

} // namespace

void decodePcm(std::span<const std::byte> bytes, int bits, std::span<float> out) noexcept
{
    assert(bits == 16 || bits == 24);
    assert(bytes.size() >= out.size() * std::size_t(bits) / 8);
    if (bits == 16)
        decode16(bytes.data(), out.data(), out.size());
    else
        decode24(bytes.data(), out.data(), out.size());
}

void takeChannel(std::span<const float> interleaved, std::size_t channels, std::size_t channel,
                 std::span<float> out) noexcept
{
    assert(channels > 0 && interleaved.size() >= out.size() * channels);
    if (channels == 1) return void(std::memcpy(out.data(), interleaved.data(), out.size_bytes()));
    if (channels == 2) return takeOfTwo(interleaved.data() + channel, out.data(), out.size());
    for (std::size_t i = 0; i < out.size(); ++i) out[i] = interleaved[i * channels + channel];
}

} // namespace gristle::core
