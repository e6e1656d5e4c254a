#pragma once

#include "core/audio/audio_buffer.h"
#include "core/rig/rig_document.h"
#include "core/session/session_document.h"
#include "core/units/progress.h"

#include <filesystem>

namespace gristle::core {

enum class Access { Read, Write };

/// An entry of the log: when, what in one sentence, and where it belongs.
struct LogEntry {
    std::string time; ///< ISO 8601, local time
    std::string what; ///< stable word: "session", "take", "rig", "place", "gain", "mix", "undo", "note" ...
    std::string text; ///< a sentence for people
    std::string song, part, layer;
    bool operator==(const LogEntry&) const = default;
    std::string where() const; ///< "song › part › layer", as far as it goes
};

/// A stretch of the log and the byte after it.
struct LogPart {
    std::vector<LogEntry> entries;
    std::int64_t end = 0;
};

/// Something that `check` found wrong.
struct Missing {
    std::string file;
    std::string why;
};

/// A file in the folder that the document does not name.
struct LeftOver {
    std::string file; ///< relative to the folder
    std::string why;
    std::uintmax_t bytes = 0;
    bool isSafe = false; ///< nothing is lost with it: a file in the making of a program that ended, or a second copy
};

/// All that saving needs, so that a worker can do it.
struct PendingSave {
    std::filesystem::path folder;
    SessionDocument document;
    std::int64_t edit = 0;
    std::vector<std::string> unforced; ///< files that must be on disk before the document is
};

/// A session on disk, NAME.gristle/: session.json, audio/, impulses/, rigs/, log.jsonl, cache/. One writer at a time: a
/// lock of the operating system, which a crash releases. Saves are atomic, and an edit journal (edits.jsonl) holds what
/// is not saved yet. One thread at a time.
class SessionFolder {
public:
    /// Makes the folder with an empty session, one modelled loudspeaker impulse and one rig.
    /// @error WriteFailed; Usage where there is something in the folder already
    static Result<SessionFolder> create(const std::filesystem::path& folder, const SessionDocument& document,
                                        const std::string& now);
    /// With Access::Write, files in the making of programs that ended go, and what of the edit journal could not be
    /// taken is set aside. @error FileMissing, BadDocument, NewerVersion, OutOfRange; Locked with Access::Write
    static Result<SessionFolder> open(const std::filesystem::path& folder, Access access);
    /// What opening found and put right or aside, a sentence each.
    const std::vector<std::string>& warnings() const noexcept;

    SessionFolder(SessionFolder&&) noexcept;
    SessionFolder& operator=(SessionFolder&&) noexcept;
    ~SessionFolder(); ///< gives up the lock

    const std::filesystem::path& path() const noexcept;
    const SessionDocument& document() const noexcept;
    /// Puts a document in the place of the present one and on disk. @error WriteFailed, and then all is as it was;
    /// NotConfirmed, and then it is there
    Outcome save(const SessionDocument& document);
    /// Puts a document in the place of the present one and what changed into the edit journal: quick, and it survives
    /// the end of this program at any moment. On disk for good after writeSave(pendingSave()) by whom it suits, then
    /// settle(). @error WriteFailed, and then all is as it was
    Outcome put(const SessionDocument& document);
    PendingSave pendingSave() const;
    /// After writeSave: empties the journal, unless more was put since.
    void settle(const PendingSave& done);

    /// Saves a rig as its next version; the file's name, relative to the folder. The next save forces it to disk.
    Result<std::string> saveRig(RigDocument& rig);
    /// Puts a rig in the place of a version that nothing else uses yet (a control that is still moving).
    Outcome replaceRig(const std::string& file, const RigDocument& rig);
    /// Files of all rig versions, newest of each name first.
    std::vector<std::string> rigFiles() const;
    /// Copies an impulse into impulses/ where it is not there yet; its relative name.
    Result<std::string> importImpulse(const std::filesystem::path& file);
    /// Keeps an impulse that was made here in impulses/, with what it was made of; its relative name.
    Result<std::string> addImpulse(const Recording& impulse, const std::string& name, const std::string& madeOf);
    std::vector<std::string> impulseFiles() const;
    /// Looks through a folder and what lies in it for an impulse of this session that is missing, by its content
    /// whatever its name, and puts it back in its place; where it was. The session's own impulses are looked through,
    /// too. Cost: the audio files there are read once. @error FileMissing where it is not there, or where nothing is
    /// known of its content; Cancelled
    static Result<std::filesystem::path> restoreImpulse(const std::filesystem::path& session, const std::string& name,
                                                        const std::filesystem::path& folder,
                                                        const Progress& progress = {});
    /// Reads a rig of this session. @error as readRig
    Result<RigDocument> loadRig(const std::string& file, Unknown unknown, std::vector<std::string>& warnings) const;

    Outcome log(const LogEntry& entry);
    /// All entries, oldest first; lines that are broken (a crash in the middle of one) are skipped.
    std::vector<LogEntry> readLog() const { return readLogFrom(0).entries; }
    /// What stands in the log from a byte on that an earlier call returned: reading on costs what was added.
    LogPart readLogFrom(std::int64_t byte) const;
    /// What is missing, and with `deep` what was changed since (files are hashed again).
    std::vector<Missing> check(bool deep, const Progress& progress = {}) const;
    /// What lies in the folder and is named nowhere: files in the making, recordings that were not finished, journals
    /// that were set aside, audio that no layer has (a second copy of one that a layer has is known by its content).
    /// Cost: a look at every name; audio of a length that a take has, too, is hashed.
    std::vector<LeftOver> leftOvers(const Progress& progress = {}) const;
    /// Removes left-overs. @error Usage where a file is none; WriteFailed
    Outcome removeLeftOver(const LeftOver& leftOver);

private:
    struct State;
    void dropDeadParts();
    explicit SessionFolder(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

/// Forces the rigs that the document names to disk, then puts the document in its place. Any thread, one at a time a
/// folder. @error WriteFailed, and then the old document is in its place
Outcome writeSave(const PendingSave& pending);

/// The local time now, ISO 8601 to the second. Only for those at the edge who hand it in.
std::string localNow();

} // namespace gristle::core
