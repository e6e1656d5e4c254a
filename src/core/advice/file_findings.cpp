#include "core/advice/file_findings.h"

#include <cctype>
#include <fmt/format.h>

namespace gristle::core {

std::optional<Finding> truncatedFinding(const AudioInfo& info, const std::string& subject)
{
    if (!info.isTruncated()) return std::nullopt;
    const double promised = double(info.promisedFrames) / info.sampleRateHz;
    Finding f = makeFinding(Severity::Fix, "file.truncated", subject, "The file breaks off",
                            fmt::format("Its header promises {:.2f} s and it holds {:.2f} s; what there is was taken.",
                                        promised, info.durationS()),
                            "Copy or export it again");
    f.measured = info.durationS(), f.target = promised, f.unit = "s", f.low = 0.0, f.high = promised;
    return f;
}

std::optional<Finding> notFiniteFinding(std::int64_t samples, const std::string& subject)
{
    if (samples == 0) return std::nullopt;
    Finding f = makeFinding(Severity::Stop, "file.not_finite", subject, "The rig runs away",
                            fmt::format("{} samples came out as no numbers; they are written as silence.", samples),
                            "Turn down the stage that grows without end, or take it out");
    f.measured = double(samples), f.target = 0.0, f.unit = "samples", f.low = 0.0, f.high = double(samples) * 1.25;
    return f;
}

Finding unreadableFinding(const Error& why)
{
    return makeFinding(Severity::Stop, "file.unreadable", "", "The take cannot be read", why.message + ".", why.remedy);
}

Finding missingFinding(const std::string& file, std::string why)
{
    if (!why.empty()) why[0] = char(std::toupper(static_cast<unsigned char>(why[0])));
    return makeFinding(Severity::Stop, "session.missing", "", std::move(why),
                       file + ". The rest of the session is open and usable.",
                       "Put the file back into the session's folder, then open it again");
}

Finding sumUnreadableFinding(const std::string& why)
{
    return makeFinding(Severity::Stop, "blend.unreadable", "", "The sum cannot be made", why + ".", "");
}

} // namespace gristle::core
