#pragma once

#include <string>
#include <utility>
#include <variant>

namespace gristle::core {

/// What went wrong, for tests and for the exit code of the command line. `exitCode` in cli maps each to a number.
enum class ErrorCode {
    Usage,          ///< the caller asked for something that does not exist (unknown node or key, a value out of range)
    FileMissing,    ///< a file that was named is not there
    FileUnreadable, ///< it is there and cannot be read
    NotAudio,       ///< it is no audio file that we know
    Unsupported,    ///< it is audio of a kind that we refuse (rate, channels)
    Empty,          ///< it holds nothing
    Truncated,      ///< it is shorter than its header says
    NotFinite,      ///< it holds NaN or infinite samples
    OutOfRange,     ///< a value in a file is out of its range
    BadDocument,    ///< a JSON document that is broken or not what it should be
    NewerVersion,   ///< a document written by a later Gristle
    Locked,         ///< somebody else writes to the session
    WriteFailed,    ///< disk full, folder missing or not writable
    NotConfirmed,   ///< it was written and has its name; the disk did not confirm the name, so a power cut may undo it
    Cancelled,      ///< the user stopped it
};

/// A failure that the user can do something about: what happened, and what to do.
struct Error {
    ErrorCode code;
    std::string message; ///< "WHAT: why", no full stop
    std::string remedy;  ///< what the user can do, lower case, no full stop

    std::string line() const { return remedy.empty() ? message : message + "; " + remedy; }
};

/// A value or an Error. Test it before use: `if (!r) return r.error();`. Taking the other one is our own mistake and
/// throws.
template<typename T> class [[nodiscard]] Result {
public:
    Result(T value) : state_(std::move(value)) {}
    Result(Error error) : state_(std::move(error)) {}

    explicit operator bool() const noexcept { return std::holds_alternative<T>(state_); }
    T& value() & { return std::get<T>(state_); }
    const T& value() const& { return std::get<T>(state_); }
    T&& value() && { return std::get<T>(std::move(state_)); }
    T* operator->() { return &value(); }
    const T* operator->() const { return &value(); }
    T& operator*() & { return value(); }
    const T& operator*() const& { return value(); }
    const Error& error() const { return std::get<Error>(state_); }

private:
    std::variant<T, Error> state_;
};

struct Done {};
/// The result of work that returns nothing but may fail.
using Outcome = Result<Done>;

} // namespace gristle::core
