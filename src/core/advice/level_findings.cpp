#include "core/advice/level_findings.h"

#include "core/advice/file_findings.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kWithinDb = 2.0; // DESIGN: the target band is the reference +- 2
constexpr double kPeakWithinDb = 3.0;
constexpr double kHumFixBelowPlayingDb = 55.0; // practice: hum under this is covered by amplifier noise
constexpr double kNoiseFixSnrDb = 50.0;
constexpr double kDcFix = 0.005; // half a percent: -46 dBFS, audible as a click at every edit

/// Collects findings about one file.
class Judge {
public:
    Judge(const FileMeasurement& m, const MeasureOptions& o)
        : m_(m), o_(o), subject_(std::filesystem::path(m.file).filename().string())
    {
        for (const auto& c : m.channels) {
            if (c.vuTypical) typical_ = std::max(typical_.value_or(-1e9), *c.vuTypical + o.referenceDbfs);
            if (c.truePeakDbtp) peak_ = std::max(peak_.value_or(-1e9), *c.truePeakDbtp);
            clipped_ += c.level.clippedSamples;
            flatTops_ += c.level.flatTopRuns;
            if (c.held.isHeld() && (!held_ || c.held.isClipped())) held_ = &c.held;
        }
    }

    std::vector<Finding> all()
    {
        truncated();
        if (!peak_) {
            add(Severity::Stop, "level.silent", "Nothing is on it", "The file holds digital silence only.",
                "Check cable, input and channel, then record again");
            return std::move(out_);
        }
        clipping();
        m_.isNobodyPlaying() ? nobodyPlays() : o_.target == TargetSchool::Average ? average() : peakTarget();
        noise();
        dc();
        rank(out_);
        return std::move(out_);
    }

private:
    Finding& add(Severity severity, const char* code, std::string title, std::string message, std::string remedy)
    {
        return out_.emplace_back(
            makeFinding(severity, code, subject_, std::move(title), std::move(message), std::move(remedy)));
    }
    static void bar(Finding& f, double measured, double target, const char* unit, double low, double high)
    {
        f.measured = measured;
        f.target = target;
        f.unit = unit;
        f.low = low;
        f.high = high;
    }

    void truncated()
    {
        if (auto f = truncatedFinding(m_.info, subject_)) out_.push_back(std::move(*f));
    }

    void clipping()
    {
        if (clipped_ > 0) {
            std::int64_t runs = 0;
            std::optional<double> first;
            for (const auto& c : m_.channels) {
                runs += c.level.clipRunCount;
                if (!c.level.clipRuns.empty()) first = std::min(first.value_or(1e12), c.level.clipRuns.front().startS);
            }
            Finding& f =
                add(Severity::Stop, "level.clipped", "The converter clipped",
                    fmt::format("{} {} at full scale in {} {}, first at {:.2f} s. What was cut off is gone; no "
                                "rig brings it back.",
                                clipped_, clipped_ == 1 ? "sample" : "samples", runs, runs == 1 ? "place" : "places",
                                first.value_or(0.0)),
                    "Turn the preamp down and play it again");
            bar(f, double(clipped_), 0.0, "samples", 0.0, std::max(10.0, double(clipped_) * 1.25));
        } else if (flatTops_ >= LevelResult::kFewestFlatTops) {
            flatTop(fmt::format("The highest value stands still {} times", flatTops_), "runs", flatTops_);
        } else if (held_ && held_->isClipped()) {
            flatTop(fmt::format("By their shape the peaks are cut off at {} dBFS, in {} places of the loudest 8 s, "
                                "first at {:.2f} s",
                                figureText(held_->ceilingDbfs), held_->places, held_->firstS),
                    "places", std::int64_t(held_->places));
        } else if (held_) {
            add(Severity::Note, "level.driven", "Driven: every peak ends at one level",
                fmt::format("They end at {} dBFS, {} dB over the average, as an amplifier that is turned up leaves "
                            "them. If this is a DI, something clips.",
                            figureText(held_->ceilingDbfs), figureText(held_->crestDb)),
                "");
        } else {
            add(Severity::Note, "level.not_clipped", "No clipping",
                fmt::format("0 samples at full scale in {:.1f} s.", m_.info.durationS()), "");
        }
    }

    void flatTop(const std::string& what, const char* unit, std::int64_t count)
    {
        std::string message =
            what + ": something ahead of the converter clipped, or the file was turned down after clipping.";
        if (m_.advice.heldByClipping) message += " It is soft, but turning the same stage up would cut off more.";
        Finding& f = add(Severity::Fix, "level.flat_top", "Flat tops below full scale", message,
                         "Look for a stage that is driven too hard, a weak battery or a pad");
        bar(f, double(count), 0.0, unit, 0.0, double(count) * 1.25);
    }

    void nobodyPlays()
    {
        double loudest = -200.0;
        for (const auto& c : m_.channels) loudest = std::max(loudest, *c.noise.floorDbfs);
        add(Severity::Fix, "level.nobody_plays", "Nobody plays here",
            fmt::format(
                "It holds noise of {} dBFS and nothing that stands 10 dB out of it: there is no average, and no "
                "gain to set by it.",
                figureText(loudest)),
            "Turn the guitar's volume up, check cable and input, then play as you will play");
    }

    void average()
    {
        if (!typical_ || !m_.advice.gainChangeDb) return;
        const double target = o_.referenceDbfs, change = *m_.advice.gainChangeDb, typical = *typical_;
        const std::string then = fmt::format("The loudest peak then stands at {} dBTP.", figureText(*peak_ + change));
        const bool near = std::abs(typical - target) <= kWithinDb;
        if (m_.advice.heldByHeadroom && (!near || *peak_ > -1.0)) {
            Finding& f = add(
                Severity::Fix, "level.headroom",
                change >= 0.05 ? "Turn up " + figureText(change) + " dB, no more"
                               : "Turn the preamp down " + figureText(-change) + " dB",
                fmt::format("It averages {} dBFS and the target is {}, but the peak of {} dBTP leaves room for {} dB "
                            "only: this playing is spikier than usual.",
                            figureText(typical), figureText(target, 0), figureText(*peak_), signedText(change)),
                fmt::format("Change the gain by {} dB", signedText(change)));
            levelBar(f, typical, target);
        } else if (near) {
            Finding& f =
                add(Severity::Note, "level.right", "The level is right",
                    fmt::format("It averages {} dBFS; the target is {} \u00b1 2. The peak of {} dBTP leaves {} dB.",
                                figureText(typical), figureText(target, 0), figureText(*peak_), figureText(-*peak_)),
                    "");
            levelBar(f, typical, target);
        } else {
            const bool low = typical < target;
            Finding& f = add(Severity::Fix, low ? "level.low" : "level.hot",
                             fmt::format("Turn the preamp {} {} dB", low ? "up" : "down", figureText(std::abs(change))),
                             fmt::format("It averages {} dBFS while you play; the target is {}. {}",
                                         figureText(typical), figureText(target, 0), then),
                             fmt::format("Change the gain by {} dB", signedText(change)));
            levelBar(f, typical, target);
        }
    }
    void levelBar(Finding& f, double typical, double target)
    {
        bar(f, typical, target, "dBFS", -48.0, 0.0);
        f.targetLow = target - kWithinDb;
        f.targetHigh = target + kWithinDb;
    }

    void peakTarget()
    {
        if (!m_.advice.gainChangeDb) return;
        const double target = -9.0, change = *m_.advice.gainChangeDb;
        const bool right = std::abs(*peak_ - target) <= kPeakWithinDb;
        Finding& f =
            right ? add(Severity::Note, "level.right", "The level is right",
                        fmt::format("The loudest peak is {} dBTP; the target is -9 \u00b1 3.", figureText(*peak_)), "")
                  : add(Severity::Fix, change > 0.0 ? "level.low" : "level.hot",
                        fmt::format("Turn the preamp {} {} dB", change > 0.0 ? "up" : "down",
                                    figureText(std::abs(change))),
                        fmt::format("The loudest peak is {} dBTP; the target is \u22129.", figureText(*peak_)),
                        fmt::format("Change the gain by {} dB", signedText(change)));
        bar(f, *peak_, target, "dBTP", -48.0, 0.0);
        f.targetLow = target - kPeakWithinDb;
        f.targetHigh = target + kPeakWithinDb;
    }

    void noFloor()
    {
        const auto& noise = m_.channels.front().noise;
        add(Severity::Note, "level.no_rest", "No rest to measure noise in",
            whyNoFloor(noise) + " Noise and hum are not known.",
            noise.why == NoRest::Silence ? "Measure the take as it was recorded, before a gate or an edit"
                                         : "Leave a second of muted strings before the first note");
    }

    void noise()
    {
        const ChannelMeasurement* worst = nullptr;
        for (const auto& c : m_.channels)
            if (c.noise.floorDbfs && (!worst || *c.noise.floorDbfs > *worst->noise.floorDbfs)) worst = &c;
        if (!worst) {
            noFloor();
            return;
        }
        const NoiseResult& n = worst->noise;
        const double playing = n.snrDb ? *n.floorDbfs + *n.snrDb : *n.floorDbfs;
        if (n.hum && n.snrDb && playing - n.hum->levelDbfs < kHumFixBelowPlayingDb) {
            std::string series;
            for (std::size_t i = 0; i < std::min<std::size_t>(3, n.hum->harmonics.size()); ++i)
                series += (i ? ", " : "") + fmt::format("{:.0f}", n.hum->harmonics[i].hz);
            Finding& f =
                add(Severity::Fix, "level.hum",
                    fmt::format("{:.0f} Hz hum at {} dBFS", n.hum->mainsHz, figureText(n.hum->levelDbfs, 0)),
                    fmt::format("A mains series ({} Hz) {} dB under the playing. Turn your body, step away from "
                                "transformers and screens. Never lift the safety earth.",
                                series, figureText(playing - n.hum->levelDbfs, 0)),
                    "Find the quietest angle before the next take");
            bar(f, n.hum->levelDbfs, playing - kHumFixBelowPlayingDb, "dBFS", -110.0, -20.0);
        }
        if (n.snrDb) {
            const bool good = *n.snrDb >= kNoiseFixSnrDb;
            Finding& f = add(good ? Severity::Note : Severity::Fix, good ? "level.quiet" : "level.noise",
                             good ? "Quiet enough" : "Noise is close",
                             fmt::format("The floor is {} dBFS, {} dB under the playing.", figureText(*n.floorDbfs),
                                         figureText(*n.snrDb, 0)),
                             good ? "" : "Turn the guitar up, the preamp down, and look for the source of the noise");
            bar(f, *n.snrDb, kNoiseFixSnrDb, "dB", 0.0, 90.0);
            f.targetLow = kNoiseFixSnrDb;
            f.targetHigh = 90.0;
        }
    }

    void dc()
    {
        double worst = 0.0;
        for (const auto& c : m_.channels)
            if (std::abs(c.level.dcOffset) > std::abs(worst)) worst = c.level.dcOffset;
        if (std::abs(worst) <= kDcFix) return;
        Finding& f = add(Severity::Fix, "level.dc", "The signal stands off centre",
                         fmt::format("A DC offset of {} % of full scale costs headroom and clicks at edits.",
                                     signedText(worst * 100.0, 2)),
                         "Have the interface checked; cut below 20 Hz");
        bar(f, std::abs(worst) * 100.0, kDcFix * 100.0, "%", 0.0, std::max(2.0, std::abs(worst) * 125.0));
    }

    const FileMeasurement& m_;
    const MeasureOptions& o_;
    std::string subject_;
    std::optional<double> typical_, peak_;
    std::int64_t clipped_ = 0, flatTops_ = 0;
    const HeldPeaks* held_ = nullptr; ///< of a channel whose peaks end at one level
    std::vector<Finding> out_;
};

} // namespace

std::string whyNoFloor(const NoiseResult& noise)
{
    switch (noise.why) {
    case NoRest::Silence: return "What lies between the notes is digital silence, as a gate or an edit leaves it.";
    case NoRest::Short: return fmt::format("The longest rest lasts {:.2f} s; 0.3 s are needed.", noise.longestRestS);
    default: return "Something sounds all the time: nowhere is a rest of 0.3 s.";
    }
}

std::vector<Finding> levelFindings(const FileMeasurement& measured, const MeasureOptions& options)
{
    return Judge(measured, options).all();
}

std::vector<Finding> gapFindings(const std::vector<std::int64_t>& gaps, double rateHz)
{
    constexpr std::size_t kNamed = 4;
    if (gaps.empty() || rateHz <= 0.0) return {};
    std::string places;
    for (std::size_t i = 0; i < std::min(gaps.size(), kNamed); ++i)
        places += (i ? ", " : "") + fmt::format("{:.2f} s", double(gaps[i]) / rateHz);
    if (gaps.size() > kNamed) places += " and later";
    Finding f;
    f.severity = Severity::Fix;
    f.code = "take.gaps";
    f.subject = "take";
    f.title = gaps.size() == 1 ? "Samples are missing at one place"
                               : fmt::format("Samples are missing at {} places", gaps.size());
    f.message = fmt::format("The system lost some while recording: at {}.", places);
    f.remedy = "Listen there; a larger buffer and fewer programs beside make it rarer";
    f.measured = double(gaps.size());
    f.unit = "gaps";
    f.low = 0.0, f.high = std::max(5.0, 1.25 * double(gaps.size()));
    f.target = 0.0;
    return {f};
}

std::vector<Finding> bandLevelFindings(const FileMeasurement& measured, const MeasureOptions& options)
{
    auto out = levelFindings(measured, options);
    std::erase_if(out, [](const Finding& f) { return f.code != "file.truncated" && f.code != "level.silent"; });
    return out;
}

} // namespace gristle::core
