// The solved amplifier: power off the harmonics at high drive, time a second of sound takes, time a change of a control
// takes. `bench/amplifier`

#include "core/rig/node.h"

#include <array>
#include <chrono>
#include <cmath>
#include <fftw3.h>
#include <fmt/format.h>
#include <numbers>
#include <vector>

using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;
constexpr std::size_t kBlock = 64;

double now() { return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count(); }

std::unique_ptr<NodeProcessor> make(const std::string& voice, double drive, Effort effort)
{
    const NodeType& type = *findNodeType("circuit");
    ParameterValues values;
    for (const ParameterSpec& spec : type.parameters) values[spec.key] = *parseValue(type, spec, spec.initial);
    values["voice"] = voice;
    values["drive"] = drive;
    auto made = std::move(type.make(values, {}).value());
    made->prepare(
        {.rateHz = kRate, .maxBlock = kBlock, .channels = 1, .live = effort == Effort::Playing, .effort = effort});
    return made;
}

/// What comes out of a sine of `volts` after the supply has settled, one second.
std::vector<double> played(NodeProcessor& node, double hz, double volts, double settleS)
{
    std::vector<double> out;
    const auto frames = std::size_t((1.0 + settleS) * kRate) / kBlock * kBlock;
    for (std::size_t at = 0; at < frames; at += kBlock) {
        float left[kBlock], right[kBlock];
        for (std::size_t i = 0; i < kBlock; ++i)
            left[i] = float(volts * std::sin(2.0 * std::numbers::pi * std::fmod(hz * double(at + i) / kRate, 1.0)));
        AudioBlock block{{left, right}, 1, kBlock};
        node.process(block);
        out.insert(out.end(), left, left + kBlock);
    }
    out.erase(out.begin(), out.end() - long(kRate));
    return out;
}

/// The power off the harmonics of a whole number of hertz, over all of it, in dB. Below 20 Hz the supply still moves.
double aliasesDb(const std::vector<double>& x, int hz)
{
    const int n = int(x.size());
    std::vector<double> in = x;
    std::vector<fftw_complex> out(std::size_t(n / 2 + 1));
    fftw_plan plan = fftw_plan_dft_r2c_1d(n, in.data(), out.data(), FFTW_ESTIMATE);
    fftw_execute(plan);
    fftw_destroy_plan(plan);
    double off = 0.0, on = 0.0;
    for (int k = 20; k < n / 2; ++k) {
        const double power =
            out[std::size_t(k)][0] * out[std::size_t(k)][0] + out[std::size_t(k)][1] * out[std::size_t(k)][1];
        (k % hz == 0 ? on : off) += power;
    }
    return 10.0 * std::log10(off / on);
}

} // namespace

int main()
{
    struct Kind {
        const char* name;
        Effort effort;
        std::array<double, 3> reach;
    };
    const Kind kinds[] = {{"rendered", Effort::Full, {-100.0, -90.0, -85.0}},
                          {"live", Effort::Playing, {-80.0, -65.0, -55.0}},
                          {"draft", Effort::Draft, {0.0, 0.0, 0.0}}};
    for (const std::string voice : {"clean", "tight"})
        for (const Kind& kind : kinds) {
            double began = now();
            auto node = make(voice, 10.0, kind.effort);
            const double madeS = now() - began;
            began = now();
            auto again = make(voice, 9.9, kind.effort);
            const double againS = now() - began;
            std::string text;
            double seconds = 0.0, workS = 0.0;
            for (const int i : {0, 1, 2}) {
                const int hz = std::array{1245, 4980, 7500}[std::size_t(i)];
                node->reset();
                began = now();
                const auto x = played(*node, hz, 0.3, 2.0);
                workS += now() - began;
                seconds += 3.0;
                text +=
                    fmt::format("  {} Hz {:.1f} dB (reach {:.0f})", hz, aliasesDb(x, hz), kind.reach[std::size_t(i)]);
            }
            fmt::print("{:<6} {:<8} {}; {:.1f} x real time; made in {:.0f} ms, with drive moved {:.0f} ms\n", voice,
                       kind.name, text, seconds / workS, 1000.0 * madeS, 1000.0 * againS);
            std::fflush(stdout);
        }
}
