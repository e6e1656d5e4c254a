#pragma once

#include <algorithm>
#include <chrono>
#include <fftw3.h>
#include <vector>

/// Overlap-save with FFTW alone at a given size: the bound.
inline double overlapSeconds(const std::vector<float>& x, std::size_t taps, std::size_t n)
{
    float* time = fftwf_alloc_real(n);
    fftwf_complex *bins = fftwf_alloc_complex(n / 2 + 1), *response = fftwf_alloc_complex(n / 2 + 1);
    auto forward = fftwf_plan_dft_r2c_1d(int(n), time, bins, FFTW_ESTIMATE),
         inverse = fftwf_plan_dft_c2r_1d(int(n), bins, time, FFTW_ESTIMATE);
    for (std::size_t k = 0; k <= n / 2; ++k) response[k][0] = response[k][1] = 1.0f / float(n);
    const std::size_t hop = n - taps + 1;
    std::vector<float> out(x.size());
    const auto began = std::chrono::steady_clock::now();
    for (std::size_t at = 0; at + n <= x.size(); at += hop) {
        std::copy_n(x.begin() + long(at), n, time);
        fftwf_execute(forward);
        for (std::size_t k = 0; k <= n / 2; ++k) {
            const float re = bins[k][0] * response[k][0] - bins[k][1] * response[k][1];
            bins[k][1] = bins[k][0] * response[k][1] + bins[k][1] * response[k][0];
            bins[k][0] = re;
        }
        fftwf_execute(inverse);
        std::copy_n(time + taps - 1, hop, out.begin() + long(at));
    }
    const std::chrono::duration<double> took = std::chrono::steady_clock::now() - began;
    fftwf_destroy_plan(forward);
    fftwf_destroy_plan(inverse);
    fftwf_free(time);
    fftwf_free(bins);
    fftwf_free(response);
    return took.count();
}

/// The size at which that is quickest.
inline std::size_t bestOverlapSize(const std::vector<float>& x, std::size_t taps)
{
    std::size_t best = 0;
    double least = 1e9;
    for (std::size_t n = 2048; n <= 262144; n *= 2) {
        if (n < 2 * taps) continue;
        const double took = std::min(overlapSeconds(x, taps, n), overlapSeconds(x, taps, n));
        if (took < least) least = took, best = n;
    }
    return best;
}
