#pragma once

#include "app/tasks/task_runner.h"
#include "core/advice/finding.h"
#include "core/measure/measure_file.h"
#include "core/mix/session_mix.h"
#include "core/session/recall_sheet.h"
#include "core/session/recorded_take.h"

#include <QDateTime>
#include <QObject>
#include <QUndoStack>
#include <deque>
#include <map>
#include <optional>

namespace gristle::app {

using Measured = std::shared_ptr<const core::FileMeasurement>;

/// A file to bring in, and where it goes.
struct ImportRow {
    QString file;
    QString song, part, layer, guitar, pickup;
    double place = 0.0;
    int channel = 0;
    bool takesShort = false; ///< of a file that is shorter than its header says, what is there
};

/// The open session as the window sees it: the document with undo and saving (the journal at once, the whole in the
/// background), the layer in hand, what was
/// measured, and the rigs. GUI thread only.
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
    QUndoStack& undoStack() { return undo_; }
    void note(const QString& what, const QString& text); ///< to the log, about the layer in hand

    /// Brings files in on a worker; the layers appear when all are there, or none where one is bad.
    void import(std::vector<ImportRow> rows);
    TaskRunner& importTask() { return import_; }
    /// Makes takes of a recording that beginRecording() began, on a worker, and adds them to their layers.
    void keepRecording(const std::filesystem::path& recording, std::vector<std::int64_t> gaps = {});
    /// Makes takes of stretches of it instead, each a file of its own. @param isOver  the recording ended: then it goes
    void keepStretches(const std::filesystem::path& recording, std::vector<std::int64_t> gaps,
                       std::vector<core::TakeCut> cuts, bool isOver);
    TaskRunner& keepTask() { return keep_; }
    TaskRunner& saveTask() { return save_; }

    /// Measurement of a take; nothing yet where it is still being measured (measured() tells).
    Measured measurement(const core::Take& take) const;
    Measured measurement() const { return take() ? measurement(*take()) : nullptr; }
    core::MeasureOptions measureOptions() const;
    /// What the take averages, dBFS.
    std::optional<double> averageDbfs(const core::Take& take) const;
    /// What a rig remembers of the DI that it is dialled in on; none before the take is measured.
    std::optional<core::DiStamp> diStamp(const core::Take& take) const;
    std::optional<double> loudDbfs(const core::Take& take) const; ///< what its accents reach
    std::vector<core::Finding> levelFindings(const core::Take& take) const;
    TaskRunner& measureTask() { return measure_; }

    /// The rig of the layer in hand; an empty one where it is dry or unreadable (then `warnings` says why).
    core::RigDocument rig(std::vector<std::string>* warnings = nullptr) const;
    /// Saves the rig as the next version and gives it to the layer in hand. Changes with the same merge key within 1.5
    /// s go into the same version.
    void setRig(core::RigDocument rig, const QString& text, int mergeKey = -1);
    void chooseRig(const std::string& file);
    void giveRigToPart();
    core::Result<std::string> addImpulse(const core::Recording& impulse, const QString& name, const QString& madeOf)
    {
        return folder_->addImpulse(impulse, name.toStdString(), madeOf.toStdString());
    }
    core::Result<std::string> importImpulse(const QString& file) { return folder_->importImpulse(file.toStdString()); }

    /// Where the loop is, in bars of the song, from 1; the end is not in it.
    double loopFromBar() const { return loopFrom_; }
    double loopToBar() const { return loopTo_; }
    void setLoop(double fromBar, double toBar);
    double loopFromS() const { return grid().secondsOfBar(loopFrom_); }
    double loopToS() const { return grid().secondsOfBar(loopTo_); }
    core::BarGrid grid() const;                                        ///< of the song in hand
    double barSeconds() const { return grid().barSeconds(loopFrom_); } ///< of the loop's first bar
    double beatSeconds() const;                                        ///< there; as in 4/4 where there is no song
    core::DoubleStyle doubleStyle() const;                             ///< of the part in hand

signals:
    void opened();
    void closing(); ///< still all there
    void closed();
    void documentChanged();
    void pathChanged();
    void rigChanged();
    void measured();
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
    void measureNext();
    void fail(const core::Error& error);
    std::string measureKey(const core::Take& take) const;

    std::optional<core::SessionFolder> folder_;
    core::LayerPath path_;
    QUndoStack undo_;
    QDateTime savedAt_;
    bool saved_ = true;
    std::vector<core::Missing> missing_;
    std::map<std::string, Measured> measured_;      ///< with readings in dBFS
    mutable std::map<std::string, Measured> shown_; ///< the same, relative to the reference of the session
    std::map<std::string, core::Error> unmeasurable_;
    TaskRunner measure_, import_, save_, keep_;
    struct Recorded {
        std::filesystem::path file;
        std::vector<std::int64_t> gaps{};
        bool recovered = false; ///< left by a program that ended in the middle
        bool isCut = false;     ///< into these, not whole
        std::vector<core::TakeCut> cuts{};
        bool isOver = true;
        core::BrokenHeader ifBroken = core::BrokenHeader::Tell;
    };
    std::deque<Recorded> toKeep_; ///< the first one is in the worker's hands
    static core::Result<std::vector<core::RecordedTake>>
    takesOf(const std::filesystem::path& folder, const Recorded& recorded, const core::Progress& progress);
    void keepNext();
    void keep(const Recorded& recorded, const core::Result<std::vector<core::RecordedTake>>& kept);
    void salvage(const Recorded& recorded);
    std::deque<Recorded> unkept_; ///< whose takes could not be noted; tried again after the next edit that could be
    std::string measuring_;       ///< key of the take that is being measured
    double loopFrom_ = 2.0, loopTo_ = 6.0;
    struct {
        int key = -1;
        std::string file;
        QDateTime at;
    } lastRig_;
};

} // namespace gristle::app
