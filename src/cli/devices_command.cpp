#include "cli/report.h"
#include "engine/audio_device.h"

#include <fmt/format.h>

namespace gristle::cli {

void addDevices(CLI::App& app, Job& job)
{
    CLI::App* command = app.add_subcommand("devices", "Audio devices that can be recorded from and played to");
    command->callback([&job] {
        job = [](const Surroundings&) -> core::Result<Answer> {
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
                a.text +=
                    fmt::format("{}  {} in, {} out{}\n", d.id, d.inputs, d.outputs, d.isDefault ? ", default" : "");
            }
            return a;
        };
    });
}

} // namespace gristle::cli
