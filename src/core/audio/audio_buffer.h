#pragma once

#include <cassert>
#include <cstddef>
#include <span>
#include <vector>

namespace gristle::core {

/// Planar audio: a vector of equal length for each channel. A frame is one sample of every channel.
class AudioBuffer {
public:
    AudioBuffer() = default;
    AudioBuffer(std::size_t channels, std::size_t frames)
        : channels_(channels, std::vector<float>(frames, 0.0f)), frames_(frames)
    {}

    std::size_t channels() const noexcept { return channels_.size(); }
    std::size_t frames() const noexcept { return frames_; }
    std::span<float> channel(std::size_t index) { return channels_[index]; }
    std::span<const float> channel(std::size_t index) const { return channels_[index]; }
    /// Changes the length; what is new is silent.
    void resize(std::size_t frames)
    {
        for (auto& c : channels_) c.resize(frames, 0.0f);
        frames_ = frames;
    }

private:
    std::vector<std::vector<float>> channels_;
    std::size_t frames_ = 0;
};

/// A whole recording in memory, full scale 1.0. Shared as shared_ptr<const Recording>, never changed.
struct Recording {
    int sampleRateHz = 48000;
    AudioBuffer audio;
};

} // namespace gristle::core
