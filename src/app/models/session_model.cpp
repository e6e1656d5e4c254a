#include "app/models/session_model.h"

#include "app/models/preferences.h"

#include "core/advice/file_findings.h"
#include "core/advice/level_findings.h"
#include "core/audio/file_place.h"
#include "core/measure/vu.h"
#include "core/session/take_import.h"

#include <QUndoCommand>
#include <thread>

namespace gristle::app {

using namespace core;

/// One step: the documents before and after. Going back and forth writes to the log, it never erases there.
class SessionModel::EditCommand : public QUndoCommand {
public:
    EditCommand(SessionModel& model, const QString& text, SessionDocument before, SessionDocument after, int key)
        : QUndoCommand(text), model_(model), before_(std::move(before)), after_(std::move(after)), key_(key)
    {}
    void undo() override { apply(before_, "undo", "Undone: " + text()); }
    void redo() override
    {
        if (isDone_) return void(isDone_ = false); // was put in place before the command was made
        apply(after_, "redo", "Done again: " + text());
    }
    int id() const override { return key_; }
    bool mergeWith(const QUndoCommand* other) override
    {
        const auto* next = static_cast<const EditCommand*>(other);
        if (key_ < 0 || next->at_.msecsTo(at_) < -1500) return false;
        after_ = next->after_;
        at_ = next->at_;
        return true;
    }

private:
    /// Where the document cannot be noted, the stack steps back to where the document still is.
    void apply(const SessionDocument& document, const QString& what, const QString& said)
    {
        if (isBack_) return void(isBack_ = false);
        if (const auto put = model_.put(document); !put) {
            model_.fail(put.error());
            const bool wasUndone = &document == &before_;
            (wasUndone ? isDone_ : isBack_) = true;
            QMetaObject::invokeMethod(
                &model_, [&stack = model_.undo_, wasUndone] { wasUndone ? stack.redo() : stack.undo(); },
                Qt::QueuedConnection);
            return;
        }
        model_.writeLog(model_.entry(what, said));
    }
    SessionModel& model_;
    SessionDocument before_, after_;
    int key_;
    bool isDone_ = true;  ///< the next redo finds its work done
    bool isBack_ = false; ///< and the next undo
    QDateTime at_ = QDateTime::currentDateTime();
};

SessionModel::SessionModel(QObject* parent) : QObject(parent) { undo_.setUndoLimit(500); }

SessionModel::~SessionModel()
{
    blockSignals(true); // who listened may be gone
    close();
}

Outcome SessionModel::open(const QString& path)
{
    auto folder = SessionFolder::open(path.toStdString(), Access::Write);
    if (!folder) return folder.error();
    adopt(std::move(*folder));
    return Done{};
}

Outcome SessionModel::create(const QString& path, const QString& name)
{
    SessionDocument document;
    document.name = name.toStdString();
    document.songs.push_back({"Song 1", 120.0, "4/4", "E standard", {}});
    auto folder = SessionFolder::create(path.toStdString(), document, localNow());
    if (!folder) return folder.error();
    adopt(std::move(*folder));
    return Done{};
}

void SessionModel::adopt(SessionFolder folder)
{
    close();
    folder_ = std::move(folder);
    path_ = {};
    savedAt_ = QDateTime();
    missing_ = folder_->check(false);
    const QString remembered = QString::fromStdString(folder_->path().string());
    QMetaObject::invokeMethod(
        this, [remembered] { rememberSession(remembered); }, Qt::QueuedConnection);
    emit opened();
    emit pathChanged();
    for (const auto& warning : folder_->warnings()) {
        note("session", QString::fromStdString(warning));
        emit failed(QString::fromStdString(warning), {});
    }
    for (const auto& recording : unfinishedRecordings(folder_->path())) toKeep_.push_back({recording, {}, true});
    keepNext();
    measureNext();
}

void SessionModel::close()
{
    if (!folder_) return;
    emit closing();
    import_.cancel();
    keep_.waitForDone();
    for (const Recorded& r : std::exchange(toKeep_, {})) keep(r, takesOf(folder_->path(), r, {}));
    unkept_.clear(); // their recordings are made takes when the session is opened again
    measure_.cancel();
    save_.waitForDone();
    if (!saved_) {
        if (const auto saved = folder_->save(document()); !saved) fail(saved.error()); // the journal still has it
    }
    saved_ = true;
    undo_.clear();
    measured_.clear();
    shown_.clear();
    unmeasurable_.clear();
    folder_.reset();
    emit closed();
}

void SessionModel::setPath(const LayerPath& path)
{
    if (path == path_) return;
    path_ = path;
    emit pathChanged();
    measureNext();
}

const Song* SessionModel::song() const
{
    return folder_ && path_.song < document().songs.size() ? &document().songs[path_.song] : nullptr;
}

const Part* SessionModel::part() const
{
    const Song* s = song();
    return s && path_.part < s->parts.size() ? &s->parts[path_.part] : nullptr;
}

const Layer* SessionModel::layer() const { return folder_ ? findLayer(document(), path_) : nullptr; }
const Take* SessionModel::take() const { return layer() ? layer()->chosenTake() : nullptr; }

Outcome SessionModel::put(const SessionDocument& document)
{
    const bool readingsMove = document.referenceDbfs != this->document().referenceDbfs ||
                              document.targetSchool != this->document().targetSchool;
    const auto noted = folder_->put(document);
    if (!noted) return noted;
    saveSoon();
    if (readingsMove) shown_.clear();
    emit documentChanged();
    emit rigChanged();
    return Done{};
}

/// The journal has what changed; the whole goes to disk on a worker, as forcing it there takes its time.
void SessionModel::saveSoon()
{
    saved_ = false;
    emit saved();
    struct Saved {
        PendingSave pending;
        Outcome outcome;
    };
    save_.run<std::shared_ptr<Saved>>(
        tr("Saving"),
        [pending = folder_->pendingSave()](const Progress&) {
            return std::make_shared<Saved>(Saved{pending, writeSave(pending)});
        },
        [this](std::shared_ptr<Saved> done) {
            if (!done->outcome) return fail(done->outcome.error());
            folder_->settle(done->pending);
            saved_ = true;
            savedAt_ = QDateTime::currentDateTime();
            emit saved();
        });
}

bool SessionModel::edit(const QString& text, const QString& what, const std::function<void(SessionDocument&)>& change,
                        int key)
{
    if (!folder_) return false;
    SessionDocument before = document(), after = before;
    change(after);
    if (after == before) return true;
    if (const auto saved = put(after); !saved) {
        fail(saved.error());
        emit documentChanged(); // the controls go back to what is so
        emit rigChanged();
        return false;
    }
    undo_.push(new EditCommand(*this, text, std::move(before), std::move(after), key));
    writeLog(entry(what, text));
    measureNext();
    if (!unkept_.empty()) {
        toKeep_.insert(toKeep_.end(), unkept_.begin(), unkept_.end());
        unkept_.clear();
        QMetaObject::invokeMethod(this, &SessionModel::keepNext, Qt::QueuedConnection);
    }
    return true;
}

bool SessionModel::editPart(const QString& text, const QString& what, const std::function<void(Part&)>& change)
{
    return part() && edit(text, what, [&](SessionDocument& d) { change(d.songs[path_.song].parts[path_.part]); });
}

bool SessionModel::editLayer(const QString& text, const QString& what, const std::function<void(Layer&)>& change)
{
    return layer() && edit(text, what, [&](SessionDocument& d) { change(*findLayer(d, path_)); });
}

void SessionModel::note(const QString& what, const QString& text) { writeLog(entry(what, text)); }

LogEntry SessionModel::entry(const QString& what, const QString& text) const
{
    LogEntry e;
    e.time = localNow();
    e.what = what.toStdString();
    e.text = text.toStdString();
    if (song()) e.song = song()->name;
    if (part()) e.part = part()->name;
    if (layer()) e.layer = layer()->name;
    return e;
}

void SessionModel::writeLog(const LogEntry& e)
{
    if (!folder_) return;
    if (const auto done = folder_->log(e); !done) fail(done.error());
    emit logged();
}

void SessionModel::fail(const Error& error)
{
    emit failed(QString::fromStdString(error.message), QString::fromStdString(error.remedy));
}

namespace {

struct ImportResult {
    std::vector<ImportRow> rows;
    std::vector<StagedTake> takes;
    std::optional<Error> failure;
};

ImportResult bringIn(std::vector<ImportRow> rows, const std::filesystem::path& folder, const Calibration& input,
                     const Progress& progress)
{
    ImportResult out;
    for (std::size_t i = 0; i < rows.size() && !out.failure; ++i) {
        const ImportOptions options{rows[i].channel,
                                    rows[i].takesShort ? ShortFile::TakeWhatIsThere : ShortFile::Refuse};
        auto take = progress.stopped() ? Result<StagedTake>(Error{ErrorCode::Cancelled, "bringing in: stopped", ""})
                                       : stageTake(folder, input, rows[i].file.toStdString(), options, localNow());
        if (take)
            out.takes.push_back(std::move(*take));
        else
            out.failure = take.error();
        progress.at(double(i + 1) / double(rows.size()));
    }
    if (out.failure) { // a bad file leaves the session as it was
        discardTakes(out.takes);
        out.takes.clear();
    }
    out.rows = std::move(rows);
    return out;
}

Song& songNamed(SessionDocument& d, const std::string& name)
{
    for (Song& s : d.songs)
        if (s.name == name) return s;
    // The empty song that a new session starts with takes the first name that is given.
    if (d.songs.size() == 1 && d.songs[0].parts.empty()) {
        d.songs[0].name = name;
        return d.songs[0];
    }
    Song song;
    song.name = name;
    if (!d.songs.empty()) song.tempoBpm = d.songs.back().tempoBpm;
    return d.songs.emplace_back(std::move(song));
}

Layer& layerNamed(Part& part, const std::string& name)
{
    for (Layer& l : part.layers)
        if (l.name == name) return l;
    Layer layer;
    layer.name = name;
    return part.layers.emplace_back(std::move(layer));
}

} // namespace

void SessionModel::import(std::vector<ImportRow> rows)
{
    if (!folder_ || rows.empty()) return;
    const auto folder = folder_->path();
    const Calibration input = document().interface;
    import_.run<ImportResult>(
        rows.size() == 1 ? tr("Bringing in one file") : tr("Bringing in %1 files").arg(rows.size()),
        [rows = std::move(rows), folder, input](const Progress& p) { return bringIn(rows, folder, input, p); },
        [this](ImportResult result) {
            if (result.failure) return fail(*result.failure);
            const auto placed = placeTakes(folder_->path(), std::move(result.takes));
            if (!placed) return fail(placed.error());
            const std::vector<Take>& takes = *placed;
            const auto rigs = folder_->rigFiles();
            LayerPath last;
            const bool isNoted =
                edit(takes.size() == 1 ? tr("Take brought in: %1").arg(QString::fromStdString(takes[0].source))
                                       : tr("%1 takes brought in").arg(takes.size()),
                     "take", [&](SessionDocument& d) {
                         for (std::size_t i = 0; i < takes.size(); ++i) {
                             const ImportRow& row = result.rows[i];
                             if (d.sampleRateHz == 0) d.sampleRateHz = takes[i].sampleRateHz;
                             Song& song = songNamed(d, row.song.toStdString());
                             Part* part = nullptr;
                             for (Part& p : song.parts)
                                 if (p.name == row.part.toStdString()) part = &p;
                             if (!part) part = &song.parts.emplace_back(Part{row.part.toStdString(), {}});
                             Layer& layer = layerNamed(*part, row.layer.toStdString());
                             if (layer.takes.empty()) {
                                 layer.place = row.place;
                                 if (layer.rig.empty() && !rigs.empty()) layer.rig = rigs.front();
                             }
                             layer.guitar = row.guitar.toStdString();
                             layer.pickup = row.pickup.toStdString();
                             layer.takes.push_back(takes[i]);
                             layer.chosen = layer.takes.size() - 1;
                             layer.pieces.clear();
                             if (i == 0)
                                 last = {std::size_t(&song - d.songs.data()), std::size_t(part - song.parts.data()),
                                         std::size_t(&layer - part->layers.data())};
                         }
                     });
            if (!isNoted) { // the files that were brought in lie where they were
                for (const Take& take : takes) discard(folder_->path() / take.file);
                return;
            }
            path_ = last;
            emit pathChanged();
        });
}

void SessionModel::keepRecording(const std::filesystem::path& recording, std::vector<std::int64_t> gaps)
{
    toKeep_.push_back({recording, std::move(gaps), false});
    keepNext();
}

void SessionModel::keepStretches(const std::filesystem::path& recording, std::vector<std::int64_t> gaps,
                                 std::vector<TakeCut> cuts, bool isOver)
{
    toKeep_.push_back({recording, std::move(gaps), false, true, std::move(cuts), isOver});
    keepNext();
}

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

Result<std::vector<RecordedTake>> SessionModel::takesOf(const std::filesystem::path& folder, const Recorded& recorded,
                                                        const Progress& progress)
{
    return recorded.isCut ? cutAll(folder, recorded.file, recorded.cuts, recorded.gaps, progress)
                          : finishRecording(folder, recorded.file, recorded.gaps, recorded.ifBroken);
}

void SessionModel::keepNext()
{
    if (!folder_ || toKeep_.empty() || keep_.isBusy()) return;
    using Kept = std::shared_ptr<Result<std::vector<RecordedTake>>>;
    keep_.run<Kept>(
        tr("Keeping the take"),
        [folder = folder_->path(), next = toKeep_.front()](const Progress& p) {
            return std::make_shared<Result<std::vector<RecordedTake>>>(takesOf(folder, next, p));
        },
        [this](Kept kept) {
            const Recorded done = std::move(toKeep_.front());
            toKeep_.pop_front();
            keep(done, *kept);
            QMetaObject::invokeMethod(this, &SessionModel::keepNext, Qt::QueuedConnection);
        });
}

void SessionModel::keep(const Recorded& recorded, const Result<std::vector<RecordedTake>>& kept)
{
    if (!kept) {
        const bool canBeSalvaged = kept.error().code == ErrorCode::BadDocument && !recorded.isCut;
        if (canBeSalvaged)
            emit offered(QString::fromStdString(kept.error().message), tr("Bring in what is there"),
                         [this, recorded] { salvage(recorded); });
        else
            fail(kept.error());
        if (recorded.isCut) unkept_.push_back(recorded); // the recording stays until all of it is kept
        return;
    }
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
    if (!edit(text, "take", [&](SessionDocument& d) { addTakes(d, *kept); })) {
        if (recorded.isCut) // the recording still holds them
            for (const RecordedTake& t : *kept) discard(folder_->path() / t.take.file);
        unkept_.push_back(recorded);
        emit failed(
            tr("The take is recorded and could not be noted in the session: it stays in its audio folder"),
            tr("make room on the disk; it is tried again after the next change, and when the session is opened"));
        return;
    }
    const bool waits = std::ranges::any_of(unkept_, [&](const Recorded& r) { return r.file == recorded.file; }) ||
                       std::ranges::any_of(toKeep_, [&](const Recorded& r) { return r.file == recorded.file; });
    if (!recorded.isCut)
        letGo(recorded.file);
    else if (recorded.isOver && !waits)
        dropRecording(recorded.file);
    else if (recorded.isOver) // whoever waits lets it go
        for (auto* list : {&unkept_, &toKeep_})
            for (Recorded& r : *list) r.isOver = r.isOver || r.file == recorded.file;
    emit takesKept(text);
}

/// As the note says that the samples lie, though the header is broken.
void SessionModel::salvage(const Recorded& recorded)
{
    if (!folder_ || !liesInside(recorded.file, folder_->path())) return; // another session is open by now
    Recorded again = recorded;
    again.ifBroken = BrokenHeader::Salvage;
    toKeep_.push_back(std::move(again));
    keepNext();
}

MeasureOptions SessionModel::measureOptions() const
{
    MeasureOptions options;
    options.referenceDbfs = document().referenceDbfs;
    options.target = document().targetSchool == "peak" ? TargetSchool::Peak : TargetSchool::Average;
    options.keepPicture = true;
    return options;
}

std::string SessionModel::measureKey(const Take& take) const
{
    return take.channel > 0 ? take.file + " channel " + std::to_string(take.channel) : take.file;
}

Measured SessionModel::measurement(const Take& take) const
{
    if (const auto shown = shown_.find(measureKey(take)); shown != shown_.end()) return shown->second;
    const auto at = measured_.find(measureKey(take));
    if (at == measured_.end()) return nullptr;
    // The reference and the school only move readings that were taken: no need to measure again.
    const MeasureOptions options = measureOptions();
    const FileMeasurement& known = *at->second;
    auto out = std::make_shared<FileMeasurement>(known);
    for (auto& c : out->channels) {
        if (c.vuTypical) *c.vuTypical -= options.referenceDbfs;
        if (c.vuMax) *c.vuMax -= options.referenceDbfs;
    }
    out->advice = adviseGain(out->channels, options.target);
    shown_[measureKey(take)] = out;
    return out;
}

std::optional<double> SessionModel::averageDbfs(const Take& take) const
{
    const auto m = measurement(take);
    std::optional<double> out;
    if (m)
        for (const auto& c : m->channels)
            if (c.vuTypical) out = std::max(out.value_or(-1e9), *c.vuTypical + document().referenceDbfs);
    return out;
}

std::optional<DiStamp> SessionModel::diStamp(const Take& take) const
{
    const auto average = averageDbfs(take);
    if (!average) return std::nullopt;
    const auto m = measurement(take);
    return DiStamp{*average, take.input, m->channels.size() == 1 ? m->channels[0].octavesDb : std::nullopt};
}

std::optional<double> SessionModel::loudDbfs(const Take& take) const
{
    const auto m = measurement(take);
    std::optional<double> out;
    if (m)
        for (const auto& c : m->channels) {
            std::vector<float> played;
            for (std::size_t i = 0; i < std::min(c.vuTrace.size(), c.noise.playing.size()); ++i)
                if (c.noise.playing[i]) played.push_back(c.vuTrace[i]);
            if (const auto loud = loudReadingDbfs(std::move(played))) out = std::max(out.value_or(-1e9), *loud);
        }
    return out;
}

std::vector<Finding> SessionModel::levelFindings(const Take& take) const
{
    if (const auto bad = unmeasurable_.find(measureKey(take)); bad != unmeasurable_.end())
        return {unreadableFinding(bad->second)};
    const auto m = measurement(take);
    if (!m) return {};
    auto out = core::levelFindings(*m, measureOptions());
    const auto gaps = gapFindings(take.gaps, take.sampleRateHz);
    out.insert(out.end(), gaps.begin(), gaps.end());
    rank(out);
    return out;
}

/// Measures the take in hand first, then the others of its song, then the rest.
void SessionModel::measureNext()
{
    if (!folder_) return;
    const auto wants = [&](const LayerPath& p) -> const Take* {
        const Layer* l = findLayer(document(), p);
        const Take* t = l ? l->chosenTake() : nullptr;
        return t && !measured_.contains(measureKey(*t)) && !unmeasurable_.contains(measureKey(*t)) ? t : nullptr;
    };
    const Take* next = wants(path_);
    for (const bool sameSong : {true, false})
        for (const LayerPath& p : allLayers(document()))
            if (!next && (p.song == path_.song) == sameSong) next = wants(p);
    if (!next) return;
    const std::string key = measureKey(*next);
    if (measure_.isBusy() && measuring_ == key) return; // under way already: an edit must not start it anew
    measuring_ = key;
    MeasureOptions options = measureOptions();
    options.channel = std::size_t(next->channel);
    options.referenceDbfs = 0.0; // kept as dBFS; measurement() moves the readings
    measure_.run<std::shared_ptr<Result<FileMeasurement>>>(
        tr("Measuring %1").arg(QString::fromStdString(next->source)),
        [file = folder_->path() / next->file, options](const Progress& p) {
            return std::make_shared<Result<FileMeasurement>>(measureFile(file, options, p));
        },
        [this, key](std::shared_ptr<Result<FileMeasurement>> result) {
            if (*result)
                measured_[key] = std::make_shared<const FileMeasurement>(std::move(**result));
            else if (result->error().code != ErrorCode::Cancelled)
                unmeasurable_.insert_or_assign(key, result->error());
            emit measured();
            measureNext();
        });
}

RigDocument SessionModel::rig(std::vector<std::string>* warnings) const
{
    RigDocument none;
    none.name = "dry";
    const Layer* l = layer();
    if (!l || l->rig.empty()) return none;
    std::vector<std::string> own;
    auto loaded = folder_->loadRig(l->rig, Unknown::Bypass, warnings ? *warnings : own);
    if (loaded) return std::move(*loaded);
    if (warnings) warnings->push_back(loaded.error().line());
    return none;
}

void SessionModel::setRig(RigDocument rig, const QString& text, int key)
{
    const Layer* l = layer();
    if (!l) return;
    if (take()) rig.di = diStamp(*take());
    const QDateTime now = QDateTime::currentDateTime();
    const bool merges = key >= 0 && key == lastRig_.key && l->rig == lastRig_.file && lastRig_.at.msecsTo(now) < 1500;
    if (merges) { // the same control is still moving: the version that it made takes the new value
        const auto wrote = folder_->replaceRig(l->rig, rig);
        if (!wrote) return fail(wrote.error());
        lastRig_.at = now;
        emit rigChanged();
        return;
    }
    if (rig.name == "dry") rig.name = "rig of " + l->name;
    const auto file = folder_->saveRig(rig);
    if (!file) return fail(file.error());
    lastRig_ = {key, *file, now};
    editLayer(text, "rig", [&](Layer& layer) { layer.rig = *file; });
}

void SessionModel::chooseRig(const std::string& file)
{
    editLayer(file.empty() ? tr("Layer set dry") : tr("Rig chosen: %1").arg(QString::fromStdString(file)), "rig",
              [&](Layer& layer) { layer.rig = file; });
}

void SessionModel::giveRigToPart()
{
    if (!layer()) return;
    const std::string file = layer()->rig;
    editPart(tr("All layers of the part play through %1").arg(QString::fromStdString(file)), "rig", [&](Part& part) {
        for (Layer& l : part.layers) l.rig = file;
    });
}

DoubleStyle SessionModel::doubleStyle() const
{
    return core::doubleStyle(isOpen() ? document().doubleStyles : usualDoubleStyles(),
                             part() ? part()->doubleStyle : std::string());
}

double SessionModel::beatSeconds() const
{
    const std::string meter = song() ? song()->meter : "4/4";
    return barSeconds() / quartersOfMeter(meter) * quartersOfBeat(meter);
}

BarGrid SessionModel::grid() const { return song() ? song()->grid() : BarGrid(120.0, "4/4"); }

void SessionModel::setLoop(double fromBar, double toBar)
{
    loopFrom_ = std::max(1.0, fromBar);
    loopTo_ = std::max(loopFrom_ + 0.25, toBar);
    emit loopChanged();
}

} // namespace gristle::app
