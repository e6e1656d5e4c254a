#pragma once

#include <atomic>
#include <memory>
#include <string>
#include <vector>

namespace gristle::engine {

/// A MIDI foot switch at any of the machine's MIDI inputs: each press counts once. A press is a note that begins, or a
/// controller that comes to 64 or above from below. Ports that come later are found by look().
class FootSwitch {
public:
    FootSwitch();
    ~FootSwitch();
    FootSwitch(const FootSwitch&) = delete;
    FootSwitch& operator=(const FootSwitch&) = delete;

    void look();                                                       ///< opens the inputs that are there now
    std::vector<std::string> ports() const;                            ///< that are open
    int presses() noexcept { return presses_.exchange(0); }            ///< since the last call. Any thread
    void take(const unsigned char* bytes, std::size_t count) noexcept; ///< one message, as the system hands it over

private:
    struct Port;
    std::vector<std::unique_ptr<Port>> ports_;
    std::atomic<int> presses_{0};
    std::atomic<unsigned char> controllers_[16 * 128] = {};
};

} // namespace gristle::engine
