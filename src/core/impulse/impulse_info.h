#pragma once

#include "core/audio/audio_buffer.h"
#include "core/units/result.h"

#include <filesystem>
#include <span>
#include <vector>

namespace gristle::core {

struct ResponsePoint {
    double hz, db;
};

/// Against its own mean power from 200 Hz to 2 kHz, so that curves show tone, not level.
std::vector<ResponsePoint> levelled(std::vector<ResponsePoint> response);

/// What an impulse response is, by its first channel.
struct ImpulseInfo {
    std::size_t lengthSamples = 0;
    double arrivalSamples = 0.0;         ///< first sample that is a tenth of the highest
    double energy90Ms = 0.0;             ///< from the arrival until nine tenths of the energy have come
    bool isMinimumPhase = false;         ///< a pure delay aside
    std::vector<ResponsePoint> response; ///< smoothed over a sixth of an octave, every twelfth from 20 Hz
    double outstandingDb = 0.0;          ///< its highest sample over the rest's RMS: little where it is a performance
};

/// Whether it looks like somebody's playing or noise: nothing stands out of it, or its energy comes all along.
bool looksPerformed(double outstandingDb, double energy90Ms, double seconds);

/// A gain that no impulse has, 120 dB: beyond, a file is broken, and sums would overflow.
inline constexpr float kMostSample = 1e6f;

/// @error OutOfRange where it is silent, over kMostSample, or longer than 20 s: no impulse
Result<ImpulseInfo> impulseInfo(const Recording& impulse);

/// Power means over a sixth of an octave at every twelfth from 20 Hz to half the rate.
std::vector<ResponsePoint> smoothedResponse(std::span<const float> taps, int rateHz);

/// Which output a part of a blend goes to.
enum class BlendSide { Both, Left, Right };

/// One impulse of a blend.
struct BlendPart {
    std::filesystem::path file;
    double gainDb = 0.0;
    double delaySamples = 0.0; ///< later, of the first one's rate; any part of a sample
    bool invert = false;
    BlendSide side = BlendSide::Both;
    bool operator==(const BlendPart&) const = default;
};

struct Blend {
    Recording sum;                      ///< at the first one's rate, as long as the longest part
    std::vector<double> alignedSamples; ///< that each was moved earlier by before its own delay
    std::vector<bool> isTurned;         ///< by aligning
    std::size_t frontSamples = 0;       ///< that all stand later in the sum, so that none is cut by being moved earlier
};

/// The plain sum, not normalised. Stereo where a file has two unlike channels or a part has a side, else mono; a mono
/// part goes to both. @param align  brings all to the first one's arrival and polarity (by their first channels) before
/// their own delays. @error what reading gives; OutOfRange where one is no impulse; Unsupported over two channels
Result<Blend> blendImpulses(const std::vector<BlendPart>& parts, bool align);

} // namespace gristle::core
