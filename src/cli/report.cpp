#include "cli/report.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

Json orNull(const std::optional<double>& value)
{
    return value && std::isfinite(*value) ? Json(*value) : Json(nullptr);
}

Json toJson(const std::optional<Hum>& hum)
{
    if (!hum) return nullptr;
    Json out = {{"mains_hz", hum->mainsHz}, {"level_dbfs", hum->levelDbfs}};
    out["harmonics"] = Json::array();
    for (const auto& h : hum->harmonics) out["harmonics"].push_back({{"hz", h.hz}, {"level_dbfs", h.levelDbfs}});
    return out;
}

Json toJson(const ChannelMeasurement& c)
{
    Json out = {{"peak_dbfs", orNull(c.level.peakDbfs)}, {"true_peak_dbtp", orNull(c.truePeakDbtp)},
                {"rms_dbfs", orNull(c.level.rmsDbfs)},   {"crest_db", orNull(c.level.crestDb)},
                {"dc_offset", c.level.dcOffset},         {"clipped_samples", c.level.clippedSamples}};
    out["clip_runs"] = Json::array();
    for (const ClipRun& run : c.level.clipRuns)
        out["clip_runs"].push_back({{"start_s", run.startS}, {"samples", run.samples}});
    out["vu"] = {{"max", orNull(c.vuMax)}, {"typical", orNull(c.vuTypical)}};
    out["noise"] = {
        {"floor_dbfs", orNull(c.noise.floorDbfs)}, {"snr_db", orNull(c.noise.snrDb)}, {"hum", toJson(c.noise.hum)}};
    return out;
}

Json toJson(const LoudnessResult& l)
{
    return {{"integrated_lufs", orNull(l.integratedLufs)},
            {"momentary_max_lufs", orNull(l.momentaryMaxLufs)},
            {"short_term_max_lufs", orNull(l.shortTermMaxLufs)},
            {"range_lu", orNull(l.rangeLu)}};
}

Json toJson(const StereoResult& s)
{
    Json out = {{"correlation", orNull(s.correlation)},
                {"balance_db", orNull(s.balanceDb)},
                {"width", orNull(s.width)},
                {"mono_loss_db", orNull(s.monoLossDb)}};
    out["band"] = Json::array();
    for (const StereoBand& b : s.bands)
        out["band"].push_back(
            {{"hz", b.hz}, {"correlation", orNull(b.correlation)}, {"mono_loss_db", orNull(b.monoLossDb)}});
    return out;
}

Json toJson(const std::vector<Finding>& findings)
{
    Json out = Json::array();
    for (const Finding& f : findings)
        out.push_back({{"severity", severityText(f.severity)},
                       {"code", f.code},
                       {"subject", f.subject},
                       {"message", f.title + ": " + f.message},
                       {"measured", orNull(f.measured)},
                       {"target", orNull(f.target)},
                       {"unit", f.unit},
                       {"remedy", f.remedy}});
    return out;
}

std::string findingLines(const std::vector<Finding>& findings)
{
    std::string out;
    for (const Finding& f : findings) {
        const char* mark = f.severity == Severity::Stop  ? "\u25a0 stop"
                           : f.severity == Severity::Fix ? "\u25b3 fix "
                                                         : "\u25cf note";
        out += fmt::format("{}  {}. {}{}\n", mark, f.title, f.message, f.remedy.empty() ? "" : " " + f.remedy + ".");
    }
    return out;
}

std::string shown(const std::optional<double>& value, int digits)
{
    return value ? fmt::format("{:.{}f}", *value, digits) : "-";
}

} // namespace gristle::cli
