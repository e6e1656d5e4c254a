#include "core/mix/render/bus_network.h"

#include "core/measure/octave_meter.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <fmt/format.h>

namespace gristle::core {

namespace {

using Sides = BusNetwork::Sides;
constexpr std::size_t kBlock = BusNetwork::kBlock;

Sides emptyBlock() { return {std::vector<double>(kBlock, 0.0), std::vector<double>(kBlock, 0.0)}; }

/// Holds a stereo signal back by whole frames.
class StereoDelay {
public:
    StereoDelay() = default;
    explicit StereoDelay(std::size_t frames) : held_{std::vector<double>(frames), std::vector<double>(frames)} {}
    void through(Sides& block)
    {
        for (std::size_t c = 0; c < 2; ++c) {
            if (held_[c].empty()) continue;
            held_[c].insert(held_[c].end(), block[c].begin(), block[c].end());
            std::copy_n(held_[c].begin(), kBlock, block[c].begin());
            held_[c].erase(held_[c].begin(), held_[c].begin() + long(kBlock));
        }
    }

private:
    Sides held_;
};

void addTo(Sides& sum, const Sides& block, double gain)
{
    for (std::size_t c = 0; c < 2; ++c)
        for (std::size_t i = 0; i < kBlock; ++i) sum[c][i] += gain * block[c][i];
}

/// Power of a stereo signal, in all and by octave.
class StereoPower {
public:
    explicit StereoPower(int rateHz) : octaves_{OctaveMeter(rateHz), OctaveMeter(rateHz)} {}
    void push(const Sides& block)
    {
        for (std::size_t c = 0; c < 2; ++c) {
            for (std::size_t i = 0; i < kBlock; ++i) {
                squares_ += block[c][i] * block[c][i];
                samples_[i] = static_cast<float>(block[c][i]);
            }
            octaves_[c].push(samples_);
        }
    }
    double squares() const { return squares_; }
    double octave(std::size_t band) const { return octaves_[0].powers()[band] + octaves_[1].powers()[band]; }

private:
    double squares_ = 0.0;
    std::array<OctaveMeter, 2> octaves_;
    std::vector<float> samples_ = std::vector<float>(kBlock);
};

struct Edge {
    std::size_t to; ///< a node
    double gain;
    StereoDelay delay;
};

/// A bus, or the sum of all.
struct Node {
    explicit Node(std::string n) : name(std::move(n)) {}
    std::string name;
    std::optional<CompiledRig> rig;
    float fullScaleV = 1.0f;
    double gain = 1.0;
    std::vector<Edge> edges;
    std::size_t inLatency = 0; ///< of what arrives
    double tailS = 0.0;        ///< from here to the end
    StereoDelay early;         ///< for layers, which are early by that
    Sides fromLayers = emptyBlock(), in = emptyBlock(), out = emptyBlock();
    std::optional<StereoPower> inPower, outPower;

    std::size_t outLatency() const { return inLatency + (rig ? rig->latency() : 0); }

    void run()
    {
        early.through(fromLayers);
        addTo(in, fromLayers, 1.0);
        if (inPower) inPower->push(in);
        if (!rig) {
            for (std::size_t c = 0; c < 2; ++c)
                for (std::size_t i = 0; i < kBlock; ++i) out[c][i] = gain * in[c][i];
        } else {
            throughRig();
        }
        if (outPower) outPower->push(out);
        for (Sides* const used : {&fromLayers, &in})
            for (auto& side : *used) std::ranges::fill(side, 0.0);
    }

private:
    void throughRig()
    {
        std::array<std::vector<float>, 2> volts;
        for (std::size_t c = 0; c < 2; ++c) {
            volts[c].resize(kBlock);
            for (std::size_t i = 0; i < kBlock; ++i) volts[c][i] = static_cast<float>(in[c][i]) * fullScaleV;
        }
        AudioBlock block{{volts[0].data(), volts[1].data()}, 2, kBlock};
        rig->process(block);
        const double scale = gain / double(fullScaleV);
        for (std::size_t c = 0; c < 2; ++c)
            for (std::size_t i = 0; i < kBlock; ++i)
                out[c][i] = scale * double(volts[rig->outputChannels() == 2 ? c : 0][i]);
    }
};

Result<std::unique_ptr<Node>> nodeOf(const MixBus& bus, int rateHz, bool isMeasured)
{
    auto node = std::make_unique<Node>(bus.name);
    node->gain = dbToAmplitude(bus.gainDb);
    if (isMeasured) node->inPower.emplace(rateHz), node->outPower.emplace(rateHz);
    if (bus.rig.chain.empty() && bus.rig.outputDb == 0.0) return node;
    CompileOptions options;
    options.context = bus.context;
    options.context.rateHz = rateHz;
    options.context.fullScaleV = bus.scale.fullScaleVolts();
    options.maxBlock = kBlock;
    options.allowMissing = bus.allowMissing;
    options.channels = 2;
    auto rig = CompiledRig::compile(bus.rig, options);
    if (!rig) return rig.error();
    node->rig.emplace(std::move(*rig));
    node->fullScaleV = static_cast<float>(bus.scale.fullScaleVolts());
    return node;
}

/// Where a bus leads: its way on, and its sends.
std::vector<MixSend> waysOf(const MixBus& bus)
{
    std::vector<MixSend> out = bus.sends;
    if (bus.isHeard) out.push_back({bus.into, 0.0});
    return out;
}

/// The buses so that each stands before those it leads into. @error Usage where one feeds itself, with the way
Result<std::vector<std::size_t>> inOrder(const std::vector<MixBus>& buses)
{
    enum class Mark { New, Open, Done };
    std::vector<Mark> marks(buses.size(), Mark::New);
    std::vector<std::size_t> way, backwards;
    std::optional<Error> failure;
    const auto visit = [&](const auto& self, std::size_t bus) -> void {
        if (failure || marks[bus] == Mark::Done) return;
        way.push_back(bus);
        if (marks[bus] == Mark::Open) {
            std::string text;
            for (auto at = std::ranges::find(way, bus); at != way.end(); ++at)
                text += (text.empty() ? "" : " > ") + buses[*at].name;
            failure = Error{ErrorCode::Usage, "bus \"" + buses[bus].name + "\" feeds itself: " + text,
                            "lead one of them elsewhere"};
            return;
        }
        marks[bus] = Mark::Open;
        for (const MixSend& send : waysOf(buses[bus]))
            if (send.to < buses.size()) self(self, send.to);
        marks[bus] = Mark::Done;
        way.pop_back();
        backwards.push_back(bus);
    };
    for (std::size_t i = 0; i < buses.size(); ++i) visit(visit, i);
    if (failure) return *failure;
    return std::vector<std::size_t>(backwards.rbegin(), backwards.rend());
}

} // namespace

struct BusNetwork::State {
    std::vector<std::unique_ptr<Node>> nodes; ///< as the buses, then the sum
    std::vector<std::size_t> order;           ///< in which they run
    std::vector<std::string> warnings;

    Node& node(std::size_t bus) { return *nodes[std::min(bus, nodes.size() - 1)]; }

    void connect(const std::vector<MixBus>& buses)
    {
        for (const std::size_t from : order) {
            if (from >= buses.size()) continue;
            for (const MixSend& way : waysOf(buses[from])) {
                Node& to = node(way.to);
                to.inLatency = std::max(to.inLatency, nodes[from]->outLatency());
                nodes[from]->edges.push_back(
                    {std::min(way.to, buses.size()), dbToAmplitude(way.gainDb), StereoDelay()});
            }
        }
        for (auto at = order.rbegin(); at != order.rend(); ++at) {
            Node& from = *nodes[*at];
            from.early = StereoDelay(from.inLatency);
            for (Edge& edge : from.edges) {
                const Node& to = *nodes[edge.to];
                edge.delay = StereoDelay(to.inLatency - from.outLatency());
                from.tailS = std::max(from.tailS, to.tailS);
            }
            if (from.rig) from.tailS += from.rig->tailSeconds();
        }
    }
};

BusNetwork::BusNetwork(std::unique_ptr<State> state) : state_(std::move(state)) {}
BusNetwork::BusNetwork(BusNetwork&&) noexcept = default;
BusNetwork& BusNetwork::operator=(BusNetwork&&) noexcept = default;
BusNetwork::~BusNetwork() = default;

Result<BusNetwork> BusNetwork::make(const std::vector<MixBus>& buses, const MixBus& sum, int rateHz, bool isMeasured)
{
    auto state = std::make_unique<State>();
    auto order = inOrder(buses);
    if (!order) return order.error();
    state->order = std::move(*order);
    state->order.push_back(buses.size());
    for (std::size_t i = 0; i <= buses.size(); ++i) {
        auto node = nodeOf(i < buses.size() ? buses[i] : sum, rateHz, isMeasured);
        if (!node) return node.error();
        if ((*node)->rig) std::ranges::copy((*node)->rig->warnings(), std::back_inserter(state->warnings));
        state->nodes.push_back(std::move(*node));
    }
    state->connect(buses);
    return BusNetwork(std::move(state));
}

std::size_t BusNetwork::latency() const noexcept { return state_->nodes.back()->outLatency(); }

double BusNetwork::tailSeconds() const noexcept
{
    double out = 0.0;
    for (const auto& node : state_->nodes) out = std::max(out, node->tailS);
    return out;
}

const std::vector<std::string>& BusNetwork::warnings() const noexcept { return state_->warnings; }

BusNetwork::Sides& BusNetwork::input(std::size_t bus) noexcept { return state_->node(bus).fromLayers; }

const BusNetwork::Sides& BusNetwork::run()
{
    for (const std::size_t at : state_->order) {
        Node& node = *state_->nodes[at];
        node.run();
        for (Edge& edge : node.edges) {
            Sides copy = node.out;
            edge.delay.through(copy);
            addTo(state_->nodes[edge.to]->in, copy, edge.gain);
        }
    }
    return state_->nodes.back()->out;
}

std::vector<JoinFigures> BusNetwork::joins(std::vector<Came> came) const
{
    for (const auto& from : state_->nodes)
        for (const Edge& edge : from->edges) {
            Came& into = came[edge.to];
            const double power = edge.gain * edge.gain;
            into.squares += power * from->outPower->squares();
            into.count += from->outPower->squares() > 0.0 ? 1 : 0;
            for (std::size_t b = 0; b < into.octaves.size(); ++b) into.octaves[b] += power * from->outPower->octave(b);
        }
    static constexpr double kNothing = 1e-30, kMostDb = 100.0; // more than that is silence
    const auto loss = [](double apart, double sum) {
        return apart > kNothing ? std::min(kMostDb, powerToDb(apart / std::max(sum, kNothing))) : 0.0;
    };
    std::vector<JoinFigures> out;
    for (std::size_t i = 0; i < state_->nodes.size(); ++i) {
        const Node& node = *state_->nodes[i];
        JoinFigures join{node.name, loss(came[i].squares, node.inPower->squares()), {}, came[i].count};
        for (std::size_t b = 0; b < join.octaveLossDb.size(); ++b)
            join.octaveLossDb[b] = loss(came[i].octaves[b], node.inPower->octave(b));
        out.push_back(std::move(join));
    }
    return out;
}

} // namespace gristle::core
