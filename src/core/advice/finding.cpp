#include "core/advice/finding.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

Finding makeFinding(Severity severity, const char* code, std::string subject, std::string title, std::string message,
                    std::string remedy)
{
    Finding f;
    f.severity = severity;
    f.code = code;
    f.subject = std::move(subject);
    f.title = std::move(title);
    f.message = std::move(message);
    f.remedy = std::move(remedy);
    return f;
}

const char* severityText(Severity severity) noexcept
{
    return severity == Severity::Stop ? "stop" : severity == Severity::Fix ? "fix" : "note";
}

void rank(std::vector<Finding>& findings) { std::ranges::stable_sort(findings, {}, &Finding::severity); }

int countOf(const std::vector<Finding>& findings, Severity severity)
{
    return static_cast<int>(std::ranges::count(findings, severity, &Finding::severity));
}

std::string figureText(double value, int digits)
{
    const double step = std::pow(10.0, -digits);
    const double rounded = std::round(value / step) * step;
    const std::string size = fmt::format("{:.{}f}", std::abs(rounded), digits);
    return (rounded < -0.5 * step ? "\u2212" : "") + size;
}

std::string signedText(double value, int digits)
{
    const std::string text = figureText(value, digits);
    return value > 0.0 && text.find_first_not_of("0.") != std::string::npos ? "+" + text : text;
}

} // namespace gristle::core
