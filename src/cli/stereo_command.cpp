#include "cli/report.h"
#include "core/advice/stereo_findings.h"

#include <filesystem>
#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

Result<Answer> stereo(const std::string& file, const Surroundings& s)
{
    const auto r = measureStereo(file, s.progress());
    if (!r) return r.error();
    const auto findings = stereoFindings(*r, std::filesystem::path(file).filename().string());
    Answer a;
    a.json = toJson(*r);
    a.json["findings"] = toJson(findings);
    a.text = fmt::format("{}: correlation {}, balance {} LU, width {}, mono loses {} dB\n", file,
                         shown(r->correlation, 2), shown(r->balanceDb), shown(r->width, 2), shown(r->monoLossDb)) +
             findingLines(findings);
    return a;
}

} // namespace

void addStereo(CLI::App& app, Job& job)
{
    auto file = std::make_shared<std::string>();
    CLI::App* command = app.add_subcommand("stereo", "Correlation, balance, width and what mono loses");
    command->add_option("FILE", *file, "A stereo file")->required();
    command->callback([file, &job] { job = [file](const Surroundings& s) { return stereo(*file, s); }; });
}

} // namespace gristle::cli
