#pragma once

#include "app/models/bar_loop.h"
#include "app/models/importer.h"
#include "app/models/measurements.h"
#include "app/models/rig_store.h"
#include "app/models/take_keeper.h"
#include "core/mix/render/render_cache.h"
#include "core/mix/render/session_mix.h"
#include "core/session/document_change.h"
#include "core/session/recall_sheet.h"
#include "core/session/song_edit.h"

#include <QDateTime>
#include <QObject>
#include <QUndoStack>
#include <optional>

namespace gristle::app {

/// The open session as the window sees it: the document with undo and saving (the journal at once, the whole in the
/// background), and the layer in hand; what belongs to it lies in models of its own. GUI thread only.
class SessionModel : public QObject {
    Q_OBJECT
public:
    explicit SessionModel(QObject* parent = nullptr);
    ~SessionModel() override; ///< saves what is not saved yet

    bool isOpen() const { return folder_.has_value(); }
    core::Outcome open(const QString& path);
    core::Outcome create(const QString& path, const QString& name);
    void close();
    const core::SessionFolder& folder() const { return *folder_; }
    const core::SessionDocument& document() const { return folder_->document(); }
    QDateTime savedAt() const { return savedAt_; }
    bool isSaved() const { return saved_; } ///< in session.json; before that it is in the edit journal
    const std::vector<core::Missing>& missing() const { return missing_; }

    /// The layer in hand.
    core::LayerPath path() const { return path_; }
    void setPath(const core::LayerPath& path);
    const core::Song* song() const;
    const core::Part* part() const;
    const core::Layer* layer() const;
    const core::Take* take() const;

    /// Changes the document as one undoable step, put into the journal at once and noted in the log. The whole document
    /// follows in the background. @return false where it could not be noted: then nothing changed, and failed() told
    /// why
    bool edit(const QString& text, const QString& what, const std::function<void(core::SessionDocument&)>& change,
              int mergeKey = -1);
    /// The same for the part or the layer in hand; where there is none nothing is done, and that is said by false.
    bool editPart(const QString& text, const QString& what, const std::function<void(core::Part&)>& change);
    bool editLayer(const QString& text, const QString& what, const std::function<void(core::Layer&)>& change);
    /// Songs, parts and layers made, moved, removed (core/session/song_edit): `change` gives what is in hand
    /// afterwards.
    bool editSteps(const QString& text,
                   const std::function<core::Result<core::LayerPath>(core::SessionDocument&)>& change);
    QUndoStack& undoStack() { return undo_; }
    void note(const QString& what, const QString& text); ///< to the log, about the layer in hand

    TaskRunner& saveTask() { return save_; }

    /// What was rendered of the session, for all who want to hear or measure it.
    const std::shared_ptr<core::RenderCache>& renders() const { return renders_; }

    // What belongs to it, by subject.
    Measurements& measurements() { return measurements_; }
    const Measurements& measurements() const { return measurements_; }
    Importer& importer() { return importer_; }
    TakeKeeper& keeper() { return keeper_; }
    RigStore& rigs() { return rigs_; }
    const RigStore& rigs() const { return rigs_; }
    BarLoop& loop() { return loop_; }
    const BarLoop& loop() const { return loop_; }

    core::BarGrid grid() const;            ///< of the song in hand
    core::DoubleStyle doubleStyle() const; ///< of the part in hand

    void fail(const core::Error& error); ///< tells it

signals:
    void opened();
    void closing(); ///< still all there
    void closed();
    void documentChanged(); ///< in whatever
    void pathChanged();
    void takesChanged();   ///< what is heard of the performances, and their bars
    void placingChanged(); ///< place and gain of layers, and what the centre loses
    void rigChanged();     ///< which rig a layer plays through, or what such a rig does
    void measured();       ///< another take
    void loopChanged();
    void logged();
    void saved();
    void takesKept(const QString& text);
    void failed(const QString& message, const QString& remedy);
    /// Something that was found and is not as it should be; `remedy` is what `act` does, where there is something.
    void offered(const QString& message, const QString& remedy, const std::function<void()>& act);

private:
    class EditCommand;
    void adopt(core::SessionFolder folder);
    core::Outcome put(const core::SessionDocument& document);
    void saveSoon();
    void writeLog(const core::LogEntry& entry);
    core::LogEntry entry(const QString& what, const QString& text) const;

    friend class RigStore; // writes into the folder
    std::optional<core::SessionFolder> folder_;
    std::shared_ptr<core::RenderCache> renders_ = std::make_shared<core::RenderCache>();
    core::LayerPath path_;
    QUndoStack undo_;
    QDateTime savedAt_;
    bool saved_ = true;
    std::vector<core::Missing> missing_;
    TaskRunner save_;
    Measurements measurements_{*this};
    Importer importer_{*this};
    TakeKeeper keeper_{*this};
    RigStore rigs_{*this};
    BarLoop loop_{*this};
};

} // namespace gristle::app
