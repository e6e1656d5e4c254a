#pragma once

#include "core/audio/audio_writer.h"
#include "core/session/session_folder.h"

#include <filesystem>

namespace gristle::core {

/// Where a recorded channel goes, by name: names outlive what else is changed while it is recorded.
struct RecordingTarget {
    std::string song, part, layer;
    int channel = 0; ///< of the file, from 1; 0: the only one
    bool operator==(const RecordingTarget&) const = default;
};

/// How the samples of a recording lie in its file, so that they are found where the header is damaged.
struct SampleLayout {
    int sampleRateHz = 48000;
    int channels = 1;
    SampleFormat format = SampleFormat::Int24;
    bool operator==(const SampleLayout&) const = default;
};

/// What a take needs besides its samples. It lies beside a recording from its first moment, so that the take can be
/// made of it by another program after a crash.
struct RecordingNote {
    std::vector<RecordingTarget> targets; ///< one recording may serve several layers
    std::string recorded;                 ///< ISO 8601, local
    std::string source;                   ///< the device and its inputs, in words
    Calibration input;
    double atS = 0.0; ///< where in the song the recording's first frame is
    PlayingNotes playing;
    std::optional<SampleLayout> layout; ///< not in the notes of earlier versions
};

/// What becomes a take of a recording that holds more: a count-in before it, or several passes of a loop.
struct TakeCut {
    std::int64_t first = 0, frames = 0; ///< of the recording
    double atS = 0.0;                   ///< of the song, see Take
    double spanFromS = 0.0, spanToS = 0.0;
};

struct RecordedTake {
    RecordingTarget target;
    Take take;
};

/// Writes the note and returns the (hidden) name in audio/ under which to record. @error WriteFailed
Result<std::filesystem::path> beginRecording(const std::filesystem::path& folder, const RecordingNote& note);

/// What is done with a recording whose header cannot be read.
enum class BrokenHeader {
    Tell,   ///< an error that says what lies behind it
    Salvage ///< its samples are taken as the note says that they lie; the file is kept aside
};

/// Makes a take of a finished recording for each target: the recording gets its name, or, where a crash or a damaged
/// header left samples that the header does not count, all samples are copied into a file of that name and the
/// recording stays until letGo(). Nothing where no frame was recorded: then both files go.
/// @param gaps  frames before which samples are missing
/// @error whatever cannot be read stays where it is: as AudioReader; BadDocument where the note or the header cannot be
/// read; WriteFailed
Result<std::vector<RecordedTake>> finishRecording(const std::filesystem::path& folder,
                                                  const std::filesystem::path& recording,
                                                  const std::vector<std::int64_t>& gaps = {},
                                                  BrokenHeader ifBroken = BrokenHeader::Tell);
/// After the document that names the takes was saved: the note goes, and what is left of the recording; one with a
/// broken header is kept aside as `.unread …`.
void letGo(const std::filesystem::path& recording);
void forgetNote(const std::filesystem::path& recording); ///< of a recording that did not begin
/// Changes the note of a recording that is under way. @error WriteFailed
Outcome renote(const std::filesystem::path& recording, const RecordingNote& note);
/// Copies a stretch of a recording, which may be under way, into a file of its own and makes a take of it for each
/// target; the recording stays. @param gaps  frames of the recording
/// @error as AudioReader and TakeWriter, and then no file is left; BadDocument where the note cannot be read; Empty
/// where the stretch is not there yet
Result<std::vector<RecordedTake>> cutTakes(const std::filesystem::path& folder, const std::filesystem::path& recording,
                                           const TakeCut& cut, const std::vector<std::int64_t>& gaps = {});
/// Lets go of a recording and its note, once all that is wanted of it was cut.
void dropRecording(const std::filesystem::path& recording);

/// Recordings that nobody finished, as a crash leaves them, with a note or without. Call with the session locked.
std::vector<std::filesystem::path> unfinishedRecordings(const std::filesystem::path& folder);

/// Adds takes to their layers, and layers where there is none of that name; the takes count from now on, but for those
/// of some bars only where there is another. A take whose file is in the document already is left out.
void addTakes(SessionDocument& document, const std::vector<RecordedTake>& takes);

/// Makes a take of a recording, saves the session with it, notes it in the log, and forgets the note.
/// @error as finishRecording and SessionFolder::save, and then the recording stays for another try
Result<std::vector<RecordedTake>> keepRecording(SessionFolder& session, const std::filesystem::path& recording,
                                                const std::vector<std::int64_t>& gaps, const std::string& now,
                                                const std::string& text, BrokenHeader ifBroken = BrokenHeader::Tell);

} // namespace gristle::core
