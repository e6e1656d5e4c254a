#pragma once

#include "core/audio/peak_pyramid.h"
#include "core/measure/held_peaks.h"
#include "core/measure/level.h"
#include "core/measure/loudness.h"
#include "core/measure/noise.h"
#include "core/measure/octave_meter.h"
#include "core/measure/rest_spectra.h"
#include "core/units/progress.h"

namespace gristle::core {

enum class TargetSchool { Average, Peak };

struct MeasureOptions {
    double referenceDbfs = -18.0; ///< 0 VU
    TargetSchool target = TargetSchool::Average;
    Mains mains = Mains::Auto;
    std::size_t channel = 0;  ///< from 1: only that one; 0: all
    bool keepPicture = false; ///< also build peak pyramids, keep the VU trace and look at the octaves, for drawing
};

struct ChannelMeasurement {
    LevelResult level;
    std::optional<double> truePeakDbtp;
    std::optional<double> vuMax; ///< relative to the reference
    std::optional<double>
        vuTypical; ///< median reading while playing, relative to the reference; none where nobody plays
    NoiseResult noise;
    HeldPeaks held;                   ///< nothing where nobody plays
    bool isClipped() const;           ///< by the converter or ahead of it
    std::vector<float> vuTrace;       ///< power of the VU reading every 10 ms (see VuMeter); only with keepPicture
    PeakPyramid peaks;                ///< only with keepPicture
    std::optional<Octaves> octavesDb; ///< how the power is spread; only with keepPicture
    RestSpectra spectra;              ///< of rests and of playing; only with keepPicture
};

struct GainAdvice {
    TargetSchool target = TargetSchool::Average;
    std::optional<double> gainChangeDb; ///< none for silence, where nobody plays, and up where something clips
    bool heldByHeadroom = false;        ///< less than the school would ask, so that the true peak stays at -1 dBTP
    bool heldByClipping = false;        ///< it would have to be turned up, though something clips
};

struct FileMeasurement {
    std::string file;
    AudioInfo info;
    std::vector<ChannelMeasurement> channels;
    LoudnessResult loudness;
    GainAdvice advice;
    bool isNobodyPlaying() const; ///< on none of its channels
};

/// Everything that `measure` tells of a file, in one pass and a second look at its rests. Memory: 40 bytes a channel
/// for each 10 ms, and the rests read again. @error as AudioReader; OutOfRange where
/// the file has no such channel; Cancelled
Result<FileMeasurement> measureFile(const std::filesystem::path& path, const MeasureOptions& options,
                                    const Progress& progress = {});

/// The gain change by either school (contract: `advice`).
GainAdvice adviseGain(const std::vector<ChannelMeasurement>& channels, TargetSchool school);

} // namespace gristle::core
