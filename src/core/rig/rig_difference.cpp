#include "core/rig/rig_difference.h"

#include <algorithm>
#include <fmt/format.h>

namespace gristle::core {

namespace {

std::string figure(double v) { return valueText(ParameterValue(v)); }

/// Which stage of one chain is which of the other: the longest common subsequence of types; then what is left over of
/// the same type has moved.
struct Pairs {
    std::vector<std::pair<std::size_t, std::size_t>> stayed, moved;
    std::vector<std::size_t> gone, fresh;
};

Pairs pairsOf(const RigChain& a, const RigChain& b)
{
    std::vector<std::vector<std::size_t>> longest(a.size() + 1, std::vector<std::size_t>(b.size() + 1, 0));
    for (std::size_t i = a.size(); i-- > 0;)
        for (std::size_t k = b.size(); k-- > 0;)
            longest[i][k] =
                a[i].type == b[k].type ? longest[i + 1][k + 1] + 1 : std::max(longest[i + 1][k], longest[i][k + 1]);
    Pairs out;
    std::size_t i = 0, k = 0;
    while (i < a.size() || k < b.size()) {
        if (i < a.size() && k < b.size() && a[i].type == b[k].type)
            out.stayed.emplace_back(i++, k++);
        else if (k == b.size() || (i < a.size() && longest[i + 1][k] >= longest[i][k + 1]))
            out.gone.push_back(i++);
        else
            out.fresh.push_back(k++);
    }
    for (auto fresh = out.fresh.begin(); fresh != out.fresh.end();) {
        const auto gone = std::ranges::find_if(out.gone, [&](std::size_t g) { return a[g].type == b[*fresh].type; });
        if (gone == out.gone.end()) {
            ++fresh;
            continue;
        }
        out.moved.emplace_back(*gone, *fresh);
        out.gone.erase(gone);
        fresh = out.fresh.erase(fresh);
    }
    return out;
}

void compareChains(const RigChain& a, const RigChain& b, const std::string& where, std::vector<std::string>& out);

void compareStages(const RigNode& a, const RigNode& b, const std::string& where, std::vector<std::string>& out)
{
    if (a.bypass != b.bypass) out.push_back(where + b.type + (b.bypass ? " bypassed" : " active again"));
    if (const NodeType* type = typeOf(b)) {
        const auto before = completeValues(*type, a.values), after = completeValues(*type, b.values);
        std::string changes;
        for (const ParameterSpec& spec : type->parameters) {
            const auto &from = before.at(spec.key), &to = after.at(spec.key);
            if (from == to) continue;
            changes +=
                fmt::format("{}{} {} to {}{}", changes.empty() ? "" : ", ", spec.label, valueText(from), valueText(to),
                            spec.unit.empty() || spec.kind == ParameterKind::Time ? "" : " " + spec.unit);
        }
        if (!changes.empty()) out.push_back(where + b.type + ": " + changes);
    } else if (a.values != b.values) {
        out.push_back(where + b.type + ": other values");
    }
    for (std::size_t lane = 0; lane < std::max(a.lanes.size(), b.lanes.size()); ++lane) {
        const std::string own = fmt::format("lane {}", lane + 1);
        if (lane >= a.lanes.size())
            out.push_back(where + own + " put in");
        else if (lane >= b.lanes.size())
            out.push_back(where + own + " taken out");
        else
            compareChains(a.lanes[lane], b.lanes[lane], where + "in " + own + ": ", out);
    }
}

void compareChains(const RigChain& a, const RigChain& b, const std::string& where, std::vector<std::string>& out)
{
    const Pairs pairs = pairsOf(a, b);
    const auto behind = [&](std::size_t k) { return k == 0 ? std::string("first") : "behind " + b[k - 1].type; };
    for (const auto& [i, k] : pairs.stayed) compareStages(a[i], b[k], where, out);
    for (const auto& [i, k] : pairs.moved) {
        out.push_back(where + b[k].type + " moved, now " + behind(k));
        compareStages(a[i], b[k], where, out);
    }
    for (const std::size_t i : pairs.gone) out.push_back(where + a[i].type + " taken out");
    for (const std::size_t k : pairs.fresh) out.push_back(where + b[k].type + " put in " + behind(k));
}

} // namespace

std::vector<std::string> rigDifference(const RigDocument& before, const RigDocument& after)
{
    std::vector<std::string> out;
    compareChains(before.chain, after.chain, "", out);
    if (before.outputDb != after.outputDb)
        out.push_back(fmt::format("output {} to {} dB", figure(before.outputDb), figure(after.outputDb)));
    return out;
}

} // namespace gristle::core
