#pragma once

#include "core/audio/audio_writer.h"

#include <QTemporaryDir>
#include <algorithm>
#include <cmath>
#include <fstream>
#include <limits>
#include <numbers>
#include <random>
#include <vector>

/// Signals with a known truth, for all tests.
namespace gristle::test {

inline std::vector<float> sine(double hz, double amplitude, double rateHz, double seconds, double phase = 0.0)
{
    std::vector<float> x(static_cast<std::size_t>(std::llround(seconds * rateHz)));
    for (std::size_t i = 0; i < x.size(); ++i)
        x[i] = static_cast<float>(amplitude * std::sin(2.0 * std::numbers::pi * hz * double(i) / rateHz + phase));
    return x;
}

inline std::vector<float> whiteNoise(double rms, std::size_t frames, unsigned seed = 1)
{
    std::mt19937 random(seed);
    std::normal_distribution<double> normal(0.0, rms);
    std::vector<float> x(frames);
    for (float& v : x) v = static_cast<float>(normal(random));
    return x;
}

inline core::Recording recording(const std::vector<std::vector<float>>& channels, int rateHz)
{
    std::size_t frames = 0; // of the longest: the others end in silence
    for (const auto& channel : channels) frames = std::max(frames, channel.size());
    core::Recording r{rateHz, core::AudioBuffer(channels.size(), frames)};
    for (std::size_t c = 0; c < channels.size(); ++c)
        std::copy(channels[c].begin(), channels[c].end(), r.audio.channel(c).begin());
    return r;
}

/// Writes a WAV file in a temporary folder and returns its name.
inline std::filesystem::path writeWav(const QTemporaryDir& dir, const char* name,
                                      const std::vector<std::vector<float>>& channels, int rateHz,
                                      core::SampleFormat format = core::SampleFormat::Float32)
{
    const std::filesystem::path path = std::filesystem::path(dir.path().toStdString()) / name;
    const auto wrote = core::writeRecording(path, recording(channels, rateHz), format);
    Q_ASSERT(wrote);
    (void)wrote;
    return path;
}

/// Makes one sample of a float file NaN, so many samples before its end: no writer of ours lets one through.
inline void putNan(const std::filesystem::path& file, std::int64_t beforeEnd)
{
    std::fstream at(file, std::ios::in | std::ios::out | std::ios::binary);
    const float nan = std::numeric_limits<float>::quiet_NaN();
    at.seekp(-std::int64_t(sizeof nan) * beforeEnd, std::ios::end);
    at.write(reinterpret_cast<const char*>(&nan), sizeof nan);
    Q_ASSERT(at.good());
}

inline void append(std::vector<float>& to, const std::vector<float>& from)
{
    to.insert(to.end(), from.begin(), from.end());
}
inline void add(std::vector<float>& to, const std::vector<float>& from)
{
    for (std::size_t i = 0; i < std::min(to.size(), from.size()); ++i) to[i] += from[i];
}

/// Amplitude of a sine at `hz` in x, by the DFT at that frequency; exact over whole periods.
inline double amplitudeAt(const std::vector<float>& x, double hz, double rateHz, std::size_t from = 0)
{
    double re = 0.0, im = 0.0;
    for (std::size_t i = from; i < x.size(); ++i) {
        const double w = 2.0 * std::numbers::pi * hz * double(i) / rateHz;
        re += double(x[i]) * std::cos(w);
        im -= double(x[i]) * std::sin(w);
    }
    return 2.0 * std::hypot(re, im) / double(x.size() - from);
}

} // namespace gristle::test
