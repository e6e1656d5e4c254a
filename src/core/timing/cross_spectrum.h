#pragma once

#include "core/signal/fft.h"

#include <complex>
#include <span>
#include <vector>

namespace gristle::core {

/// Power and cross spectra of two signals, averaged over Hann windows that overlap by three quarters. Source: Welch
/// 1967; Carter 1987, Coherence and time delay estimation.
class CrossSpectrum {
public:
    explicit CrossSpectrum(std::size_t window); ///< samples, even
    /// Adds all windows that touch both. @param lag  by which `second` is read later, in samples
    void add(std::span<const float> first, std::span<const float> second, std::int64_t lag);
    /// Adds one window from each; both as long as the window.
    void addWindow(std::span<const float> first, std::span<const float> second);
    void clear() noexcept;

    std::size_t window() const noexcept { return fft_.size(); }
    std::size_t bins() const noexcept { return cross.size(); }
    std::size_t windows() const noexcept { return windows_; }
    /// Share of the second that the first explains, 0 to 1, over bins within `around` of each.
    std::vector<double> coherence(double around) const;

    std::vector<double> first, second;       ///< power of each
    std::vector<std::complex<double>> cross; ///< the second times the first's conjugate

private:
    RealFft fft_;
    std::vector<double> shape_;
    std::vector<std::complex<float>> held_;
    std::size_t windows_ = 0;
};

} // namespace gristle::core
