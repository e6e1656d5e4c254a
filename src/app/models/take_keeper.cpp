#include "app/models/take_keeper.h"

#include "app/models/session_model.h"
#include "core/audio/file_place.h"

#include <algorithm>
#include <thread>

namespace gristle::app {

using namespace core;

namespace {

/// Waits for the disk where the recording is still under way.
Result<std::vector<RecordedTake>> cutAll(const std::filesystem::path& folder, const std::filesystem::path& recording,
                                         const std::vector<TakeCut>& cuts, const std::vector<std::int64_t>& gaps,
                                         const Progress& progress)
{
    constexpr int kTries = 100;
    std::vector<RecordedTake> out;
    for (const TakeCut& cut : cuts) {
        auto takes = cutTakes(folder, recording, cut, gaps);
        for (int i = 0; i < kTries && !takes && takes.error().code == ErrorCode::Empty && !progress.stopped(); ++i) {
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
            takes = cutTakes(folder, recording, cut, gaps);
        }
        if (!takes) return takes;
        out.insert(out.end(), takes->begin(), takes->end());
    }
    return out;
}

} // namespace

void TakeKeeper::keep(const std::filesystem::path& recording, std::vector<std::int64_t> gaps)
{
    toKeep_.push_back({recording, std::move(gaps), false});
    next();
}

void TakeKeeper::keepStretches(const std::filesystem::path& recording, std::vector<std::int64_t> gaps,
                               std::vector<TakeCut> cuts, bool isOver)
{
    toKeep_.push_back({recording, std::move(gaps), false, true, std::move(cuts), isOver});
    next();
}

void TakeKeeper::recover(const std::vector<std::filesystem::path>& recordings)
{
    for (const auto& recording : recordings) toKeep_.push_back({recording, {}, true});
    next();
}

void TakeKeeper::tryAgain()
{
    if (unkept_.empty()) return;
    toKeep_.insert(toKeep_.end(), unkept_.begin(), unkept_.end());
    unkept_.clear();
    QMetaObject::invokeMethod(this, &TakeKeeper::next, Qt::QueuedConnection);
}

void TakeKeeper::finish()
{
    task_.waitForDone();
    for (const Recorded& r : std::exchange(toKeep_, {})) note(r, takesOf(session_.folder().path(), r, {}));
    toKeep_.clear(), unkept_.clear(); // their recordings are made takes when the session is opened again
}

Result<std::vector<RecordedTake>> TakeKeeper::takesOf(const std::filesystem::path& folder, const Recorded& recorded,
                                                      const Progress& progress)
{
    return recorded.isCut ? cutAll(folder, recorded.file, recorded.cuts, recorded.gaps, progress)
                          : finishRecording(folder, recorded.file, recorded.gaps, recorded.ifBroken);
}

void TakeKeeper::next()
{
    if (!session_.isOpen() || toKeep_.empty() || task_.isBusy()) return;
    using Kept = std::shared_ptr<Result<std::vector<RecordedTake>>>;
    task_.run<Kept>(
        tr("Keeping the take"),
        [folder = session_.folder().path(), first = toKeep_.front()](const Progress& p) {
            return std::make_shared<Result<std::vector<RecordedTake>>>(takesOf(folder, first, p));
        },
        [this](Kept kept) {
            const Recorded done = std::move(toKeep_.front());
            toKeep_.pop_front();
            note(done, *kept);
            QMetaObject::invokeMethod(this, &TakeKeeper::next, Qt::QueuedConnection);
        });
}

void TakeKeeper::note(const Recorded& recorded, const Result<std::vector<RecordedTake>>& kept)
{
    if (!kept) return tellTrouble(recorded, kept.error());
    if (kept->empty()) {
        if (recorded.isCut && recorded.isOver) dropRecording(recorded.file);
        return;
    }
    const RecordedTake& first = kept->front();
    const QString where = QString::fromStdString(first.target.part + " \u203a " + first.target.layer);
    const QString length = QString::number(double(first.take.frames) / first.take.sampleRateHz, 'f', 1);
    const QString text = (recorded.recovered ? tr("Take recovered for %1, %2 s: Gristle ended while it was recorded")
                                             : tr("Take recorded for %1, %2 s"))
                             .arg(where, length);
    if (!session_.edit(text, "take", [&](SessionDocument& d) { addTakes(d, *kept); })) {
        if (recorded.isCut) // the recording still holds them
            for (const RecordedTake& t : *kept) discard(session_.folder().path() / t.take.file);
        unkept_.push_back(recorded);
        emit session_.failed(
            tr("The take is recorded and could not be noted in the session: it stays in its audio folder"),
            tr("make room on the disk; it is tried again after the next change, and when the session is opened"));
        return;
    }
    letGoOf(recorded);
    emit session_.takesKept(text);
}

void TakeKeeper::tellTrouble(const Recorded& recorded, const Error& error)
{
    if (error.code == ErrorCode::BadDocument && !recorded.isCut)
        emit session_.offered(QString::fromStdString(error.message), tr("Bring in what is there"),
                              [this, recorded] { salvage(recorded); });
    else
        session_.fail(error);
    if (recorded.isCut) unkept_.push_back(recorded); // the recording stays until all of it is kept
}

/// Of the recording itself, once its takes are noted and nobody waits for more of it.
void TakeKeeper::letGoOf(const Recorded& recorded)
{
    if (!recorded.isCut) return letGo(recorded.file);
    if (!recorded.isOver) return;
    bool waits = false;
    for (auto* list : {&unkept_, &toKeep_})
        for (Recorded& r : *list)
            if (r.file == recorded.file) waits = r.isOver = true; // whoever waits lets it go
    if (!waits) dropRecording(recorded.file);
}

/// As the note says that the samples lie, though the header is broken.
void TakeKeeper::salvage(const Recorded& recorded)
{
    if (!session_.isOpen() || !liesInside(recorded.file, session_.folder().path())) return; // another one is open
    Recorded again = recorded;
    again.ifBroken = BrokenHeader::Salvage;
    toKeep_.push_back(std::move(again));
    next();
}

} // namespace gristle::app
