#include "core/rig/lane_path.h"

namespace gristle::core {

std::optional<std::size_t> LanePath::lane() const
{
    return steps_.empty() ? std::nullopt : std::optional(steps_.back().lane);
}

bool LanePath::open(const RigDocument& rig, std::size_t stage, std::size_t lane)
{
    const RigChain& chain = in(rig);
    if (stage >= chain.size() || lane >= chain[stage].lanes.size()) return false;
    steps_.push_back({stage, lane});
    return true;
}

std::size_t LanePath::leave()
{
    const std::size_t split = steps_.back().split;
    steps_.pop_back();
    return split;
}

void LanePath::fit(const RigDocument& rig)
{
    const RigChain* chain = &rig.chain;
    for (std::size_t i = 0; i < steps_.size(); ++i) {
        const Step& step = steps_[i];
        if (step.split >= chain->size() || step.lane >= (*chain)[step.split].lanes.size()) return steps_.resize(i);
        chain = &(*chain)[step.split].lanes[step.lane];
    }
}

RigChain& LanePath::in(RigDocument& rig) const
{
    RigChain* chain = &rig.chain;
    for (const Step& step : steps_) chain = &(*chain)[step.split].lanes[step.lane];
    return *chain;
}

const RigChain& LanePath::in(const RigDocument& rig) const { return in(const_cast<RigDocument&>(rig)); }

RigDocument LanePath::straight(const RigDocument& rig) const
{
    RigDocument out = rig;
    if (isOutermost()) return out;
    out.chain.clear();
    const RigChain* chain = &rig.chain;
    for (const Step& step : steps_) {
        out.chain.insert(out.chain.end(), chain->begin(), chain->begin() + long(step.split));
        chain = &(*chain)[step.split].lanes[step.lane];
    }
    out.chain.insert(out.chain.end(), chain->begin(), chain->end());
    out.outputDb = 0.0;
    return out;
}

std::size_t LanePath::leadingUp() const
{
    std::size_t out = 0;
    for (const Step& step : steps_) out += step.split;
    return out;
}

RigDocument LanePath::withoutLane(const RigDocument& rig) const
{
    RigDocument out = rig;
    LanePath around = *this;
    const std::size_t lane = steps_.back().lane, split = around.leave();
    RigChain& chain = around.in(out);
    auto& lanes = chain[split].lanes;
    lanes.erase(lanes.begin() + long(lane));
    if (lanes.size() > 1) return out;
    const RigChain rest = lanes.front();
    chain.erase(chain.begin() + long(split));
    chain.insert(chain.begin() + long(split), rest.begin(), rest.end());
    return out;
}

} // namespace gristle::core
