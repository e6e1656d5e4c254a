#pragma once

#include "core/units/result.h"

#include <cstddef>
#include <memory>
#include <string>

namespace gristle::engine {

/// Somebody who fills output blocks. Called on the audio thread: no allocation, lock, file, log or wait in there.
class AudioSource {
public:
    virtual ~AudioSource() = default;
    /// Fills all of both channels, whatever happens.
    virtual void fill(float* left, float* right, std::size_t frames) noexcept = 0;
};

/// An output that pulls stereo blocks from a source. Control thread only.
class AudioDevice {
public:
    virtual ~AudioDevice() = default;
    /// Starts pulling; the source must outlive the stream. @error WriteFailed where the device is gone or busy
    virtual core::Outcome start(AudioSource& source) = 0;
    virtual void stop() = 0; ///< when it returns, fill() is not running and will not be called again
    virtual double rateHz() const noexcept = 0;
    virtual std::string name() const = 0;
    virtual bool isSimulated() const noexcept { return false; }
};

/// Flushes denormals for the calling thread. Once, where the audio thread starts.
void flushDenormals() noexcept;

/// The system's default output, or the simulated one (silent, in real time) where there is none, with the reason in
/// `told`. @param wantedRateHz  of the session; the device's own rate is taken where it refuses
std::unique_ptr<AudioDevice> openDefaultOutput(double wantedRateHz, std::string& told);

} // namespace gristle::engine
