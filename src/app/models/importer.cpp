#include "app/models/importer.h"

#include "app/models/session_model.h"
#include "core/actions/import_files.h"
#include "core/audio/file_place.h"

namespace gristle::app {

using namespace core;

namespace {

FileToImport fileOf(const ImportRow& row)
{
    const ImportSides sides = row.channel == kBothChannels     ? ImportSides::Both
                              : row.channel == kMeanOfChannels ? ImportSides::Mean
                                                               : ImportSides::One;
    FileToImport out{row.file.toStdString(),
                     {sides, std::max(0, row.channel), row.takesShort ? ShortFile::TakeWhatIsThere : ShortFile::Refuse},
                     {row.song.toStdString(), row.part.toStdString(), row.layer.toStdString(), row.guitar.toStdString(),
                      row.pickup.toStdString(), row.place}};
    out.into.role = row.role;
    out.into.source = row.source;
    out.at = row.landsByStamp ? LandsAt::Stamp : LandsAt::Beginning;
    return out;
}

} // namespace

void Importer::bringIn(const std::vector<ImportRow>& rows)
{
    if (!session_.isOpen() || rows.empty()) return;
    std::vector<FileToImport> files;
    for (const ImportRow& row : rows) files.push_back(fileOf(row));
    if (const auto may = checkImport(session_.document(), files); !may) return session_.fail(may.error());
    if (const auto landed = landFiles(session_.document(), files); !landed) return session_.fail(landed.error());
    using Staged = std::shared_ptr<Result<std::vector<StagedTake>>>;
    task_.run<Staged>(
        rows.size() == 1 ? SessionModel::tr("Bringing in one file")
                         : SessionModel::tr("Bringing in %1 files").arg(rows.size()),
        [files, folder = session_.folder().path(), input = session_.document().interface](const Progress& p) {
            return std::make_shared<Result<std::vector<StagedTake>>>(stageFiles(folder, input, files, localNow(), p));
        },
        [this, files](Staged staged) {
            if (!*staged) return session_.fail(staged->error());
            const auto placed = placeTakes(session_.folder().path(), std::move(**staged));
            if (!placed) return session_.fail(placed.error());
            const std::vector<Take>& takes = *placed;
            const auto rigs = session_.folder().rigFiles();
            LayerPath first;
            const QString text =
                takes.size() == 1 ? SessionModel::tr("Take brought in: %1").arg(QString::fromStdString(takes[0].source))
                                  : SessionModel::tr("%1 takes brought in").arg(takes.size());
            const bool isNoted = session_.edit(text, "take", [&](SessionDocument& d) {
                for (std::size_t i = 0; i < takes.size(); ++i) {
                    const LayerPath at = addTake(d, files[i].into, takes[i], rigs.empty() ? "" : rigs.front());
                    if (i == 0) first = at;
                }
            });
            if (isNoted) return session_.setPath(first);
            for (const Take& take : takes)
                discard(session_.folder().path() / take.file); // the files lie where they were
        });
}

} // namespace gristle::app
