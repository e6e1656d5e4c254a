#include "core/actions/import_files.h"

namespace gristle::core {

Result<std::vector<StagedTake>> stageFiles(const std::filesystem::path& folder, const Calibration& input,
                                           const std::vector<FileToImport>& files, const std::string& now,
                                           const Progress& progress)
{
    std::vector<StagedTake> out;
    for (const FileToImport& f : files) {
        auto take = progress.stopped() ? Result<StagedTake>(Error{ErrorCode::Cancelled, "bringing in: stopped", ""})
                                       : stageTake(folder, input, f.file, f.options, now);
        if (!take) { // a bad file leaves the session as it was
            discardTakes(out);
            return take.error();
        }
        out.push_back(std::move(*take));
        progress.at(double(out.size()) / double(files.size()));
    }
    return out;
}

} // namespace gristle::core
