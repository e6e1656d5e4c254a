#pragma once

#include "core/measure/stereo_measure.h"
#include "core/mix/render.h"

namespace gristle::core {

struct MixLayer {
    LayerRecipe recipe;
    double place = 0.0; ///< -100 left, 100 right
    double gainDb = 0.0;
};

struct MixOptions {
    PanLaw law = PanLaw::Minus3;
    bool match = false; ///< bring all layers to the first one's loudness, as a gain that replaces their own
    int rateHz = 0;     ///< 0: the first layer's
};

struct MixLayerReport {
    std::string file;
    AudioInfo source; ///< of the file
    double place = 0.0;
    double gainDb = 0.0;                  ///< that was applied
    std::optional<double> integratedLufs; ///< after rig and gain, before it is placed
    std::size_t channels = 1;
    std::optional<double> bodyDb; ///< power of the octaves of 125 and 250 Hz over that of all; near 0 is thick
};

struct MixReport {
    std::int64_t frames = 0;
    int rateHz = 0;
    std::vector<MixLayerReport> layers;
    LoudnessResult loudness;
    StereoResult stereo;
    std::optional<double> truePeakDbtp;
    std::int64_t clippedSamples = 0, notFiniteSamples = 0;
    std::vector<std::string> warnings;
};

/// Renders all layers, places and sums them, and hands the stereo blocks on; measures each layer and the sum on the
/// way. Sums in double. With `match`, every layer is rendered once more before, to measure it.
/// @error as LayerSource and what `take` gives; Usage without layers; Cancelled
Result<MixReport> mixDown(const std::vector<MixLayer>& layers, const MixOptions& options,
                          const std::function<Outcome(const AudioBuffer&)>& take, const Progress& progress = {});

Result<MixReport> mixToFile(const std::filesystem::path& out, const std::vector<MixLayer>& layers,
                            const MixOptions& options, SampleFormat format, const Progress& progress = {});

/// A stretch of the mix, both sides, as it is heard. @param fromS, toS  seconds
Result<Recording> mixToMemory(std::vector<MixLayer> layers, const MixOptions& options, double fromS, double toS,
                              const Progress& progress = {});

/// Integrated loudness of a layer after its rig; none where it is silent or shorter than 0.4 s.
Result<std::optional<double>> layerLoudness(const LayerRecipe& recipe, const Progress& progress = {});

} // namespace gristle::core
