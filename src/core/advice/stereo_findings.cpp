#include "core/advice/stereo_findings.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kMonoCorrelation = 0.98; // above it the sides differ by under 20 dB: one is heard
constexpr double kLossFixDb = 2.0;        // mono loses more than unrelated sides (0) by an audible step
constexpr double kLowEndHz = 200.0;
constexpr double kBodyDb = 1.5;   // from the middle of all layers: heard as thin or thick beside them
constexpr double kSidesDb = 3.0;  // between two sides: heard as two kinds of sound
constexpr double kThickDb = -1.0; // four fifths of the power
constexpr double kAside = 20.0;   // of 100: on a side
constexpr std::size_t kManyLayers = 3;
constexpr double kBalanceFixDb = 1.5; // a guitar pair leaning by this is heard as leaning

void bar(Finding& f, double measured, double target, const char* unit, double low, double high)
{
    f.measured = measured;
    f.target = target;
    f.unit = unit;
    f.low = low;
    f.high = high;
}

} // namespace

std::vector<Finding> stereoFindings(const StereoResult& s, const std::string& subject)
{
    std::vector<Finding> out;
    if (!s.correlation) {
        out.push_back(makeFinding(Severity::Fix, "stereo.silent_side", subject, "One side is silent",
                                  "Only one side carries sound, so there is no picture between them.",
                                  "Bring in or place a layer on the other side"));
        return out;
    }
    const double r = *s.correlation;
    if (!s.monoLossDb || r < -0.5) {
        Finding f =
            makeFinding(Severity::Stop, "stereo.inverted", subject, "One side is inverted",
                        fmt::format("Left and right work against each other (correlation {}): in mono {} is left.",
                                    figureText(r, 2), s.monoLossDb ? "little" : "nothing"),
                        "Turn the polarity of one side");
        bar(f, r, 0.0, "", -1.0, 1.0);
        f.targetLow = -0.1, f.targetHigh = 1.0;
        out.push_back(std::move(f));
    } else if (r > kMonoCorrelation) {
        Finding f = makeFinding(
            Severity::Fix, "stereo.mono", subject, "Both sides are the same",
            fmt::format("Correlation {}: this is one sound in the middle, not a picture.", figureText(r, 2)),
            "Play it twice, or give one side another rig");
        bar(f, r, 0.5, "", -1.0, 1.0);
        f.targetLow = -0.1, f.targetHigh = 0.9;
        out.push_back(std::move(f));
    } else {
        const double loss = *s.monoLossDb;
        const bool good = loss <= kLossFixDb;
        Finding f = makeFinding(good ? Severity::Note : Severity::Fix, good ? "stereo.wide" : "stereo.mono_loss",
                                subject, good ? "Mono keeps it" : fmt::format("Mono loses {} dB", figureText(loss)),
                                fmt::format("Mono {} {} dB (alike \u22123.0, unrelated 0); width {}.",
                                            loss < 0.0 ? "gains" : "loses", figureText(std::abs(loss)),
                                            s.width ? figureText(*s.width, 2) : "-"),
                                good ? "" : "Move one side in time, or change its sound, until mono holds");
        bar(f, loss, 0.0, "dB", -3.0, 9.0);
        f.targetLow = -3.0, f.targetHigh = kLossFixDb;
        out.push_back(std::move(f));
    }
    const StereoBand* worst = nullptr;
    for (const StereoBand& b : s.bands)
        if (b.hz >= 63.0 && b.hz <= kLowEndHz && b.monoLossDb && (!worst || *b.monoLossDb > *worst->monoLossDb))
            worst = &b;
    if (s.monoLossDb && worst && *worst->monoLossDb > 3.0) {
        Finding f = makeFinding(
            Severity::Fix, "stereo.low_end", subject, fmt::format("The low end thins at {:.0f} Hz", worst->hz),
            fmt::format("In mono it loses {} dB there: the sides arrive at different times or one is inverted.",
                        figureText(*worst->monoLossDb)),
            "Check polarity and delay of the sides");
        bar(f, *worst->monoLossDb, 0.0, "dB", -3.0, 12.0);
        f.targetLow = -3.0, f.targetHigh = 3.0;
        out.push_back(std::move(f));
    }
    if (s.balanceDb) {
        const double b = *s.balanceDb;
        const bool good = std::abs(b) <= kBalanceFixDb;
        const char* quieter = b < 0.0 ? "Right" : "Left";
        Finding f = makeFinding(
            good ? Severity::Note : Severity::Fix, good ? "stereo.balanced" : "stereo.balance", subject,
            fmt::format("{} is {} LU quieter", quieter, figureText(std::abs(b))),
            good ? "By loudness over the part; less than is heard as leaning."
                 : "By loudness over the part; the picture leans to the other side.",
            good ? "" : fmt::format("Turn {} up {} dB", b < 0.0 ? "right" : "left", figureText(std::abs(b))));
        bar(f, b, 0.0, "LU", -6.0, 6.0);
        f.targetLow = -kBalanceFixDb, f.targetHigh = kBalanceFixDb;
        out.push_back(std::move(f));
    }
    rank(out);
    return out;
}

std::vector<Finding> copyFindings(const std::vector<CopiedPerformance>& copies, const std::vector<std::string>& names)
{
    std::vector<Finding> out;
    for (const CopiedPerformance& c : copies) {
        std::string who;
        for (const std::size_t i : c.layers)
            if (i < names.size()) who += (who.empty() ? "" : " and ") + names[i];
        std::string dips;
        for (std::size_t i = 0; i < std::min<std::size_t>(3, c.notches.size()); ++i)
            dips += (i == 0 ? "" : ", ") + figureText(c.notches[i].hz, 0);
        const bool loses = c.monoLossDb > kLossFixDb - 1.0;
        Finding f = makeFinding(
            loses || !c.notches.empty() ? Severity::Fix : Severity::Note, "stereo.copies", who,
            "One performance, heard twice",
            fmt::format("{} are the same take: they make no width of their own. In mono {} {} dB (alike \u22123.0){}.",
                        who, c.monoLossDb < 0.0 ? "they gain" : "they lose", figureText(std::abs(c.monoLossDb)),
                        dips.empty() ? std::string() : ", with dips at " + dips + " Hz"),
            "Play it twice; or bring both to one moment and give one another rig");
        bar(f, c.monoLossDb, 0.0, "dB", -3.0, 6.0);
        f.targetLow = -3.0, f.targetHigh = kLossFixDb;
        out.push_back(std::move(f));
    }
    return out;
}

std::optional<double> usualBody(const std::vector<MixLayerReport>& layers)
{
    std::vector<double> all;
    for (const auto& l : layers)
        if (l.bodyDb) all.push_back(*l.bodyDb);
    if (all.size() < 2) return std::nullopt;
    std::ranges::sort(all);
    return 0.5 * (all[(all.size() - 1) / 2] + all[all.size() / 2]);
}

Body bodyOf(double bodyDb, double usualDb) noexcept
{
    return bodyDb > usualDb + kBodyDb ? Body::Thick : bodyDb < usualDb - kBodyDb ? Body::Thin : Body::Even;
}

std::vector<Finding> bodyFindings(const std::vector<MixLayerReport>& layers, const std::vector<std::string>& names)
{
    std::vector<Finding> out;
    struct Side {
        double power = 0.0, body = 0.0;
        std::string who;
        double bodyDb() const { return 10.0 * std::log10(body / power); }
    } left, right;
    std::size_t told = 0, thick = 0;
    for (std::size_t i = 0; i < layers.size(); ++i) {
        const MixLayerReport& l = layers[i];
        if (!l.bodyDb || !l.integratedLufs) continue;
        ++told, thick += *l.bodyDb > kThickDb;
        if (std::abs(l.place) < kAside) continue;
        Side& side = l.place < 0.0 ? left : right;
        const double power = std::pow(10.0, 0.1 * *l.integratedLufs);
        side.power += power, side.body += power * std::pow(10.0, 0.1 * *l.bodyDb);
        side.who += (side.who.empty() ? "" : " and ") + (i < names.size() ? names[i] : std::string("a layer"));
    }
    if (left.power > 0.0 && right.power > 0.0 && std::abs(left.bodyDb() - right.bodyDb()) > kSidesDb) {
        const bool isLeft = left.bodyDb() > right.bodyDb();
        const Side &full = isLeft ? left : right, &lean = isLeft ? right : left;
        Finding f = makeFinding(
            Severity::Note, "mix.sides_differ", full.who + ", " + lean.who,
            fmt::format("{} is thick, {} thin", isLeft ? "Left" : "Right", isLeft ? "right" : "left"),
            fmt::format("Around 125 and 250 Hz {} has {} dB of its power, {} {}: one carries the weight, the other the "
                        "edge.",
                        full.who, figureText(full.bodyDb()), lean.who, figureText(lean.bodyDb())),
            "Where it is not meant, give both sides one rig, or exchange them on the Double bench");
        out.push_back(std::move(f));
    }
    if (told >= kManyLayers && thick == told)
        out.push_back(makeFinding(Severity::Note, "mix.all_thick", "", "All layers are thick",
                                  fmt::format("Each of the {} has four fifths of its power around 125 and 250 Hz: "
                                              "together they may be heard as mud.",
                                              told),
                                  "Cut the lows of the doubled layers, or make one pair of them thin"));
    return out;
}

std::vector<Finding> sumFindings(std::optional<double> truePeakDbtp, std::int64_t clipped, const std::string& subject)
{
    std::vector<Finding> out;
    if (clipped > 0) {
        Finding f = makeFinding(Severity::Stop, "mix.clipped", subject, "The file clipped",
                                fmt::format("{} samples passed full scale and were cut at 24 bits.", clipped),
                                fmt::format("Turn all layers down {} dB, or write 32-bit float",
                                            figureText(std::max(0.1, truePeakDbtp.value_or(0.0) + 1.0))));
        bar(f, double(clipped), 0.0, "samples", 0.0, double(clipped) * 1.25);
        out.push_back(std::move(f));
    } else if (truePeakDbtp && *truePeakDbtp > -1.0) {
        Finding f = makeFinding(Severity::Fix, "mix.peak", subject,
                                fmt::format("The sum peaks at {} dBTP", figureText(*truePeakDbtp)),
                                "Players and codecs clip above \u22121 dBTP.",
                                fmt::format("Turn all layers down {} dB", figureText(*truePeakDbtp + 1.0)));
        bar(f, *truePeakDbtp, -1.0, "dBTP", -24.0, 6.0);
        f.targetLow = -24.0, f.targetHigh = -1.0;
        out.push_back(std::move(f));
    }
    return out;
}

} // namespace gristle::core
