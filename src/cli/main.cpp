#include "cli/command.h"

#include <atomic>
#include <cmath>
#include <csignal>
#include <cstdio>
#include <iostream>
#include <thread>
#include <unistd.h>

namespace gristle::cli {

namespace {

std::atomic<bool> interrupted{false};
static_assert(std::atomic<bool>::is_always_lock_free);

void onSignal(int) { interrupted.store(true); }

std::string oneLine(std::string text)
{
    for (char& c : text)
        if (c == '\n' || c == '\r') c = ' ';
    return text;
}

int fail(const core::Error& error)
{
    std::cerr << "gristle-cli: " << oneLine(error.line()) << "\n";
    return exitCodeOf(error.code);
}

/// "nan" and "inf" are read as numbers, and a check of a range lets the first one pass.
void refuseWhatIsNotFinite(CLI::App& app)
{
    const auto check = [](const std::string& text) {
        double value = 0.0;
        const bool isRead = CLI::detail::lexical_cast(text, value);
        return isRead && !std::isfinite(value) ? text + " is no number to work with" : std::string();
    };
    for (CLI::Option* option : app.get_options())
        if (option->get_type_name().starts_with("FLOAT")) option->check(check);
    for (CLI::App* command : app.get_subcommands(nullptr)) refuseWhatIsNotFinite(*command);
}

} // namespace

core::Progress Surroundings::progress() const
{
    core::Progress out{stop, nullptr};
    if (!quiet && isatty(STDERR_FILENO)) {
        auto last = std::make_shared<int>(-1);
        out.report = [last](double part) {
            const int percent = static_cast<int>(part * 100.0);
            if (percent == *last) return;
            *last = percent;
            std::fprintf(stderr, "\r%3d %%%s", percent, percent == 100 ? "\r     \r" : "");
            std::fflush(stderr);
        };
    }
    return out;
}

int exitCodeOf(core::ErrorCode code)
{
    switch (code) {
    case core::ErrorCode::Usage: return 2;
    case core::ErrorCode::Locked:
    case core::ErrorCode::NotConfirmed:
    case core::ErrorCode::WriteFailed: return 4;
    case core::ErrorCode::Cancelled: return 130;
    default: return 3;
    }
}

int run(int argc, char** argv)
{
    CLI::App app{"Gristle: measures, renders and keeps record of recorded electric guitar", "gristle-cli"};
    app.set_version_flag("--version", "gristle-cli " GRISTLE_VERSION);
    app.require_subcommand(1);
    app.fallthrough();
    Surroundings surroundings;
    app.add_flag("--json", surroundings.json, "Standard output holds exactly one JSON object");
    app.add_flag("--quiet", surroundings.quiet, "No progress");
    Job job;
    for (const auto add : {addMeasure, addRender, addNodes,  addMix,    addStereo,  addSum,     addTake,
                           addPairs,   addSides,  addAlign,  addDouble, addImpulse, addCab,     addLoading,
                           addDevices, addCheck,  addLedger, addClean,  addRecord,  addSession, addDemo})
        add(app, job);
    refuseWhatIsNotFinite(app);
    try {
        app.parse(argc, argv);
    } catch (const CLI::Success& success) {
        return app.exit(success);
    } catch (const CLI::ParseError& error) {
        return fail({core::ErrorCode::Usage, "command line: " + std::string(error.what()),
                     "see gristle-cli --help for commands and options"});
    }
    std::signal(SIGINT, onSignal);
    std::signal(SIGTERM, onSignal);
    std::stop_source stop;
    surroundings.stop = stop.get_token();
    std::jthread watch([&](std::stop_token over) { // a signal handler may not ask a stop_source itself
        while (!over.stop_requested()) {
            if (interrupted.load()) return void(stop.request_stop());
            std::this_thread::sleep_for(std::chrono::milliseconds(20));
        }
    });
    const auto answer = job(surroundings);
    if (!answer) return fail(answer.error());
    const std::string text =
        surroundings.json ? answer->json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n" : answer->text;
    std::cout << text << std::flush;
    if (!std::cout)
        return fail({core::ErrorCode::WriteFailed, "standard output: it could not be written", "check where it goes"});
    if (!answer->complaint.empty()) std::cerr << "gristle-cli: " << oneLine(answer->complaint) << "\n";
    return answer->exitCode;
}

} // namespace gristle::cli

int main(int argc, char** argv)
{
    try {
        return gristle::cli::run(argc, argv);
    } catch (const std::bad_alloc&) {
        std::cerr << "gristle-cli: memory: there is not enough; close other programs and try again\n";
        return 4;
    } catch (const std::exception& error) { // none is meant to come this far
        std::cerr << "gristle-cli: an error of its own (" << gristle::cli::oneLine(error.what())
                  << "): the work was given up; try it on a copy, and report it with the command\n";
        return 4;
    }
}
