#pragma once

#include "core/advice/finding.h"
#include "core/measure/hum_trace.h"
#include "core/measure/measure_file.h"

#include <filesystem>

namespace gristle::core {

/// The four recordings of a check, each of one guitar on one input. Rest and play are needed.
struct CheckFiles {
    std::filesystem::path rest;    ///< strings muted, a second or more
    std::filesystem::path turn;    ///< still muted, while the player turns; may be empty
    std::filesystem::path play;    ///< the part as it will be played
    std::filesystem::path hardest; ///< the loudest chord; may be empty, then the part counts
    std::size_t channel = 0;       ///< on which the guitar is expected
};

struct CaptureCheck {
    std::optional<double> averageDbfs;   ///< of the part: the typical VU reading
    std::optional<double> peakDbtp;      ///< of the hardest chord, or of the part where that is higher
    std::optional<double> marginDb;      ///< from that peak to full scale, before any change
    std::optional<double> gainChangeDb;  ///< one number to turn the preamp by
    std::optional<double> marginAfterDb; ///< from the peak to full scale, after the change
    bool heldByHeadroom = false;
    std::optional<double> floorDbfs; ///< AES17, of the rest step
    std::optional<double> snrDb;     ///< AES17 while playing less the floor
    std::optional<Hum> hum;          ///< of the rest step
    std::vector<HumPoint> turnTrace; ///< of the turn step, where there is hum and such a file
    std::optional<HumTurn> turn;
    bool rested = false;                ///< nothing was played in the rest step
    int bursts = 0;                     ///< short rises of the noise at rest, as from a telephone
    std::optional<double> brightnessDb; ///< power in 2 to 5 kHz over that in 0.2 to 1 kHz, of the part while it plays
    std::optional<double> fallDb;       ///< by how much the playing got softer from its first to its last third
};

struct JudgedCheck {
    CaptureCheck check;
    std::vector<Finding> findings;
};

/// Measures the four steps and says what to do. Codes: those of levelFindings, and check.not_resting, check.bursts,
/// check.fading, check.wrong_channel, check.channels_alike, check.turn.
/// @error as AudioReader; OutOfRange where a file has no such channel; Cancelled
Result<JudgedCheck> judgeCapture(const CheckFiles& files, const MeasureOptions& options, const Progress& progress = {});

/// Where a guitar has become duller by over 6 dB since an earlier check of it on the same input: a pad, an input of low
/// impedance, or a tone control. No claim without an earlier check, as a guitar may just be dull; only a note where it
/// was played otherwise. Code: check.dull. @param changed  what was different, in words, as changedSince() gives it
std::vector<Finding> dullFindings(std::optional<double> brightnessBeforeDb, const std::string& whenBefore,
                                  std::optional<double> brightnessNowDb, const std::vector<std::string>& changed = {});

} // namespace gristle::core
