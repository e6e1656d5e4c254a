#include "core/signal/fft.h"

#include <algorithm>
#include <bit>
#include <fftw3.h>
#include <mutex>

namespace gristle::core {

namespace {

/// FFTW's planner is not thread-safe and there is one in the process.
std::mutex& plannerLock()
{
    static std::mutex lock;
    return lock;
}

} // namespace

struct RealFft::State {
    std::size_t n;
    float* time;
    fftwf_complex* bins;
    fftwf_plan forward;
    fftwf_plan inverse;

    explicit State(std::size_t length)
        : n(length), time(fftwf_alloc_real(length)), bins(fftwf_alloc_complex(length / 2 + 1))
    {
        const std::lock_guard guard(plannerLock());
        forward = fftwf_plan_dft_r2c_1d(static_cast<int>(n), time, bins, FFTW_ESTIMATE);
        inverse = fftwf_plan_dft_c2r_1d(static_cast<int>(n), bins, time, FFTW_ESTIMATE);
    }
    State(const State&) = delete;
    State& operator=(const State&) = delete;
    ~State()
    {
        const std::lock_guard guard(plannerLock());
        fftwf_destroy_plan(forward);
        fftwf_destroy_plan(inverse);
        fftwf_free(time);
        fftwf_free(bins);
    }
};

RealFft::RealFft(std::size_t n) : state_(std::make_unique<State>(n)) {}
RealFft::RealFft(RealFft&&) noexcept = default;
RealFft& RealFft::operator=(RealFft&&) noexcept = default;
RealFft::~RealFft() = default;

std::size_t RealFft::size() const noexcept { return state_->n; }
std::span<float> RealFft::time() noexcept { return {state_->time, state_->n}; }
std::span<std::complex<float>> RealFft::spectrum() noexcept
{
    return {reinterpret_cast<std::complex<float>*>(state_->bins), state_->n / 2 + 1};
}
void RealFft::forward() noexcept { fftwf_execute(state_->forward); }
void RealFft::inverse() noexcept { fftwf_execute(state_->inverse); }

std::size_t fastFftSize(std::size_t least) noexcept
{
    std::size_t best = std::bit_ceil(std::max<std::size_t>(least, 2));
    for (const std::size_t odd : {std::size_t{3}, std::size_t{5}}) {
        std::size_t n = odd * 2;
        while (n < least) n *= 2;
        best = std::min(best, n);
    }
    return best;
}

} // namespace gristle::core
