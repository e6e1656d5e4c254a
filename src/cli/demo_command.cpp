#include "cli/command.h"
#include "core/demo_session/demo_session.h"

namespace gristle::cli {

using namespace core;

void addDemo(CLI::App& app, Job& job)
{
    auto folder = std::make_shared<std::string>();
    CLI::App* command = app.add_subcommand("demo", "Makes the demo session \"Night Ferry\" (synthesised sound)");
    command->add_option("DIR", *folder, "The folder to make")->required();
    command->callback([folder, &job] {
        job = [folder](const Surroundings& s) -> Result<Answer> {
            const std::filesystem::path path = *folder;
            std::error_code ignored;
            std::filesystem::create_directories(std::filesystem::absolute(path).parent_path(), ignored);
            const auto made = makeDemoSession(path, s.progress());
            if (!made) return made.error();
            const auto session = SessionFolder::open(path, Access::Read);
            if (!session) return session.error();
            Answer a;
            a.json = {
                {"dir", *folder}, {"name", session->document().name}, {"takes", allLayers(session->document()).size()}};
            a.text = *folder + ": the demo session, 3 songs; all sound is synthesised\n";
            return a;
        };
    });
}

} // namespace gristle::cli
