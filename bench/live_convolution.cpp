// Convolution without delay in blocks of 64 frames, beside its bound, FFTW's overlap-save at its best size; and paced
// as a device would ask for it, beside zita-convolver at its best setting. `bench/live-convolution`

#include "overlap_bound.h"

#include "core/signal/live_convolver.h"
#include "core/units/no_denormals.h"

#include <cmath>
#include <cstring>
#include <fmt/format.h>
#include <random>
#include <thread>
#include <zita-convolver.h>

using namespace gristle::core;

namespace {

constexpr std::size_t kBlock = 64;
constexpr double kRate = 48000.0, kBlockS = double(kBlock) / kRate, kHotS = 10.0, kPacedS = 5.0;

using Clock = std::chrono::steady_clock;
double now() { return std::chrono::duration<double>(Clock::now().time_since_epoch()).count(); }

/// What each block takes. @param pacedS  0: one after the other
template<typename Process> std::vector<double> blocks(const std::vector<float>& x, bool isPaced, const Process& process)
{
    std::vector<double> took;
    const double began = now();
    float block[kBlock];
    for (std::size_t at = 0; at + kBlock <= x.size(); at += kBlock) {
        if (const double wait = began + double(took.size()) * kBlockS - now(); isPaced && wait > 0.0)
            std::this_thread::sleep_for(std::chrono::duration<double>(wait));
        std::copy_n(x.begin() + long(at), kBlock, block);
        const double start = now();
        process(block);
        took.push_back(now() - start);
    }
    return took;
}
double mean(const std::vector<double>& took)
{
    double sum = 0.0;
    for (const double t : took) sum += t;
    return sum / double(took.size());
}
double partOf(std::vector<double> took, double part)
{
    std::ranges::sort(took);
    return took[std::size_t(part * double(took.size() - 1))];
}

/// The 99.9th percentile of zita-convolver with partitions up to `most`.
double zitaS(const std::vector<float>& x, std::vector<float> h, unsigned most)
{
    Convproc zita;
    zita.set_options(0);
    if (zita.configure(1, 1, unsigned(h.size()), kBlock, kBlock, most, 0.0f) != 0) return 1e9;
    zita.impdata_create(0, 0, 1, h.data(), 0, int(h.size()));
    zita.start_process(0, SCHED_OTHER);
    const auto took = blocks(x, true, [&](float* block) {
        std::memcpy(zita.inpdata(0), block, kBlock * sizeof(float));
        zita.process(true);
        std::memcpy(block, zita.outdata(0), kBlock * sizeof(float));
    });
    zita.stop_process();
    zita.cleanup();
    return partOf(took, 0.999);
}

} // namespace

int main()
{
    const NoDenormals scope;
    std::minstd_rand random(2);
    const auto noise = [&](double seconds) {
        std::vector<float> x(std::size_t(seconds * kRate));
        for (float& v : x) v = float(random()) / float(std::minstd_rand::max()) - 0.5f;
        return x;
    };
    const auto hot = noise(kHotS), paced = noise(kPacedS), minute = noise(60.0);
    for (const auto& [taps, reach] : {std::pair(std::size_t(1024), 4.0), {4096, 5.0}, {24000, 6.0}}) {
        const std::vector<float> h(hot.begin(), hot.begin() + long(taps));
        LiveConvolver convolver(h);
        const auto process = [&](float* block) { convolver.process({block, kBlock}); };
        const std::size_t size = bestOverlapSize(minute, taps);
        double boundS = 1e9, oursS = 1e9;
        for (int round = 0; round < 5; ++round) {
            boundS = std::min(boundS, overlapSeconds(minute, taps, size) * kBlockS / 60.0);
            oursS = std::min(oursS, mean(blocks(hot, false, process)));
        }
        fmt::print("live convolution, {} taps: {:.2f} us a block, bound {:.2f} us: {:.1f} x (reach {})\n", taps,
                   1e6 * oursS, 1e6 * boundS, oursS / boundS, reach);
        double pacedS = 1e9, peerS = 1e9;
        unsigned best = 0;
        for (unsigned most = kBlock; most <= 4096 && most <= 2 * taps; most *= 4) {
            if (const double s = zitaS(paced, h, most); s < peerS) peerS = s, best = most;
            pacedS = std::min(pacedS, partOf(blocks(paced, true, process), 0.999));
        }
        fmt::print("  paced, 99.9th percentile: {:.1f} us, zita-convolver up to {}: {:.1f} us: {:.2f} x (reach 1)\n",
                   1e6 * pacedS, best, 1e6 * peerS, pacedS / peerS);
        std::fflush(stdout);
    }
}
