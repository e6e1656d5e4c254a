#include "core/advice/take_words.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kApartCents = 3.0; // a note this far from the take's median is named

double medianOf(std::vector<double> v)
{
    std::ranges::nth_element(v, v.begin() + long(v.size() / 2));
    return v[v.size() / 2];
}

} // namespace

std::string lateText(double ms)
{
    return fmt::format("{} ms {}", figureText(std::abs(ms), 0), ms > 0.0 ? "late" : "early");
}

std::string sharpText(double cents)
{
    return fmt::format("{} cents {}", figureText(std::abs(cents), 0), cents > 0.0 ? "sharp" : "flat");
}

std::string countText(int n, const char* one, const char* many)
{
    return n == 1 ? fmt::format("one {}", one) : fmt::format("{} {}", n, many);
}

std::string barsText(const std::vector<int>& bars)
{
    std::vector<std::string> parts;
    for (std::size_t i = 0; i < bars.size();) {
        std::size_t j = i;
        while (j + 1 < bars.size() && bars[j + 1] == bars[j] + 1) ++j;
        parts.push_back(i == j ? std::to_string(bars[i]) : fmt::format("{}\u2013{}", bars[i], bars[j]));
        i = j + 1;
    }
    std::string out = bars.size() == 1 ? "bar " : "bars ";
    for (std::size_t i = 0; i < parts.size(); ++i)
        out += (i == 0 ? "" : i + 1 == parts.size() ? " and " : ", ") + parts[i];
    return out;
}

void tellTake(const TakeMeasure& take, const JudgeOptions& o, const CentsByNote& byNote, TakeJudgement& out)
{
    const auto add = [&](Severity severity, const char* code, std::string title, std::string message,
                         std::string remedy) {
        out.findings.push_back(
            makeFinding(severity, code, o.subject, std::move(title), std::move(message), std::move(remedy)));
    };
    const auto those = [&](auto is) {
        std::vector<int> found;
        for (const BarVerdict& b : out.bars)
            if (is(b)) found.push_back(b.bar);
        return found;
    };
    std::vector<std::string> said;
    if (const auto bad = those([](const BarVerdict& b) { return b.clipped > 0; }); !bad.empty()) {
        said.push_back("clips in " + barsText(bad));
        add(Severity::Stop, "take.clipped", "Clipped in " + barsText(bad), "What is cut off does not come back.",
            "Turn the preamp down and play " + barsText(bad) + " again");
    }
    const bool isPaired = o.earlier && !o.earlier->isUnrelated && !o.earlier->isCopy;
    const char* against = isPaired ? "the earlier layer" : "the click";
    for (const bool late : {true, false}) {
        const auto bad = those([&](const BarVerdict& b) { return b.isStray && (*b.strayMs > 0.0) == late; });
        if (bad.empty()) continue;
        double most = 0.0;
        for (const BarVerdict& b : out.bars)
            if (b.isStray && (*b.strayMs > 0.0) == late) most = std::max(most, std::abs(*b.strayMs));
        said.push_back(
            fmt::format("{} up to {} ms in {}", late ? "drags" : "rushes", figureText(most, 0), barsText(bad)));
        add(Severity::Fix, late ? "take.late" : "take.early",
            fmt::format("{} in {}", late ? "Drags" : "Rushes", barsText(bad)),
            fmt::format("Up to {} ms {} the rest of the take, by {}.", figureText(most, 0),
                        late ? "behind" : "ahead of", against),
            "Play " + barsText(bad) + " again, or take it from another take");
    }
    if (out.timingMedianMs && std::abs(*out.timingMedianMs) > o.wholeLateMs) {
        said.push_back(fmt::format("lies {} as a whole", lateText(*out.timingMedianMs)));
        add(Severity::Fix, "take.whole_late", "The whole take lies " + lateText(*out.timingMedianMs),
            fmt::format("The median of its notes, by {}.", against),
            "Move it; and where that comes again, measure the round trip on Level's record page");
    }
    if (take.notesBefore > 0)
        add(Severity::Note, "take.before", "Played before bar 1",
            fmt::format("What lies before the song begins ({}) is kept in the file, not heard in a mix.",
                        countText(take.notesBefore, "note", "notes")),
            "If they belong to the part, let it begin in bar 2");
    if (const auto bad = those([&](const BarVerdict& b) { return b.missed > 0; }); !bad.empty()) {
        said.push_back("lacks notes in " + barsText(bad));
        add(Severity::Fix, "take.missed", "Notes missed in " + barsText(bad), "The other performances have them.",
            "Listen whether they were meant; else play " + barsText(bad) + " again");
    }
    if (const auto bad = those([&](const BarVerdict& b) { return b.added > 0; }); !bad.empty()) {
        said.push_back("has notes of its own in " + barsText(bad));
        add(Severity::Note, "take.added", "Notes too many in " + barsText(bad), "The other performances lack them.",
            "Listen whether they were meant");
    }
    if (const auto bad = those([&](const BarVerdict& b) { return b.cents && std::abs(*b.cents) > o.centsOff; });
        !bad.empty() && out.cents) {
        said.push_back(fmt::format("{} in {}", sharpText(*out.cents), barsText(bad)));
        std::string note;
        double most = std::abs(*out.cents) + kApartCents;
        for (const auto& [name, cents] : byNote)
            if (cents.size() > 1 && std::abs(medianOf(cents)) > most)
                most = std::abs(medianOf(cents)),
                note = fmt::format("; most of all {}, {}", name, sharpText(medianOf(cents)));
        add(Severity::Fix, "take.tuning", "Out of tune in " + barsText(bad),
            fmt::format("Notes that sound alone are {} on the median of the take{}.", sharpText(*out.cents), note),
            "Tune, and play it again");
    }
    for (const StringTuning& s : out.strings) {
        if (!s.isOff) continue;
        said.push_back(fmt::format("the {} string {}", s.name, sharpText(s.apart)));
        add(Severity::Fix, "take.string", fmt::format("The {} string is {}", s.name, sharpText(s.apart)),
            fmt::format("Against the notes of the other strings, by {} notes of its own.", s.notes),
            "Tune that string, and play it again");
    }
    if (const auto bad = those([&](const BarVerdict& b) { return b.levelDb && std::abs(*b.levelDb) > o.levelOffDb; });
        !bad.empty()) {
        said.push_back("another level in " + barsText(bad));
        add(Severity::Note, "take.level", "Another level in " + barsText(bad),
            fmt::format("Over {} dB from its other bars.", figureText(o.levelOffDb, 0)),
            "Listen whether it is meant; a change of the pickup or the volume control sounds like that");
    }
    if (const auto bad = those([](const BarVerdict& b) { return b.noiseDb && *b.noiseDb > kNoiseBetweenDb; });
        !bad.empty()) {
        said.push_back("noises between notes in " + barsText(bad));
        add(Severity::Note, "take.noise", "Noises between notes in " + barsText(bad),
            "Bursts that are no notes, over \u221230 dB of a usual one.",
            "Damp the strings that rest, or lay a cloth over them");
    }
    std::string steady;
    if (out.timingSdMs)
        steady = fmt::format("spread {} ms against {}", figureText(*out.timingSdMs, 1), against);
    else
        steady = "its notes keep to no division of the beat, so timing is not told";
    for (std::size_t i = 0; i < said.size(); ++i) out.sentence += (i == 0 ? "" : ", ") + said[i];
    out.sentence = said.empty() ? "Clean: " + steady + "." : out.sentence + "; " + steady + ".";
    out.sentence[0] = char(std::toupper(static_cast<unsigned char>(out.sentence[0])));
}

} // namespace gristle::core
