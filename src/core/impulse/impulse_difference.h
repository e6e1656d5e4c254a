#pragma once

#include "core/impulse/impulse_info.h"

#include <string>

namespace gristle::core {

/// A response against another one as an equaliser's curve, whatever their gain: its median from 80 Hz to 8 kHz, even
/// over the logarithm of frequency, is 0. Points of both at the same frequencies; as far as both reach.
std::vector<ResponsePoint> differenceOf(const std::vector<ResponsePoint>& response,
                                        const std::vector<ResponsePoint>& zero);

/// A stretch of a curve that is over or under zero.
struct DifferenceBand {
    double fromHz, toHz, db; ///< its mean
};
/// Stretches of at least a third of an octave, 60 Hz to 12 kHz, whose curve stays over 1.5 dB; the largest first, by
/// decibels times octaves; four at most.
std::vector<DifferenceBand> bandsOf(const std::vector<ResponsePoint>& difference);

/// "3 dB fuller at 200 to 400 Hz, 5 dB less above 6 kHz"; "alike within 1.5 dB".
/// @param most  stretches that are told
std::string differenceWords(const std::vector<ResponsePoint>& difference, std::size_t most = 4);

} // namespace gristle::core
