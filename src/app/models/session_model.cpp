#include "app/models/session_model.h"

#include "app/models/preferences.h"
#include "core/session/song_edit.h"

#include <QUndoCommand>

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
    keeper_.recover(unfinishedRecordings(folder_->path()));
    measurements_.next();
}

void SessionModel::close()
{
    if (!folder_) return;
    emit closing();
    importer_.task().cancel();
    keeper_.finish();
    measurements_.forget();
    save_.waitForDone();
    if (!saved_) {
        if (const auto saved = folder_->save(document()); !saved) fail(saved.error()); // the journal still has it
    }
    saved_ = true;
    undo_.clear();
    renders_->clear();
    folder_.reset();
    emit closed();
}

void SessionModel::setPath(const LayerPath& path)
{
    if (path == path_) return;
    path_ = path;
    emit pathChanged();
    measurements_.next();
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
    const DocumentChange change = changeOf(this->document(), document);
    const LayerPath path = change.names ? pathAfter(this->document(), document, path_) : path_;
    const auto noted = folder_->put(document);
    if (!noted) return noted;
    saveSoon();
    path_ = path;
    emit documentChanged();
    if (change.names) emit pathChanged();
    if (change.bars || change.takes) emit takesChanged();
    if (change.placing) emit placingChanged();
    if (change.rigs) emit rigChanged();
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
        emit placingChanged();
        emit rigChanged();
        return false;
    }
    undo_.push(new EditCommand(*this, text, std::move(before), std::move(after), key));
    writeLog(entry(what, text));
    measurements_.next();
    keeper_.tryAgain();
    return true;
}

bool SessionModel::editSteps(const QString& text, const std::function<Result<LayerPath>(SessionDocument&)>& change)
{
    if (!folder_) return false;
    SessionDocument after = document();
    const auto at = change(after);
    if (!at) {
        fail(at.error());
        return false;
    }
    if (!edit(text, "song", [&](SessionDocument& d) { d = std::move(after); })) return false;
    setPath(*at);
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

DoubleStyle SessionModel::doubleStyle() const
{
    return core::doubleStyle(isOpen() ? document().doubleStyles : usualDoubleStyles(),
                             part() ? part()->doubleStyle : std::string());
}

BarGrid SessionModel::grid() const { return song() ? song()->grid() : BarGrid(120.0, "4/4"); }

} // namespace gristle::app
