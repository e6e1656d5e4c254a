#include "app/benches/cab/impulse_use.h"

#include "app/models/slots.h"
#include "core/mix/render/session_mix.h"

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
    session.rigs().set(withImpulse(session.rigs().inHand(), file),
                       SessionModel::tr("Impulse: %1").arg(QString::fromStdString(fs::path(file).stem().string())));
}

AuditionRequest hearImpulses(const SessionModel& session, const std::vector<HeardImpulse>& impulses)
{
    AuditionRequest out;
    out.kind = "impulse";
    if (!session.isOpen() || !session.take()) return out;
    out.subject = SessionModel::tr("%1, through its rig").arg(QString::fromStdString(session.layer()->name));
    LayerRecipe plain = layerRecipe(session.folder(), *session.layer(), session.rigs().inHand());
    plain.effort = Effort::Playing;
    out.slots_.push_back(layerSlot(SessionModel::tr("In the rig"), plain));
    for (const HeardImpulse& impulse : impulses) {
        LayerRecipe recipe = plain;
        const std::string name = "heard/" + impulse.title.toStdString() + ".wav"; // for the rig: it is no file there
        recipe.rig = withImpulse(recipe.rig, name);
        recipe.impulses.push_back({name, impulse.file, impulse.recording});
        out.slots_.push_back(layerSlot(impulse.title, recipe));
    }
    out.active = impulses.empty() ? 0 : 1;
    return out;
}

} // namespace gristle::app
