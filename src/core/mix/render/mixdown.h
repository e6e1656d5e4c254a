#pragma once

#include "core/measure/stereo_measure.h"
#include "core/mix/render/bus_network.h"
#include "core/mix/render/render.h"
#include "core/session/section_edit.h"

namespace gristle::core {

struct MixLayer {
    LayerRecipe recipe;
    double place = 0.0; ///< -100 left, 100 right
    double gainDb = 0.0;
    std::size_t bus = kIntoSum; ///< of the options' buses
    std::vector<MixSend> sends{};
    bool isHeard = true; ///< but for its sends
    bool operator==(const MixLayer&) const = default;
};

/// A stretch of a mix, measured by itself.
struct SectionFigures {
    SectionSpan span;
    std::optional<double> integratedLufs, peakDbfs, width, monoLossDb;
};

struct MixOptions {
    PanLaw law = PanLaw::Minus3;
    bool match = false; ///< bring all layers to the first one's loudness, as a gain that replaces their own
    int rateHz = 0;     ///< 0: the first layer's
    std::vector<MixBus> buses{};
    MixBus sum{};                              ///< behind all
    std::vector<SectionSpan> spans{};          ///< to be measured by themselves
    std::int64_t frames = 0;                   ///< how long it is to be; 0: to the end of all
    std::optional<std::int64_t> stampFrames{}; ///< of the first frame, in a file
    bool operator==(const MixOptions&) const = default;
};

struct MixLayerReport {
    std::string file;
    std::string name; ///< of the layer; of a file by itself, the file's
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
    std::vector<JoinFigures> joins; ///< of the buses, then of the sum
    std::vector<SectionFigures> spans;
    std::vector<float> shortTermLufs; ///< over 3 s, each second from the third on; -100 where nothing sounds
    LoudnessResult loudness;
    StereoResult stereo;
    std::optional<double> truePeakDbtp;
    std::int64_t clippedSamples = 0, notFiniteSamples = 0;
    std::vector<std::string> warnings;
};

class RenderCache;

/// Renders all layers, places and sums them, and hands the stereo blocks on; measures each layer and the sum on the
/// way. Sums in double. With `match`, every layer is rendered once more before, to measure it. With a cache, layers
/// that fit there are rendered only where they are not yet; the sum is the same, bit by bit.
/// @error as LayerSource and what `take` gives; Usage without layers; Cancelled
Result<MixReport> mixDown(const std::vector<MixLayer>& layers, const MixOptions& options,
                          const std::function<Outcome(const AudioBuffer&)>& take, const Progress& progress = {},
                          RenderCache* cache = nullptr);

Result<MixReport> mixToFile(const std::filesystem::path& out, const std::vector<MixLayer>& layers,
                            const MixOptions& options, SampleFormat format, const Progress& progress = {},
                            RenderCache* cache = nullptr);

/// A stretch of the mix, both sides, as it is heard; nothing is measured. @param fromS, toS  seconds
Result<Recording> mixToMemory(std::vector<MixLayer> layers, const MixOptions& options, double fromS, double toS,
                              const Progress& progress = {}, RenderCache* cache = nullptr);

/// The gains that bring every layer to the loudness that the first has with its own; one that is silent or too short
/// keeps its own. @param lufs  of each, its own gain not in it
std::vector<double> gainsToMatch(const std::vector<std::optional<double>>& lufs, const std::vector<double>& gainsDb);

/// Integrated loudness of a layer after its rig; none where it is silent or shorter than 0.4 s.
Result<std::optional<double>> layerLoudness(const LayerRecipe& recipe, const Progress& progress = {});

} // namespace gristle::core
