#pragma once

#include "core/units/progress.h"
#include "core/units/result.h"

#include <CLI/CLI.hpp>
#include <functional>
#include <nlohmann/json.hpp>

namespace gristle::cli {

using Json = nlohmann::ordered_json;

/// What every command is given: how to speak, and a wish to stop.
struct Surroundings {
    bool json = false;
    bool quiet = false;
    std::stop_token stop;
    /// Progress on standard error where that is a terminal.
    core::Progress progress() const;
};

/// What a command gives back: the object for --json, the text for people, and the exit code where it did its work.
struct Answer {
    Json json;
    std::string text;
    int exitCode = 0;
    std::string complaint; ///< for standard error, where the work was done and its outcome is bad
};

/// Work that a parsed command line asks for.
using Job = std::function<core::Result<Answer>(const Surroundings&)>;

// One function for each command, defined in the file of its name: adds its options to `app`, and sets `job` when it is
// the one that was called.
void addAlign(CLI::App& app, Job& job);
void addCab(CLI::App& app, Job& job);
void addCheck(CLI::App& app, Job& job);
void addDouble(CLI::App& app, Job& job);
void addImpulse(CLI::App& app, Job& job);
void addLedger(CLI::App& app, Job& job);
void addClean(CLI::App& app, Job& job);
void addDemo(CLI::App& app, Job& job);
void addDevices(CLI::App& app, Job& job);
void addLoading(CLI::App& app, Job& job);
void addMeasure(CLI::App& app, Job& job);
void addMix(CLI::App& app, Job& job);
void addNodes(CLI::App& app, Job& job);
void addPairs(CLI::App& app, Job& job);
void addRecord(CLI::App& app, Job& job);
void addRender(CLI::App& app, Job& job);
void addSession(CLI::App& app, Job& job);
void addSessionSteps(CLI::App& session, Job& job);
void addSessionBuses(CLI::App& session, Job& job); ///< `session song|part|layer …`
void addSides(CLI::App& app, Job& job);
void addStereo(CLI::App& app, Job& job);
void addSum(CLI::App& app, Job& job);
void addTake(CLI::App& app, Job& job);

/// 2 usage, 3 bad input, 4 the work failed, 130 interrupted.
int exitCodeOf(core::ErrorCode code);

} // namespace gristle::cli
