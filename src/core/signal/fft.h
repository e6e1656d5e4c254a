#pragma once

#include <complex>
#include <cstddef>
#include <memory>
#include <span>

namespace gristle::core {

/// A real transform of one length in single precision, unnormalised: inverse(forward(x)) = n x.
/// Plans are made by estimate only, so the same build gives the same bits on every run. Making one takes a lock (the
/// planner is shared by the process); transforms do not, allocate nothing, and may run in one thread for each object.
class RealFft {
public:
    explicit RealFft(std::size_t n);
    RealFft(RealFft&&) noexcept;
    RealFft& operator=(RealFft&&) noexcept;
    ~RealFft();

    std::size_t size() const noexcept;
    std::span<float> time() noexcept;                   ///< n samples
    std::span<std::complex<float>> spectrum() noexcept; ///< n / 2 + 1 bins
    void forward() noexcept;                            ///< time to spectrum
    void inverse() noexcept;                            ///< spectrum to time; destroys the spectrum

private:
    struct State;
    std::unique_ptr<State> state_;
};

/// The least n of the form 2^a, 3 2^a or 5 2^a that is not below `least`: lengths that transform fast.
std::size_t fastFftSize(std::size_t least) noexcept;

} // namespace gristle::core
