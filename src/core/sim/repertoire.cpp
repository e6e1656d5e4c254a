#include "core/sim/repertoire.h"

#include <algorithm>
#include <cctype>

namespace gristle::core {

namespace {

using Frets = std::vector<std::pair<int, int>>;

bool says(const std::string& name, std::initializer_list<const char*> words)
{
    std::string lower = name;
    std::ranges::transform(lower, lower.begin(), [](unsigned char c) { return char(std::tolower(c)); });
    return std::ranges::any_of(words, [&](const char* word) { return lower.find(word) != std::string::npos; });
}

} // namespace

std::vector<WrittenNote> rhythmRiff(int bars)
{
    const int roots[] = {0, 3, 5, 0};
    std::vector<WrittenNote> part;
    for (int bar = 0; bar < bars; ++bar) {
        const int root = roots[(bar / 2) % 4];
        const double at = bar * 4.0;
        const Frets chord = {{0, root}, {1, root + 2}, {2, root + 2}};
        part.push_back({at, 1.0, chord, 0.95, false});
        for (const double beat : {1.0, 1.5, 2.0}) part.push_back({at + beat, 0.5, {{0, root}}, 0.7, true});
        part.push_back({at + 2.5, 0.5, chord, 0.85, false});
        if (bar % 4 == 3) {
            part.push_back({at + 3.0, 0.9, {{0, root + 3}, {1, root + 5}}, 0.9, false});
        } else {
            for (const double beat : {3.0, 3.5}) part.push_back({at + beat, 0.5, {{0, root}}, 0.7, true});
        }
    }
    return part;
}

std::vector<WrittenNote> leadLine(int bars)
{
    const int frets[] = {12, 15, 14, 12, 14, 12, 15, 17};
    std::vector<WrittenNote> part;
    for (int bar = 0; bar < bars; ++bar) {
        const double at = bar * 4.0;
        WrittenNote first{at, 1.5, {{4, frets[bar % 8]}}, 0.9, false, {}};
        WrittenNote last{at + 2.0, 1.8, {{5, frets[(bar + 3) % 8] - 2}}, 0.85, false, {}};
        if (bar % 4 == 1) first.glides = {{0.25, 0.25, 2.0, Glide::Kind::Slide}};
        if (bar % 2 == 0) last.glides = {{0.5, 0.3, 2.0, Glide::Kind::Bend}, {1.3, 0.2, -2.0, Glide::Kind::Bend}};
        part.push_back(std::move(first));
        part.push_back({at + 1.5, 0.5, {{4, frets[(bar + 1) % 8]}}, 0.7, false, {}});
        part.push_back(std::move(last));
    }
    return part;
}

std::vector<WrittenNote> brokenChords(int bars, double beatsPerBar)
{
    const std::vector<Frets> chords = {{{0, 0}, {2, 0}, {3, 2}, {4, 3}, {5, 2}, {4, 3}},
                                       {{1, 0}, {2, 2}, {3, 2}, {4, 2}, {5, 0}, {4, 2}},
                                       {{0, 5}, {2, 5}, {3, 4}, {4, 3}, {5, 3}, {4, 3}},
                                       {{1, 2}, {2, 4}, {3, 4}, {4, 3}, {5, 2}, {4, 3}}};
    std::vector<WrittenNote> part;
    const int eighths = static_cast<int>(beatsPerBar * 2.0);
    for (int bar = 0; bar < bars; ++bar) {
        const Frets& chord = chords[static_cast<std::size_t>(bar) % chords.size()];
        for (int i = 0; i < eighths; ++i)
            part.push_back({bar * beatsPerBar + i * 0.5,
                            1.4,
                            {chord[static_cast<std::size_t>(i) % chord.size()]},
                            i == 0 ? 0.85 : 0.62,
                            false});
    }
    return part;
}

std::vector<WrittenNote> mutedSixteenths(int bars)
{
    std::vector<WrittenNote> out;
    for (int i = 0; i < bars * 16; ++i)
        out.push_back({i * 0.25, 0.22, {{i / 16 % 2, 2}}, i % 4 == 0 ? 0.9 : 0.6, true});
    return out;
}

std::vector<WrittenNote> strummedChords(int bars)
{
    constexpr int kShapes[4][6] = {{0, 2, 2, 1, 0, 0}, {3, 2, 0, 0, 0, 3}, {0, 0, 2, 2, 1, 0}, {1, 3, 3, 2, 1, 1}};
    std::vector<WrittenNote> out;
    for (int i = 0; i < bars * 4; ++i) {
        WrittenNote n{double(i), 0.9, {}, 0.8, false};
        for (int s = 0; s < 6; ++s) n.frets.emplace_back(s, kShapes[i % 4][s]);
        out.push_back(std::move(n));
    }
    return out;
}

std::vector<WrittenNote> partFor(const std::string& name, int bars, double quartersPerBar)
{
    if (says(name, {"clean", "texture", "pick", "chord"}) || quartersPerBar != 4.0)
        return brokenChords(bars, quartersPerBar);
    return says(name, {"lead", "solo", "melod", "hook"}) ? leadLine(bars) : rhythmRiff(bars);
}

OpenStrings stringsOf(const std::string& tuning) { return says(tuning, {"drop d"}) ? dropDTuning() : standardTuning(); }

} // namespace gristle::core
