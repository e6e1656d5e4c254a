#include "cli/report.h"
#include "engine/runs/loop_ping.h"

#include <fmt/format.h>

namespace gristle::cli {

using namespace core;

namespace {

struct Options {
    std::string ping;
    int input = 1, buffer = 256;
    double rate = 48000.0;
};

Answer list()
{
    Answer a;
    a.json["device"] = Json::array();
    for (const engine::DeviceInfo& d : engine::listDevices()) {
        a.json["device"].push_back({{"id", d.id},
                                    {"name", d.name},
                                    {"system", d.system},
                                    {"inputs", d.inputs},
                                    {"outputs", d.outputs},
                                    {"sample_rates_hz", d.ratesHz},
                                    {"default", d.isDefault}});
        a.text += fmt::format("{}  {} in, {} out{}\n", d.id, d.inputs, d.outputs, d.isDefault ? ", default" : "");
    }
    return a;
}

Result<Answer> ping(const Options& o, const Surroundings& s)
{
    auto device = engine::openDevice({o.ping, o.rate, std::size_t(o.buffer), std::size_t(o.input)});
    if (!device) return device.error();
    const auto found = engine::pingLoop(**device, {.input = std::size_t(o.input - 1)}, s.stop);
    if (!found) return found.error();
    const double rate = (*device)->rateHz();
    Answer a;
    a.json = {{"device", (*device)->name()},
              {"sample_rate_hz", rate},
              {"round_trip_samples", found->delaySamples},
              {"round_trip_ms", 1000.0 * found->delaySamples / rate},
              {"reported_samples", (*device)->latencyFrames()},
              {"snr_db", found->snrDb}};
    a.text = fmt::format("{}: {:.2f} samples there and back, {:.2f} ms; the system says {}\n", (*device)->name(),
                         found->delaySamples, 1000.0 * found->delaySamples / rate, (*device)->latencyFrames());
    return a;
}

} // namespace

void addDevices(CLI::App& app, Job& job)
{
    auto o = std::make_shared<Options>();
    CLI::App* command = app.add_subcommand("devices", "Audio devices that can be recorded from and played to");
    command->add_option(
        "--ping", o->ping,
        "Measure this device's round trip over a cable from an output to --input. Turn monitors down first.");
    command->add_option("--input", o->input, "The input that the cable comes back on, from 1")
        ->check(CLI::Range(1, 32));
    command->add_option("--rate", o->rate, "Sample rate, Hz")->check(CLI::Range(8000.0, 192000.0));
    command->add_option("--buffer", o->buffer, "Frames a block")->check(CLI::Range(16, 8192));
    command->callback([o, &job] {
        job = [o](const Surroundings& s) -> Result<Answer> {
            if (o->ping.empty()) return list();
            return ping(*o, s);
        };
    });
}

} // namespace gristle::cli
