#include "core/rig/nodes/nodes.h"

#include "core/signal/fractional_delay.h"
#include "core/units/musical_time.h"

#include <cmath>

namespace gristle::core {

namespace {

class Delay final : public NodeProcessor {
public:
    Delay(double seconds, double feedback, double mix)
        : seconds_(seconds), feedback_(static_cast<float>(feedback)), mix_(static_cast<float>(mix))
    {}
    void prepare(const PrepareSpec& spec) override
    {
        lines_.assign(spec.channels, {});
        for (auto& line : lines_) line.prepare(seconds_ * spec.rateHz);
    }
    void reset() noexcept override
    {
        for (auto& line : lines_) line.reset();
    }
    double tailSeconds() const noexcept override
    {
        if (feedback_ <= 0.0f) return seconds_;
        return seconds_ * (1.0 + std::ceil(-90.0 / (20.0 * std::log10(double(feedback_)))));
    }
    void process(AudioBlock& block) noexcept override
    {
        for (std::size_t c = 0; c < block.channels; ++c) {
            FractionalDelay& line = lines_[c];
            float* const x = block.channel[c];
            for (std::size_t i = 0; i < block.frames; ++i) {
                const float wet = static_cast<float>(line.read());
                line.write(x[i] + feedback_ * wet);
                x[i] = (1.0f - mix_) * x[i] + mix_ * wet;
            }
        }
    }

private:
    double seconds_;
    float feedback_, mix_;
    std::vector<FractionalDelay> lines_;
};

} // namespace

NodeType delayNode()
{
    return {.type = "delay",
            .title = "Delay",
            .about = "Echoes at a time or a note value. Repeats are neither filtered nor modulated.",
            .channels = "any",
            .parameters = {{.key = "time",
                            .label = "time",
                            .unit = "ms",
                            .kind = ParameterKind::Time,
                            .min = 0.001,
                            .max = 5.0,
                            .initial = "1/8d",
                            .scale = Scale::Logarithmic,
                            .about = "433ms, 0.433s, or a note value of the tempo: 1/4, 1/8d, 1/8t"},
                           {.key = "tempo",
                            .label = "tempo",
                            .unit = "BPM",
                            .min = 20.0,
                            .max = 400.0,
                            .initial = "120",
                            .about = "quarter notes a minute, for note values"},
                           {.key = "feedback",
                            .label = "feedback",
                            .min = 0.0,
                            .max = 0.98,
                            .initial = "0.35",
                            .about = "ratio of one repeat to the one before"},
                           {.key = "mix",
                            .label = "mix",
                            .min = 0.0,
                            .max = 1.0,
                            .initial = "0.2",
                            .about = "(1 - mix) dry + mix wet"}},
            .make = [](const ParameterValues& v, const NodeContext&) -> Result<std::unique_ptr<NodeProcessor>> {
                const auto time = MusicalTime::parse(textOf(v, "time"));
                if (!time) return time.error();
                const double seconds = time->seconds(numberOf(v, "tempo"));
                if (seconds < 0.001 || seconds > 20.0)
                    return Error{ErrorCode::Usage,
                                 "delay time=" + time->text() + ": at this tempo it lasts " + std::to_string(seconds) +
                                     " s",
                                 "take a note value between 1 ms and 20 s"};
                return std::unique_ptr<NodeProcessor>(
                    std::make_unique<Delay>(seconds, numberOf(v, "feedback"), numberOf(v, "mix")));
            }};
}

} // namespace gristle::core
