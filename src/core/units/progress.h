#pragma once

#include <functional>
#include <stop_token>

namespace gristle::core {

/// What a long computation is handed: a wish to stop, and somebody to tell how far it is (0 to 1).
struct Progress {
    std::stop_token stop;
    std::function<void(double)> report;

    bool stopped() const { return stop.stop_requested(); }
    void at(double part) const
    {
        if (report) report(part);
    }
};

} // namespace gristle::core
