#pragma once

#include "core/advice/finding.h"
#include "core/timing/double_take.h"
#include "core/timing/take_measure.h"

namespace gristle::core {

/// What is judged of a bar of a take. Times in ms, late above 0.
struct BarVerdict {
    int bar = 1;
    int notes = 0;
    std::optional<double> clickMs;   ///< mean of its notes against the click; none where fewer than two tell
    std::optional<double> earlierMs; ///< against the earlier layer, likewise
    std::optional<double> strayMs;   ///< of these the second, else the first, less the take's median
    double spreadMs = 0.0;           ///< of what tells its timing
    bool isStray = false;            ///< further off than is heard, and than its own spread explains
    std::optional<double> cents;     ///< median of the notes that sound alone
    std::optional<double> levelDb;   ///< of its notes, against the take's
    std::optional<double> noiseDb;   ///< the loudest burst between notes, against a usual note
    int clipped = 0;                 ///< stretches of 10 ms
    int missed = 0, added = 0;
    double cost = 0.0;  ///< what is wrong with it, 1 for what is just heard; see barCost()
    std::string word;   ///< the worst of it: "14 ms late"; empty where it is good
    std::string sign;   ///< the same in one short word: "14 late"
    bool isBad = false; ///< to be played again
};

/// How a string is tuned, by the notes that are told to be on it.
struct StringTuning {
    std::string name;
    double cents = 0.0; ///< median, against the song's A4
    double doubt = 0.0; ///< standard error of that, cents
    double apart = 0.0; ///< from the median of the other strings' notes; 0 where there are too few
    int notes = 0;
    bool isOff = false; ///< further apart than is heard, and than the doubt explains
};

/// What is judged of a whole take.
struct TakeJudgement {
    std::vector<BarVerdict> bars; ///< those that it was played for
    std::string sentence;
    double cost = 0.0; ///< mean of the bars'
    std::optional<double> timingSdMs, timingMedianMs, cents;
    std::vector<StringTuning> strings; ///< those with three notes
    std::vector<Finding> findings;
};

constexpr double kNoiseBetweenDb = -30.0; ///< against a usual note: from there a burst between notes counts

/// Where the parts of a judgement come from, and its thresholds.
struct JudgeOptions {
    std::string subject;
    const DoubleTake* earlier =
        nullptr; ///< the earlier layer as first, the take as second, both from the song's beginning
    MissedNotes missed{};
    double lateMs = 9.0;       ///< of a bar's mean against the take's median: heard as dragging
    double wholeLateMs = 12.0; ///< of that median: worth moving the whole
    double centsOff = 8.0;     ///< heard against a tuner's truth
    double stringOff = 6.0;    ///< cents from the other strings
    double levelOffDb = 4.0;
};

/// The price of a bar, summed: timing (how far it strays and its spread, squared, against 12 ms), tuning (squared,
/// against 8 cents), each to 4; a clipped bar 6; a missed or added note 2 each, to 6; level past 2 dB (squared, by 3
/// dB) to 2; noise over -30 dB 0.5. Weights of our own, told in docs/takes.md.
double barCost(const BarVerdict& bar);
TakeJudgement judgeTake(const TakeMeasure& take, const BarGrid& grid, const JudgeOptions& options);

/// The best of several takes, over the bars that both of two were played for.
struct BestTake {
    std::size_t index = 0;
    std::optional<std::size_t> next; ///< the second best
    double sure = 1.0;               ///< that it is better than the next, from how the bars differ
    std::string reason;              ///< "its timing: spread 4.1 ms, take 2 has 9.8"
};
/// Whole takes before those of some bars. None where there is no take.
std::optional<BestTake> bestTake(const std::vector<TakeJudgement>& takes);

} // namespace gristle::core
