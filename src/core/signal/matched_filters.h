#pragma once

#include "core/signal/biquad.h"

namespace gristle::core {

/// Sections that keep to their analogue prototype up to the top of the band, so that an equaliser sounds alike at each
/// rate: where the bilinear transform of biquad.h squeezes everything below half the rate, these follow the prototype's
/// gain within 0.2 dB to 18 kHz at 44.1 kHz, 0.12 dB at 48 kHz and 0.01 dB at 96 kHz. Control thread: each costs
/// some 0.1 ms. High passes and low shelves end far below the top, where both are the same.
/// Source of the form: Vicanek 2016, Matched second order digital filters: the squared gain of a section is
/// (B0 p + B1 q + 4 B2 p q) / (A0 p + A1 q + 4 A2 p q), p = cos^2(w / 2), q = sin^2(w / 2). Its numbers by Sanathanan
/// and Koerner 1963, Transfer function synthesis as a ratio of two complex polynomials: least squares of the ratio of
/// both, weighted by the denominator before.
BiquadCoefficients matchedLowPass(double cutoffHz, double q, double rateHz);
BiquadCoefficients matchedLowPass(double cutoffHz, double rateHz); ///< of the first order
BiquadCoefficients matchedBell(double hz, double db, double q, double rateHz);
BiquadCoefficients matchedHighShelf(double hz, double db, double rateHz); ///< of slope 1, half of `db` at `hz`

} // namespace gristle::core
