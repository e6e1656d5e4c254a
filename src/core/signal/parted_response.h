#pragma once

#include "core/signal/skew_fft.h"

#include <span>
#include <vector>

namespace gristle::core {

/// Some taps of an impulse in parts of one length, in the frequency domain.
class PartedResponse {
public:
    /// @param length  of a part, of which there are as many as the taps take; allocates
    PartedResponse(std::span<const float> taps, std::size_t length);
    std::size_t count() const noexcept { return response_.count; }        ///< of parts
    std::size_t chunks() const noexcept { return sum_.size() / kFloats; } ///< of bins

    // The transforms in two halves each, of which nothing else comes between (SkewFft).
    void split(std::span<const float> before, std::span<const float> last) noexcept; ///< the last lengths of the input
    void hear() noexcept;                                                            ///< them
    /// Sums up what all parts give in some chunks, the first of the window heard last, or of the one `ago` (0 or 1)
    /// before.
    void add(std::size_t from, std::size_t to, std::size_t ago = 0) noexcept;
    void interpolate() noexcept;                ///< the sum, once all chunks are in it; begins another
    void finish(std::span<float> out) noexcept; ///< a length of output
    void reset() noexcept;
    void takeOver(const PartedResponse& before) noexcept; ///< what another of the same length has heard

private:
    static constexpr std::size_t kFloats = 2 * SkewFft::kChunk; // of a chunk
    /// Of each chunk of bins those of all spectra, so that a sum over many reads on and on.
    struct Spectra {
        std::size_t count;
        std::vector<float> numbers;
        Spectra(std::size_t length, std::size_t spectra) : count(spectra), numbers(2 * length * spectra) {}
        float* at(std::size_t chunk, std::size_t which) noexcept { return &numbers[(chunk * count + which) * kFloats]; }
        const float* at(std::size_t chunk, std::size_t which) const noexcept
        {
            return &numbers[(chunk * count + which) * kFloats];
        }
        void put(std::size_t chunk, std::size_t which, std::span<const float> spectrum) noexcept;
    };

    SkewFft fft_;
    Spectra response_, heard_; ///< heard_: a ring of the last windows, one more than there are parts
    std::vector<float> fresh_; ///< the last window: chunk for chunk it joins the others when their turn comes
    std::vector<float> sum_;
    std::size_t newest_ = 0; ///< in heard_
};

} // namespace gristle::core
