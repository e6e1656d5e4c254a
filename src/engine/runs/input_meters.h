#pragma once

#include "engine/rt/recorder.h"

#include <map>

namespace gristle::engine {

/// What a meter shows of one input since the last look.
struct InputReading {
    double peakDbfs = -200.0;
    double averageDbfs = -200.0; ///< as a VU meter weighs it, 99 % in 300 ms
    std::int64_t clipped = 0;    ///< samples since the meters were cleared
};

/// The highest of one input since the peaks were cleared.
struct HeldLevel {
    double peakDbfs = -200.0;
    std::int64_t clipped = 0; ///< samples
};

/// The meters of the inputs that are recorded, looked at some 30 times a second. Control thread.
class InputMeters {
public:
    explicit InputMeters(Recorder& recorder) : recorder_(recorder) {}
    /// @param inputs  those that are recorded, the chosen one first @return false where nothing came in since
    bool look(const std::vector<std::size_t>& inputs, double rateHz);
    void clear(std::size_t chosen); ///< clips and peaks
    void restart() { silentS_ = 0.0; }

    const InputReading& reading() const noexcept { return reading_; } ///< of the chosen one
    const std::map<std::size_t, HeldLevel>& others() const noexcept { return others_; }
    double lookS() const noexcept { return lookS_; }     ///< of audio, since the look before
    double silentS() const noexcept { return silentS_; } ///< for how long nothing but the input's own noise came in

private:
    Recorder& recorder_;
    InputReading reading_;
    std::map<std::size_t, HeldLevel> others_;
    std::map<std::size_t, std::int64_t> clippedBefore_; ///< of the others
    std::int64_t clipsBefore_ = 0;
    double needle_ = 0.0; ///< rectified mean, smoothed
    double lookS_ = 0.0, silentS_ = 0.0;
};

} // namespace gristle::engine
