#include "engine/devices/foot_switch.h"

#include <RtMidi.h>

#include <algorithm>
#include <cstdlib>

namespace gristle::engine {

struct FootSwitch::Port {
    std::unique_ptr<RtMidiIn> in;
    std::string name;
};

FootSwitch::FootSwitch() { look(); }
FootSwitch::~FootSwitch() = default;

void FootSwitch::take(const unsigned char* bytes, std::size_t count) noexcept
{
    if (count < 3) return;
    const unsigned kind = bytes[0] & 0xF0u;
    if (kind == 0x90u && bytes[2] > 0) presses_.fetch_add(1);
    if (kind != 0xB0u) return;
    auto& controller = controllers_[(bytes[0] & 0x0Fu) * 128u + (bytes[1] & 0x7Fu)];
    const unsigned char before = controller.exchange(bytes[2]);
    if (before < 64 && bytes[2] >= 64) presses_.fetch_add(1);
}

void FootSwitch::look()
{
    if (std::getenv("GRISTLE_NO_DEVICE")) return;
    try {
        RtMidiIn probe(RtMidi::UNSPECIFIED, "Gristle");
        for (unsigned i = 0; i < probe.getPortCount(); ++i) {
            const std::string name = probe.getPortName(i);
            const bool own = name.find("Gristle") != std::string::npos;
            if (own || std::ranges::any_of(ports_, [&](const auto& p) { return p->name == name; })) continue;
            auto port = std::make_unique<Port>();
            port->name = name;
            port->in = std::make_unique<RtMidiIn>(probe.getCurrentApi(), "Gristle");
            port->in->setCallback(
                [](double, std::vector<unsigned char>* bytes, void* self) {
                    static_cast<FootSwitch*>(self)->take(bytes->data(), bytes->size());
                },
                this);
            port->in->openPort(i, "foot switch");
            ports_.push_back(std::move(port));
        }
    } catch (const RtMidiError&) {
        // no MIDI on this machine: keys do the same
    }
}

std::vector<std::string> FootSwitch::ports() const
{
    std::vector<std::string> out;
    for (const auto& p : ports_) out.push_back(p->name);
    return out;
}

} // namespace gristle::engine
