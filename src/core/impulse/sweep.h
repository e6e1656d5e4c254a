#pragma once

#include "core/audio/audio_buffer.h"
#include "core/units/result.h"

#include <array>
#include <span>
#include <vector>

namespace gristle::core {

struct SweepSettings {
    double fromHz = 20.0, toHz = 20000.0, seconds = 10.0;
    int rateHz = 48000;
    /// Seconds in which its frequency rises by e.
    double riseS() const noexcept;
};

/// An exponential sine sweep, peak 0.5, with short fades at both ends. Source: Farina 2000, Simultaneous measurement of
/// impulse response and distortion with a swept-sine technique.
/// @error Usage where from is not below to, to is above 0.49 of the rate, or the length is not 0.1 to 120 s
Result<std::vector<float>> sweep(const SweepSettings& settings);

/// The settings of a sweep as a file holds it, by counting its cycles. @error OutOfRange where it is none
Result<SweepSettings> settingsOf(std::span<const float> sweep, int rateHz);

struct CaptureOptions {
    double lengthS = 0.5;
    bool keepDelay = false;
    bool minimumPhase = false;
    std::size_t repeats = 1; ///< the sweep was played so often; their mean is taken
    double periodS = 0.0;    ///< from the start of one to that of the next, with a pause in which it dies away; 0: none
    bool followDrift = true; ///< corrects clocks that part
};

/// What a system makes of a sweep.
struct Captured {
    Recording impulse;              ///< with the system's gain
    double arrivalSamples = 0.0;    ///< in the recording
    double snrDb = 0.0;             ///< energy of the response over that of the noise in as long a window
    double distortionPercent = 0.0; ///< orders 2 to 5, RMS over the linear part
    std::array<double, 4> orderPercent{};
    double driftPpm = 0.0; ///< by which the recording's clock ran fast; corrected where isDriftCorrected
    double driftDoubtPpm = 0.0;
    bool isDriftCorrected = false;
    SweepSettings settings;
};

/// Deconvolves a recording of a sweep: the linear part by itself, distortion of each order apart, which comes earlier
/// by riseS() times the logarithm of the order.
/// Where two clocks part by more than their doubt, up to 500 ppm, the recording is brought to the sweep's.
/// @param recording  at the sweep's rate, from no later than the start of the first sweep
/// @error OutOfRange where it is clipped, silent, cut short, drifts too far, or is of another sweep: each says which
Result<Captured> capture(std::span<const float> sweep, std::span<const float> recording, int rateHz,
                         const CaptureOptions& options);

} // namespace gristle::core
