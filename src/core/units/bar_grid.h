#pragma once

#include <string>
#include <vector>

namespace gristle::core {

/// From a place on, another tempo.
struct TempoChange {
    double quarter = 0.0;  ///< quarter notes from the song's beginning
    double bpm = 120.0;    ///< quarter notes a minute
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const TempoChange&) const = default;
};

/// From a bar on, another meter.
struct MeterChange {
    int bar = 1;
    std::string meter = "4/4";
    std::string unknown{}; ///< fields of a newer version, a JSON object as text; kept as they came
    bool operator==(const MeterChange&) const = default;
};

/// Quarter notes in a bar of a meter: 6/8 has 3; 4 where it cannot be read.
double quartersOfMeter(const std::string& meter);
/// Quarter notes from one click to the next: dotted quarters in 6/8, 9/8 and 12/8, eighths in other meters of eighths.
double quartersOfBeat(const std::string& meter);

/// Where the bars and beats of a song are, in seconds from its beginning. Bars count from 1; what lies before the
/// beginning goes on with the first tempo and meter. Cost: a search in the list of changes.
class BarGrid {
public:
    /// Changes may come in any order; of several at one place the last counts.
    BarGrid(double bpm, const std::string& meter, const std::vector<TempoChange>& tempos = {},
            const std::vector<MeterChange>& meters = {});

    double secondsOfBar(double bar) const; ///< a part of a bar is that part of its quarter notes
    double barAt(double seconds) const;    ///< the inverse
    double barSeconds(double bar) const { return secondsOfBar(bar + 1.0) - secondsOfBar(bar); }
    double secondsOfQuarter(double quarter) const;
    double quarterAt(double seconds) const;
    double quarterOfBar(double bar) const;
    double bpmAt(double seconds) const;

    struct Beat {
        double timeS = 0.0;
        bool isFirst = false; ///< of its bar
    };
    /// Those from `fromS` on, before `toS`.
    std::vector<Beat> beats(double fromS, double toS) const;

private:
    struct Tempo {
        double quarter, seconds, bpm;
    };
    struct Meter {
        double bar, quarter, quarters, beat;
    };
    const Meter& meterOfBar(double bar) const;
    const Meter& meterOfQuarter(double quarter) const;

    std::vector<Tempo> tempos_; ///< in order, at least one
    std::vector<Meter> meters_;
};

} // namespace gristle::core
