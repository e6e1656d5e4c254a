#pragma once

#include "core/measure/loudness.h"
#include "core/signal/fft.h"
#include "core/units/progress.h"

#include <optional>
#include <vector>

namespace gristle::core {

struct StereoBand {
    double hz = 0.0; ///< nominal third octave
    std::optional<double> correlation;
    std::optional<double> monoLossDb;
};

struct StereoResult {
    std::optional<double> correlation; ///< at zero lag, samples as they are; none where a side is silent
    std::optional<double> balanceDb;   ///< right less left integrated loudness; none where a side is silent
    std::optional<double> width;       ///< P_S / (P_M + P_S): mono 0, unrelated 0.5, inverted 1
    std::optional<double> monoLossDb;  ///< 10 lg((P_L + P_R) / P_(L+R)); none where nothing is left
    std::vector<StereoBand> bands;     ///< third octaves 25 Hz to 20 kHz (IEC 61260-1, base ten), as far as Nyquist
};

/// Correlation, width and what mono loses, whole and by third octave, streamed. Bands are sums of the bins of a
/// Hann-windowed transform of about 0.7 s with half overlap, shared at the borders. One pass, constant memory.
class StereoMeter {
public:
    explicit StereoMeter(double rateHz);
    void push(std::span<const float> left, std::span<const float> right); ///< equally long
    StereoResult result();

private:
    void transform();

    double rateHz_;
    double ll_ = 0.0, rr_ = 0.0, lr_ = 0.0;
    LoudnessMeter left_, right_;
    RealFft fft_;
    std::vector<float> window_;
    std::vector<float> heldLeft_, heldRight_;
    std::size_t filled_;
    bool anything_ = false;
    std::vector<double> binLeft_, binRight_, binCross_;
    std::vector<std::complex<float>> leftBins_;
};

/// Measures a stereo file. @error as AudioReader; Unsupported where it has not two channels; Cancelled
Result<StereoResult> measureStereo(const std::filesystem::path& path, const Progress& progress = {});

} // namespace gristle::core
