#pragma once

#include "core/session/session_document.h"

#include <filesystem>
#include <nlohmann/json.hpp>

namespace gristle::core {

// The edit journal, edits.jsonl: a line an edit, with its number, the fields beside the songs where they changed, the
// number of songs, and each song that is new or other, whole. session.json carries the number of the last edit that is
// in it; what the journal has beyond that is put on top when the session is opened. A line costs as much as the songs
// that it changes.

/// Appends the step from `before` to `after`. Not forced to disk: the system has it, whatever becomes of this program.
/// @error WriteFailed, and then the journal is as it was
Outcome appendToJournal(const std::filesystem::path& folder, std::int64_t edit, const SessionDocument& before,
                        const SessionDocument& after);

struct Replayed {
    SessionDocument document;
    std::int64_t edit = 0;
    std::size_t steps = 0; ///< taken from the journal
    std::size_t unread =
        0; ///< lines of it that could not be taken: damaged, out of turn, or what they say is no session
};

/// The document of session.json with what the journal has beyond it. A line that is damaged or out of turn ends the
/// replay; where the result is no valid session, none of it is taken. @error as sessionFromJson; FileUnreadable where
/// the journal cannot be read
Result<Replayed> replayJournal(const std::filesystem::path& folder, nlohmann::ordered_json json);

/// Keeps a copy of the journal under a name of its own, edits.unread.jsonl or with a number; the name.
/// @error WriteFailed, and then the journal must not be cleared
Result<std::string> setJournalAside(const std::filesystem::path& folder);

/// @error WriteFailed where it cannot be removed; its steps are passed over as saved all the same
Outcome clearJournal(const std::filesystem::path& folder);

} // namespace gristle::core
