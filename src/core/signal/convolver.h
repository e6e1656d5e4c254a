#pragma once

#include "core/signal/fft.h"

#include <vector>

namespace gristle::core {

/// Convolves a mono stream with a fixed impulse by overlap-save. Any block lengths give the same output, bit for bit.
/// The block that it works in depends on the impulse alone and is its latency (about 3 to 8 times the impulse): this is
/// for rendering; playing live asks for a partitioned form.
/// Source: Stockham 1966. Cost a frame: two transforms of size() over blockFrames().
class OverlapSave {
public:
    explicit OverlapSave(std::span<const float> impulse); ///< allocates; an empty impulse gives silence
    std::size_t latency() const noexcept { return hop_; }
    std::size_t taps() const noexcept { return taps_; }
    void process(std::span<float> mono) noexcept; ///< in place, delayed by latency()
    void reset() noexcept;

private:
    void convolveBlock() noexcept;

    std::size_t taps_;
    std::size_t hop_;
    RealFft fft_;
    std::vector<std::complex<float>> response_;
    std::vector<float> history_; ///< the last size() inputs; the newest hop_ are being filled
    std::vector<float> ready_;   ///< hop_ outputs being handed out
    std::size_t filled_ = 0;
};

/// The whole convolution of two signals, a.size() + b.size() - 1 samples; empty where one is empty.
std::vector<float> convolve(std::span<const float> a, std::span<const float> b);

} // namespace gristle::core
