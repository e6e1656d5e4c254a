#include "app/benches/cab/impulse_use.h"

#include "core/audio/audio_writer.h"
#include "core/audio/file_place.h"
#include "core/impulse/loudspeaker_model.h"
#include "core/mix/render.h"
#include "core/mix/session_mix.h"
#include "core/units/json_text.h"

namespace gristle::app {

using namespace core;

namespace {

namespace fs = std::filesystem;

RigNode* lastImpulse(RigChain& chain)
{
    for (auto node = chain.rbegin(); node != chain.rend(); ++node) {
        if (node->type == "impulse") return &*node;
        for (auto lane = node->lanes.rbegin(); lane != node->lanes.rend(); ++lane)
            if (RigNode* found = lastImpulse(*lane)) return found;
    }
    return nullptr;
}

/// A file inside the session's folder, as rigs read none outside, with its gain beside it: what is not there yet is
/// kept in cache/.
Result<std::string> insideSession(const fs::path& session, const HeardImpulse& impulse, int number, const Progress& p)
{
    if (!impulse.file.empty() && liesInside(impulse.file, session) && fs::exists(impulse.file.string() + ".json"))
        return fs::relative(impulse.file, session).generic_string();
    const std::string name = "cache/heard/impulse " + std::to_string(number) + ".wav";
    std::error_code ignored;
    fs::create_directories((session / name).parent_path(), ignored);
    const auto recording = impulse.file.empty() ? impulse.make(p) : readRecording(impulse.file);
    if (!recording) return recording.error();
    if (const auto wrote = writeRecording(session / name, *recording); !wrote) return wrote.error();
    const nlohmann::json told = {{"matched_gain_db", matchedGainDb(*recording)}};
    if (const auto wrote = writeTextWhole((session / name).string() + ".json", jsonText(told)); !wrote)
        return wrote.error();
    return name;
}

} // namespace

RigDocument withImpulse(RigDocument rig, const std::string& file)
{
    RigNode* node = lastImpulse(rig.chain);
    if (!node) {
        rig.chain.emplace_back();
        node = &rig.chain.back();
        node->type = "impulse";
    }
    node->values["file"] = file;
    node->values["level"] = std::string("matched"); // whatever the microphone's gain was
    return rig;
}

std::string impulseOf(const RigDocument& rig)
{
    RigChain chain = rig.chain;
    const RigNode* node = lastImpulse(chain);
    const auto file = node ? node->values.find("file") : std::map<std::string, ParameterValue>::const_iterator();
    return node && file != node->values.end() ? std::get<std::string>(file->second) : std::string();
}

void putIntoRig(SessionModel& session, const std::string& file)
{
    session.setRig(withImpulse(session.rig(), file),
                   SessionModel::tr("Impulse: %1").arg(QString::fromStdString(fs::path(file).stem().string())));
}

AuditionRequest hearImpulses(const SessionModel& session, const std::vector<HeardImpulse>& impulses)
{
    AuditionRequest out;
    out.kind = "impulse";
    if (!session.isOpen() || !session.take()) return out;
    out.subject = SessionModel::tr("%1, through its rig").arg(QString::fromStdString(session.layer()->name));
    const RigDocument rig = session.rig();
    const LayerRecipe plain = layerRecipe(session.folder(), *session.layer(), rig);
    const auto stretch = [](LayerRecipe recipe, double from, double to, const Progress& p) {
        recipe.startS = from, recipe.endS = to;
        recipe.effort = Effort::Playing;
        RenderReport report;
        return renderToMemory(recipe, report, p);
    };
    out.slots_.push_back({SessionModel::tr("In the rig"), [plain, stretch](double from, double to, const Progress& p) {
                              return stretch(plain, from, to, p);
                          }});
    for (std::size_t i = 0; i < impulses.size(); ++i)
        out.slots_.push_back(
            {impulses[i].title, [impulse = impulses[i], number = int(i), rig, plain, stretch,
                                 folder = session.folder().path()](double from, double to, const Progress& p) {
                 const auto file = insideSession(folder, impulse, number, p);
                 if (!file) return Result<Recording>(file.error());
                 LayerRecipe recipe = plain;
                 recipe.rig = withImpulse(rig, *file);
                 return stretch(std::move(recipe), from, to, p);
             }});
    out.active = impulses.empty() ? 0 : 1;
    return out;
}

} // namespace gristle::app
