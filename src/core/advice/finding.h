#pragma once

#include <optional>
#include <string>
#include <vector>

namespace gristle::core {

enum class Severity { Stop, Fix, Note };

/// A judgement: measured against target, the reason, and what mends it.
struct Finding {
    Severity severity = Severity::Note;
    std::string code;    ///< stable dotted name
    std::string subject; ///< a file, layer or stage
    std::string title;   ///< short, verb first, for the window
    std::string message; ///< one or two sentences: what to turn, by how much, and why
    std::optional<double> measured;
    std::optional<double> target;
    std::string unit;                            ///< "dBFS", "dB" ...
    std::string remedy;                          ///< what to do; empty where there is nothing to do
    double low = 0.0, high = 0.0;                ///< ends of the bar that shows measured against target
    std::optional<double> targetLow, targetHigh; ///< the target as a range, where it is one
};

/// One without a bar.
Finding makeFinding(Severity severity, const char* code, std::string subject, std::string title, std::string message,
                    std::string remedy);

const char* severityText(Severity severity) noexcept;
/// Stops first, then fixes, then notes; within these as they came.
void rank(std::vector<Finding>& findings);
int countOf(const std::vector<Finding>& findings, Severity severity);

/// A number with a sign, a real minus and `digits` decimals: "+5.5", "−17.8".
std::string signedText(double value, int digits = 1);
/// The same without a plus.
std::string figureText(double value, int digits = 1);

} // namespace gristle::core
