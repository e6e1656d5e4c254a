#pragma once

#include "core/units/result.h"

#include <cstddef>
#include <memory>
#include <string>
#include <vector>

namespace gristle::engine {

/// Somebody who fills output blocks. Called on the audio thread: no allocation, lock, file, log or wait in there.
class AudioSource {
public:
    virtual ~AudioSource() = default;
    /// Fills all of both channels, whatever happens.
    virtual void fill(float* left, float* right, std::size_t frames) noexcept = 0;
};

/// Somebody who listens to the inputs. Called on the audio thread, before fill() of the same block.
class AudioSink {
public:
    virtual ~AudioSink() = default;
    /// @param inputs  one pointer a channel
    /// @param lost    the system lost samples before this block (an xrun)
    virtual void take(const float* const* inputs, std::size_t channels, std::size_t frames, bool lost) noexcept = 0;
};

/// A device that streams stereo out and any number of channels in. Control thread only.
class AudioDevice {
public:
    virtual ~AudioDevice() = default;
    /// Starts streaming; player and sink must outlive the stream. @error WriteFailed where the device is gone or busy
    virtual core::Outcome start(AudioSource& player, AudioSink* sink) = 0;
    core::Outcome start(AudioSource& player) { return start(player, nullptr); }
    virtual void stop() = 0; ///< when it returns, nothing is called any more
    virtual double rateHz() const noexcept = 0;
    virtual std::string name() const = 0;
    virtual std::size_t inputs() const noexcept { return 0; }
    virtual std::size_t bufferFrames() const noexcept { return 0; }
    virtual std::size_t latencyFrames() const noexcept { return 0; } ///< in and out together, as the system reports it
    virtual bool isRunning() const noexcept = 0;                     ///< false also where it was lost while running
    /// Why it runs no more, where that is known: "was lost".
    virtual std::string endedBecause() const { return "was lost"; }
    virtual bool isSimulated() const noexcept { return false; }
};

/// A device as the list shows it.
struct DeviceInfo {
    std::string id;     ///< "SYSTEM:NAME", stays the same while the device is there
    std::string name;   ///< for people
    std::string system; ///< "JACK", "ALSA", "PulseAudio", "simulated"
    std::size_t inputs = 0, outputs = 0;
    std::vector<unsigned> ratesHz;
    unsigned preferredHz = 48000;
    bool isDefault = false;
};

/// All devices that can be used now, the simulated one last. GRISTLE_NO_DEVICE in the environment leaves it alone.
std::vector<DeviceInfo> listDevices();

struct DeviceWish {
    std::string id; ///< empty: the system's default, or the simulated one where there is none
    double rateHz = 48000.0;
    std::size_t bufferFrames = 256;
    std::size_t inputs = 0; ///< the first ones
};

/// What openDevice() asks the system for, which takes its time; otherwise it is the simulated one, at once.
bool isHardware(const DeviceWish& wish);

/// Opens a device for recording and playing. @error FileMissing where it is not there; OutOfRange where it has fewer
/// inputs or not the rate, naming those that it has
core::Result<std::unique_ptr<AudioDevice>> openDevice(const DeviceWish& wish);

/// Flushes denormals for the calling thread. Once, where the audio thread starts.
void flushDenormals() noexcept;

/// The system's default output, or the simulated one (silent, in real time) where there is none, with the reason in
/// `told`. @param wantedRateHz  of the session; the device's own rate is taken where it refuses
std::unique_ptr<AudioDevice> openDefaultOutput(double wantedRateHz, std::string& told);

} // namespace gristle::engine
