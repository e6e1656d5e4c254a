#include "core/timing/strings.h"

#include "core/measure/tuner.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <numbers>
#include <numeric>
#include <sstream>

namespace gristle::core {

namespace {

constexpr std::size_t kStrings = 6;
constexpr std::array<int, kStrings> kUsualSemitones{-29, -24, -19, -14, -10, -5}; // from A4
constexpr int kMostFret = 24;
constexpr int kMostDown = 9; // semitones, all strings together
// Open, log2 of B: light sets by their cores and tensions, see lightStrings() of the simulated player.
constexpr std::array<double, kStrings> kUsual{-13.69, -14.04, -14.33, -13.19, -14.60, -16.31};
constexpr std::array<double, kStrings> kSetsDiffer{0.4, 0.4, 0.4, 0.7, 0.4, 0.4}; // octaves, sd; a third may be wound
constexpr double kMeasured = 0.13, kLeastStiff = 3e-6;                            // octaves, beside its doubt; B
constexpr double kLowHz = 108.0, kMeasuredLow = 3.0; // a few partials, all off the same way: not to be learned from
constexpr double kSureOdds = 3.0;                    // as a logarithm: 20 to one
constexpr double kAstray = 3.0;                      // standard errors, off any string's law
constexpr int kMostSwaps = 10;

double squared(double v) { return v * v; }

/// "C#" as semitones over C.
std::optional<int> semitoneOf(const std::string& note)
{
    constexpr std::array<int, 7> kFromA{9, 11, 0, 2, 4, 5, 7};
    if (note.empty() || note.size() > 2) return std::nullopt;
    const int letter = std::toupper(static_cast<unsigned char>(note[0])) - 'A';
    if (letter < 0 || letter > 6) return std::nullopt;
    const int sharp = note.size() == 1 ? 0 : note[1] == '#' ? 1 : note[1] == 'b' ? -1 : 99;
    return sharp == 99 ? std::nullopt : std::optional((kFromA[std::size_t(letter)] + sharp + 12) % 12);
}

/// What brings a string to a note, from so many semitones down on.
int wayTo(std::size_t string, int semitone, int down)
{
    const int usual = kUsualSemitones[string] + 9 + 36; // from some C
    return (semitone - usual + down + 120) % 12 - down;
}

/// What a note is to the strings: the fret that it is at on each, and its stiffness.
struct Seen {
    std::array<int, kStrings> fret{}; ///< -1: not on that string
    double stiffness = 0.0;           ///< log2 of B
    double variance = 0.0;            ///< of that
    std::size_t string = 0;           ///< that it is given to
    bool isOn(std::size_t s) const { return fret[s] >= 0; }
    int choices() const
    {
        return int(std::ranges::count_if(fret, [](int f) { return f >= 0; }));
    }
    double open(std::size_t s) const { return stiffness - fret[s] / 6.0; } ///< of the string, were this note on it
};
using Notes = std::vector<Seen>;

double weightedMedian(std::vector<std::pair<double, double>> values)
{
    std::ranges::sort(values);
    double all = 0.0, sum = 0.0;
    for (const auto& [value, weight] : values) all += weight;
    for (const auto& [value, weight] : values)
        if ((sum += weight) >= 0.5 * all) return value;
    return 0.0;
}

/// What the notes of each string say of it when open, beside what strings usually are.
class Laws {
public:
    explicit Laws(const std::array<double, kStrings>& usual) : usual_(usual) {}
    void learn(const Notes& notes)
    {
        for (std::size_t s = 0; s < kStrings; ++s) {
            std::vector<std::pair<double, double>> own{{usual_[s], 1.0 / squared(kSetsDiffer[s])}}; // open, weight
            for (const Seen& n : notes)
                if (n.string == s) own.emplace_back(n.open(s), 1.0 / n.variance);
            const double middle = weightedMedian(own);
            weight_[s] = mean_[s] = price_[s] = 0.0;
            for (std::size_t i = 0; i < own.size(); ++i) {
                const auto [x, w] = own[i];
                if (i > 0 && squared(x - middle) * w > squared(kAstray)) { // a stiffness told badly
                    price_[s] += squared(kAstray);
                    continue;
                }
                weight_[s] += w, mean_[s] += w * x, price_[s] += w * x * x;
            }
            mean_[s] /= weight_[s], price_[s] -= weight_[s] * squared(mean_[s]);
        }
    }
    /// Squared deviations of a note from a string in units of their error, and its logarithm.
    double away(const Seen& n, std::size_t s) const
    {
        const double variance = n.variance + 1.0 / weight_[s];
        return squared(n.open(s) - mean_[s]) / variance + std::log(variance);
    }
    bool fits(const Seen& n) const
    {
        return std::abs(n.open(n.string) - mean_[n.string]) < kAstray * std::sqrt(n.variance + 1.0 / weight_[n.string]);
    }
    double price() const { return std::accumulate(price_.begin(), price_.end(), 0.0); } ///< twice a log likelihood

private:
    std::array<double, kStrings> usual_, mean_{}, weight_{}, price_{};
};

/// Each note to the string that it is nearest to, and the strings learned again, until nothing changes.
void settle(Notes& notes, Laws& laws)
{
    constexpr int kMostRounds = 30;
    for (int round = 0; round < kMostRounds; ++round) {
        laws.learn(notes);
        bool hasChanged = false;
        for (Seen& n : notes) {
            std::size_t best = n.string;
            for (std::size_t s = 0; s < kStrings; ++s)
                if (n.isOn(s) && laws.away(n, s) < laws.away(n, best) - 1e-9) best = s;
            hasChanged |= best != n.string;
            n.string = best;
        }
        if (!hasChanged) return;
    }
    laws.learn(notes);
}

/// The notes of one string on another, those that can be.
Notes moved(Notes notes, std::size_t from, std::size_t to)
{
    for (Seen& n : notes)
        if (n.string == from && n.isOn(to)) n.string = to;
    return notes;
}

} // namespace

std::optional<std::array<double, 6>> openStrings(const std::string& tuning, double referenceHz)
{
    std::istringstream words(tuning);
    std::vector<std::string> word;
    for (std::string w; words >> w;) word.push_back(w);
    const auto lower = [](std::string text) {
        for (char& c : text) c = char(std::tolower(static_cast<unsigned char>(c)));
        return text;
    };
    std::array<int, kStrings> moved{};
    if (word.size() == 2 && lower(word[1]) == "standard") {
        const auto note = semitoneOf(word[0]);
        if (!note) return std::nullopt;
        moved.fill(wayTo(0, *note, kMostDown));
    } else if (word.size() == 2 && lower(word[0]) == "drop") {
        const auto note = semitoneOf(word[1]);
        if (!note) return std::nullopt;
        moved.fill(wayTo(0, *note, kMostDown) + 2);
        moved[0] -= 2;
    } else if (word.size() == kStrings) {
        for (std::size_t s = 0; s < kStrings; ++s) {
            const auto note = semitoneOf(word[s]);
            if (!note) return std::nullopt;
            moved[s] = wayTo(s, *note, 6);
        }
    } else {
        return std::nullopt;
    }
    std::array<double, kStrings> out{};
    for (std::size_t s = 0; s < kStrings; ++s) out[s] = referenceHz * std::exp2((kUsualSemitones[s] + moved[s]) / 12.0);
    return out;
}

std::array<std::string, 6> stringNames(const std::array<double, 6>& openHz, double referenceHz)
{
    std::array<std::string, kStrings> out;
    for (std::size_t s = 0; s < kStrings; ++s) {
        out[s] = nearestNote(openHz[s], referenceHz).name;
        out[s].pop_back(); // its octave
    }
    const auto bare = out;
    for (std::size_t s = 0; s < kStrings; ++s)
        if (std::ranges::count(bare, bare[s]) > 1)
            out[s] = (s == 0 ? "low " : s + 1 == kStrings ? "high " : "middle ") + bare[s];
    return out;
}

void tellStrings(std::vector<PlayedNote>& notes, const std::array<double, 6>& openHz, int capo)
{
    Notes seen;
    std::vector<PlayedNote*> about;
    for (PlayedNote& n : notes) {
        n.string.reset();
        if (n.hz <= 0.0) continue;
        Seen one;
        const double b = std::max(n.stiffness, kLeastStiff);
        one.stiffness = std::log2(b);
        one.variance =
            squared(n.hz < kLowHz ? kMeasuredLow : kMeasured) + squared(n.stiffnessDoubt / b / std::numbers::ln2);
        for (std::size_t s = 0; s < kStrings; ++s) {
            const int fret = int(std::lround(12.0 * std::log2(n.hz / openHz[s])));
            one.fret[s] = fret >= capo && fret <= kMostFret ? fret : -1;
        }
        if (one.choices() > 0) seen.push_back(one), about.push_back(&n);
    }
    // A slacker string is stiffer: its tension goes with the square of its pitch.
    std::array<double, kStrings> usual = kUsual;
    for (std::size_t s = 0; s < kStrings; ++s)
        usual[s] -= 2.0 * std::log2(openHz[s] / (440.0 * std::exp2(kUsualSemitones[s] / 12.0)));
    Laws laws(usual);
    laws.learn({});
    for (Seen& n : seen) {
        n.string = std::size_t(std::ranges::find_if(n.fret, [](int f) { return f >= 0; }) - n.fret.begin());
        for (std::size_t s = n.string + 1; s < kStrings; ++s)
            if (n.isOn(s) && laws.away(n, s) < laws.away(n, n.string)) n.string = s;
    }
    settle(seen, laws);
    // Two strings may have been taken for each other: all of one is tried on another.
    bool isBetter = true;
    for (int round = 0; isBetter && round < kMostSwaps; ++round) {
        isBetter = false;
        for (std::size_t from = 0; from < kStrings; ++from)
            for (std::size_t to = 0; to < kStrings; ++to) {
                Notes other = moved(seen, from, to);
                Laws others(usual);
                settle(other, others);
                if (others.price() < laws.price() - 1e-6) seen = std::move(other), laws = others, isBetter = true;
            }
    }
    std::array<std::array<bool, kStrings>, kStrings> maySwap{};
    for (std::size_t from = 0; from < kStrings; ++from)
        for (std::size_t to = 0; to < kStrings; ++to) {
            Laws others(usual);
            others.learn(moved(seen, from, to));
            maySwap[from][to] = from != to && 0.5 * (others.price() - laws.price()) < kSureOdds;
        }
    for (std::size_t i = 0; i < seen.size(); ++i) {
        const Seen& n = seen[i];
        bool isSure = n.choices() == 1 || laws.fits(n);
        for (std::size_t s = 0; s < kStrings; ++s)
            if (s != n.string && n.isOn(s))
                isSure &= !maySwap[n.string][s] && 0.5 * (laws.away(n, s) - laws.away(n, n.string)) > kSureOdds;
        if (isSure) about[i]->string = int(n.string);
    }
}

} // namespace gristle::core
