#include "core/advice/double_findings.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace gristle::core {

namespace {

constexpr double kStrayMs = 9.0, kStrayErrors = 4.0;
constexpr double kSideMs = 6.0; // heard as leaning to the earlier side
constexpr double kDriftMs = 10.0, kDriftErrors = 4.0;
constexpr double kTuningCents = 5.0; // over which two sides beat audibly
constexpr double kMissedShare = 0.03;

} // namespace

int BarPlace::barOf(double seconds) const { return int(std::floor(grid.barAt(seconds - originS) + 1e-6)); }

std::vector<StrayBar> strayBars(const DoubleTake& take, const BarPlace& place)
{
    std::vector<StrayBar> out;
    std::map<int, std::vector<double>> bars;
    for (const NotePair& n : take.notes) bars[place.barOf(n.timeS)].push_back(n.offsetMs - take.offsetMedianMs);
    // What is usual within a bar, so that one stray bar does not hide itself in the spread of all.
    std::vector<double> spreads;
    for (const auto& [bar, offsets] : bars) {
        double mean = 0.0, sum = 0.0;
        for (const double o : offsets) mean += o / double(offsets.size());
        for (const double o : offsets) sum += (o - mean) * (o - mean);
        if (offsets.size() > 2) spreads.push_back(std::sqrt(sum / double(offsets.size() - 1)));
    }
    if (spreads.empty()) return out;
    std::ranges::nth_element(spreads, spreads.begin() + long(spreads.size() / 2));
    const double usual = spreads[spreads.size() / 2];
    for (const auto& [bar, offsets] : bars) {
        if (offsets.size() < 3) continue;
        double mean = 0.0;
        for (const double o : offsets) mean += o / double(offsets.size());
        if (std::abs(mean) > std::max(kStrayMs, kStrayErrors * usual / std::sqrt(double(offsets.size()))))
            out.push_back({bar, mean, int(offsets.size())});
    }
    return out;
}

std::string heardText(DoubleHeard heard)
{
    switch (heard) {
    case DoubleHeard::One: return "heard as one";
    case DoubleHeard::Width: return "width";
    case DoubleHeard::Loose: return "loose";
    case DoubleHeard::Flam: return "a flam";
    }
    return {};
}

std::string semitonesText(int higher)
{
    const int by = std::abs(higher);
    return (by == 1    ? std::string("a semitone")
            : by == 12 ? std::string("an octave")
                       : fmt::format("{} semitones", by)) +
           (higher > 0 ? " higher" : " lower");
}

std::vector<Finding> doubleFindings(const DoubleTake& take, const std::optional<BarPlace>& place,
                                    const std::string& subject, const DoubleLimits& limits)
{
    std::vector<Finding> out;
    const auto add = [&](Severity severity, const char* code, std::string title, std::string message,
                         std::string remedy) {
        out.push_back(makeFinding(severity, code, subject, std::move(title), std::move(message), std::move(remedy)));
    };
    if (take.isCopy) {
        constexpr double kAnotherClock = 10e-6;
        const std::string how = std::abs(take.copySlope) > kAnotherClock
                                    ? fmt::format("at {} % of its speed, as a resampler or another clock leaves it",
                                                  figureText(100.0 / (1.0 + take.copySlope), 3))
                                    : fmt::format("{} ms later", figureText(take.movedMs + take.offsetMedianMs));
        add(Severity::Fix, "double.copy", "A copy",
            fmt::format("The second is the first again, {}{}: a copy makes no width, and in mono it combs.", how,
                        take.copyThrough == CopyThrough::Drive    ? ", and one of them is driven"
                        : take.copyThrough == CopyThrough::Chorus ? ", chorused"
                                                                  : ""),
            "Play it a second time");
        return out;
    }
    if (take.isUnrelated && take.tempoRatio) {
        add(Severity::Stop, "double.tempo", "Another tempo",
            fmt::format("The second is the same part at {} % of the first's tempo: nothing can be said of its timing.",
                        figureText(100.0 / *take.tempoRatio, 1)),
            "Choose two takes that were played to one click");
        return out;
    }
    if (take.isTooShort()) {
        add(Severity::Stop, "double.few", "Too few notes",
            fmt::format("{} in both: from so few neither spread nor width can be told.",
                        take.notes.size() == 1 ? "One note is" : fmt::format("{} notes are", take.notes.size())),
            "Compare longer takes");
        return out;
    }
    if (take.semitonesHigher != 0) {
        add(Severity::Stop, "double.unrelated", "Another pitch",
            fmt::format("The second is the same part {}: together they are a harmony, no double.",
                        semitonesText(take.semitonesHigher)),
            "Choose two takes of one part, or look for a capo or another tuning");
        return out;
    }
    if (take.isOtherNotes) {
        add(Severity::Stop, "double.unrelated", "The same rhythm, other notes",
            fmt::format("{} strokes of one meet one of the other, and their notes are others: two parts, no double.",
                        take.notes.size()),
            "Choose two takes of one part");
        return out;
    }
    if (take.isUnrelated) {
        add(Severity::Stop, "double.unrelated", "Two different parts",
            fmt::format("{} notes of one are in the other, and what sounds there is alike to {}: these are not two "
                        "performances of one part.",
                        take.notes.size(), figureText(take.likeness, 2)),
            "Choose two takes of one part");
        return out;
    }
    const double apart = take.apartMs();
    const auto inMono = [&] {
        switch (heardInMono(take, limits)) {
        case MonoHeard::Combed: return "one, its colour changed by combs";
        case MonoHeard::Thick: return "one thick stroke";
        case MonoHeard::TwoStrokes: return "two strokes";
        }
        return "";
    };
    const auto told = [&](Severity severity, const char* code, const char* title, const char* meaning,
                          const char* remedy) {
        Finding f = makeFinding(severity, code, subject, title,
                                fmt::format("The sides are {} ms apart (spread {} ms, median {} ms): {}. In mono: {}.",
                                            figureText(apart), figureText(take.offsetSdMs),
                                            figureText(take.offsetMedianMs), meaning, inMono()),
                                remedy);
        f.measured = apart, f.target = 0.5 * (limits.oneMs + limits.widthMs), f.unit = "ms";
        f.low = 0.0, f.high = 1.5 * limits.looseMs;
        f.targetLow = limits.oneMs, f.targetHigh = limits.widthMs;
        out.push_back(std::move(f));
    };
    const DoubleBetween between = heardBetween(take, limits);
    if (!between.isTold())
        add(Severity::Note, "double.untold", "I cannot tell these apart",
            fmt::format("They are {} ms apart, give or take {}: from {} to {}, anything may be true. Attacks that rise "
                        "slowly, or each in its own way, do not say when a note begins.",
                        figureText(apart), figureText(2.0 * take.apartDoubtMs()), heardText(between.least),
                        heardText(between.most)),
            "Compare the DIs that were recorded with them, or longer takes");
    else
        switch (heardAs(take, limits)) {
        case DoubleHeard::One:
            told(Severity::Fix, "double.one", "Heard as one", "too little to be heard as two",
                 "Play it again, more freely");
            break;
        case DoubleHeard::Width:
            told(Severity::Note, "double.width", "It makes width", "heard as two that belong together", "");
            break;
        case DoubleHeard::Loose:
            told(Severity::Fix, "double.loose", "Loose", "heard as untidy",
                 "Play the bars again that stray, or move the side");
            break;
        case DoubleHeard::Flam:
            told(Severity::Fix, "double.flam", "A flam", "heard as two strokes", "Play it again, or move the side");
            break;
        }
    if (std::abs(take.offsetMedianMs) > kSideMs)
        add(Severity::Fix, "double.side_late",
            take.offsetMedianMs > 0.0 ? "The second side drags" : "The second side rushes",
            fmt::format("Its median is {} ms {}.", figureText(std::abs(take.offsetMedianMs)),
                        take.offsetMedianMs > 0.0 ? "late" : "early"),
            fmt::format("Move the side by {} ms", figureText(std::abs(take.offsetMedianMs))));
    if (std::abs(take.driftMs) > std::max(kDriftMs, kDriftErrors * take.driftDoubtMs))
        add(Severity::Fix, "double.drift",
            take.driftMs > 0.0 ? "The second side falls behind" : "The second side runs ahead",
            fmt::format("By {} +- {} ms from the first note to the last.", figureText(std::abs(take.driftMs)),
                        figureText(take.driftDoubtMs)),
            "Move its phrases, or play it again to the click");
    for (const PitchStretch& s : take.otherPitch) {
        const int from = place ? place->barOf(s.fromS) : 0, to = place ? place->barOf(s.toS) : 0;
        const std::string where = !place       ? fmt::format("From {:.1f} to {:.1f} s", s.fromS, s.toS)
                                  : from == to ? fmt::format("Bar {}", from)
                                               : fmt::format("Bars {} to {}", from, to);
        add(Severity::Stop, "double.other_pitch", where + ": " + semitonesText(s.semitonesHigher),
            fmt::format("{} notes of the second are {} there: a harmony, no double.", s.notes,
                        semitonesText(s.semitonesHigher)),
            "Play them again, or look for a capo or a wrong fret");
    }
    for (const StrayBar& b : place ? strayBars(take, *place) : std::vector<StrayBar>{})
        add(Severity::Fix, b.offsetMs > 0.0 ? "double.late_bar" : "double.early_bar",
            fmt::format("Bar {} {}", b.bar, b.offsetMs > 0.0 ? "drags" : "rushes"),
            fmt::format("Its {} notes are {} ms {} against the rest of the side.", b.notes,
                        figureText(std::abs(b.offsetMs)), b.offsetMs > 0.0 ? "late" : "early"),
            "Play that bar again, or move the phrase");
    if (take.tuningMeanCents && std::abs(*take.tuningMeanCents) > kTuningCents)
        add(Severity::Fix, "double.tuning",
            *take.tuningMeanCents > 0.0 ? "The second side is sharp" : "The second side is flat",
            fmt::format("By {} cents on the mean.", figureText(std::abs(*take.tuningMeanCents))),
            "Tune, and play it again");
    const auto left = take.unmatchedFirst + take.unmatchedSecond;
    if (double(left) > std::max(1.0, kMissedShare * double(take.notes.size())))
        add(Severity::Note, "double.missed", "Notes that one of them lacks",
            fmt::format("In the first alone: {}; in the second alone: {}.", take.unmatchedFirst, take.unmatchedSecond),
            "Listen whether they were missed or meant");
    return out;
}

} // namespace gristle::core
