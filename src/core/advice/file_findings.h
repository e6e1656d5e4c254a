#pragma once

#include "core/advice/finding.h"
#include "core/audio/audio_reader.h"

namespace gristle::core {

/// file.truncated: the file holds less than its header says, and what there is was taken. None where it is whole.
std::optional<Finding> truncatedFinding(const AudioInfo& info, const std::string& subject);

/// file.not_finite: samples that were no numbers were written as silence. None where there were none.
std::optional<Finding> notFiniteFinding(std::int64_t samples, const std::string& subject);

/// file.unreadable: a take, with what its reading gave.
Finding unreadableFinding(const Error& why);

/// session.missing: a file that the session names. @param why  in words, as SessionFolder tells it
Finding missingFinding(const std::string& file, std::string why);

/// blend.unreadable: a sum of layers.
Finding sumUnreadableFinding(const std::string& why);

} // namespace gristle::core
