#include "app/models/rig_store.h"

#include "app/models/session_model.h"
#include "core/session/layer_role.h"

namespace gristle::app {

using namespace core;

RigDocument RigStore::inHand(std::vector<std::string>* warnings) const
{
    RigDocument none;
    none.name = "dry";
    const Layer* l = session_.layer();
    if (!l || l->rig.empty()) return none;
    std::vector<std::string> own;
    auto loaded = session_.folder().loadRig(l->rig, Unknown::Bypass, warnings ? *warnings : own);
    if (loaded) return std::move(*loaded);
    if (warnings) warnings->push_back(loaded.error().line());
    return none;
}

/// Whether the layer in hand may have a rig; where not, that is said.
bool RigStore::mayHaveOne()
{
    const Layer* l = session_.layer();
    if (!l || mayHaveRig(l->role)) return l != nullptr;
    session_.fail({ErrorCode::Usage, l->name + ": " + wordsOf(l->role) + " goes through no rig",
                   "lead it into a bus on Blend, and put the rig there"});
    return false;
}

void RigStore::set(RigDocument rig, const QString& text, int key)
{
    const Layer* l = session_.layer();
    if (!mayHaveOne()) return;
    if (session_.take()) rig.di = session_.measurements().diStamp(*session_.take());
    const QDateTime now = QDateTime::currentDateTime();
    const bool merges = key >= 0 && key == last_.key && l->rig == last_.file && last_.at.msecsTo(now) < 1500;
    if (merges) { // the same control is still moving: the version that it made takes the new value
        const auto wrote = session_.folder_->replaceRig(l->rig, rig);
        if (!wrote) return session_.fail(wrote.error());
        last_.at = now;
        emit session_.rigChanged();
        return;
    }
    if (rig.name == "dry") rig.name = "rig of " + l->name;
    const auto file = session_.folder_->saveRig(rig);
    if (!file) return session_.fail(file.error());
    last_ = {key, *file, now};
    session_.editLayer(text, "rig", [&](Layer& layer) { layer.rig = *file; });
}

void RigStore::choose(const std::string& file)
{
    if (!file.empty() && !mayHaveOne()) return;
    session_.editLayer(file.empty() ? SessionModel::tr("Layer set dry")
                                    : SessionModel::tr("Rig chosen: %1").arg(QString::fromStdString(file)),
                       "rig", [&](Layer& layer) { layer.rig = file; });
}

void RigStore::giveToPart()
{
    if (!mayHaveOne()) return;
    const std::string file = session_.layer()->rig;
    session_.editPart(SessionModel::tr("All layers of the part play through %1").arg(QString::fromStdString(file)),
                      "rig", [&](Part& part) {
                          for (Layer& l : part.layers)
                              if (mayHaveRig(l.role)) l.rig = file;
                      });
}

Result<std::string> RigStore::addImpulse(const Recording& impulse, const QString& name, const QString& madeOf)
{
    return session_.folder_->addImpulse(impulse, name.toStdString(), madeOf.toStdString());
}

Result<std::string> RigStore::importImpulse(const QString& file)
{
    return session_.folder_->importImpulse(file.toStdString());
}

} // namespace gristle::app
