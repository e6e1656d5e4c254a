#pragma once

#include "core/audio/audio_writer.h"
#include "core/mix/render/layer_source.h"
#include "core/units/progress.h"

namespace gristle::core {

struct RenderReport {
    std::int64_t frames = 0;
    int rateHz = 0;
    std::size_t channels = 1;
    std::size_t latencySamples = 0;
    double durationS = 0.0;
    double inputFullScaleVolts = 1.0;
    std::int64_t clippedSamples = 0, notFiniteSamples = 0;
    AudioInfo source; ///< the file that was rendered
    std::vector<StageLevels> stages;
    std::vector<std::string> warnings;
};

/// Renders a layer to a WAV file. @error as LayerSource and AudioWriter; Cancelled, and then nothing is left behind
Result<RenderReport> renderToFile(const std::filesystem::path& out, const LayerRecipe& recipe, SampleFormat format,
                                  const Progress& progress = {});

/// Renders a layer into memory.
Result<Recording> renderToMemory(const LayerRecipe& recipe, RenderReport& report, const Progress& progress = {});

} // namespace gristle::core
