#pragma once

#include "core/rig/rig_document.h"

#include <optional>

namespace gristle::core {

/// Which chain of a rig is in hand: the outermost, or a lane of a split in it, or of one in that, to any depth.
class LanePath {
public:
    bool isOutermost() const noexcept { return steps_.empty(); }
    std::size_t depth() const noexcept { return steps_.size(); }
    std::optional<std::size_t> lane() const; ///< of the split that it belongs to, from 0
    void clear() noexcept { steps_.clear(); }
    /// One lane further in. False where there is none.
    bool open(const RigDocument& rig, std::size_t stage, std::size_t lane);
    /// Back to the chain around it; the split's place in that one. Not for the outermost.
    std::size_t leave();
    /// Leaves until there is such a lane in the rig.
    void fit(const RigDocument& rig);

    RigChain& in(RigDocument& rig) const; ///< after fit()
    const RigChain& in(const RigDocument& rig) const;
    /// What leads up to the chain, and it: no lanes beside, and no output gain behind a lane.
    RigDocument straight(const RigDocument& rig) const;
    std::size_t leadingUp() const; ///< stages of straight() before the chain
    /// Takes the lane out of its split; a split with one lane left is that lane. Not for the outermost.
    RigDocument withoutLane(const RigDocument& rig) const;

private:
    struct Step {
        std::size_t split, lane;
    };
    std::vector<Step> steps_;
};

} // namespace gristle::core
