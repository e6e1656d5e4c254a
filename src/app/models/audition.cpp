#include "app/models/audition.h"

#include "core/audio/resampler.h"
#include "core/measure/loudness.h"
#include "core/mix/render/render.h"

#include <algorithm>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kPrerollS = 0.1; // what a loop's end fades into
constexpr std::size_t kMomentaryFrames = 40;
constexpr std::size_t kPeakFrames = 3;

} // namespace

/// Rendered slots, on their way from the worker.
struct Audition::Prepared {
    std::shared_ptr<engine::Program> program;
    std::vector<double> gainsDb;
    std::shared_ptr<LivePart> live;
    std::optional<Error> failure;
};

bool Audition::LivePart::fits(const LayerRecipe& other, double from, double to, double rate) const
{
    return recipe.file == other.file && recipe.channelFromOne == other.channelFromOne &&
           recipe.pieces == other.pieces && recipe.earlierS == other.earlierS &&
           recipe.input.fullScaleVolts() == other.input.fullScaleVolts() &&
           recipe.output.fullScaleVolts() == other.output.fullScaleVolts() &&
           recipe.context.folder == other.context.folder && from == fromS && to == toS && rate == rateHz;
}

Result<std::shared_ptr<CompiledRig>> Audition::LivePart::compiled(const RigDocument& document) const
{
    CompileOptions options;
    options.context = recipe.context;
    options.context.rateHz = rateHz;
    options.context.fullScaleV = recipe.input.fullScaleVolts();
    options.maxBlock = engine::Player::kMostFrames;
    options.allowMissing = true;
    options.live = true;
    auto made = CompiledRig::compile(document, options);
    if (!made) return made.error();
    return std::make_shared<CompiledRig>(std::move(*made));
}

Result<std::shared_ptr<Audition::LivePart>> Audition::LivePart::make(const LayerRecipe& recipe, double fromS,
                                                                     double toS, double rateHz)
{
    auto out = std::make_shared<LivePart>();
    out->recipe = recipe;
    out->fromS = fromS, out->toS = toS, out->rateHz = rateHz;
    LayerRecipe dry = recipe;
    dry.rig = {};
    dry.startS = fromS, dry.endS = toS;
    RenderReport ignored;
    auto di = renderToMemory(dry, ignored, {});
    if (!di) return di.error();
    out->di = std::make_shared<Recording>(resampled(*di, int(rateHz)));
    auto rig = out->compiled(recipe.rig);
    if (!rig) return rig.error();
    out->rig = std::make_shared<engine::RigSwap>(std::move(*rig), rateHz, engine::Player::kMostFrames);
    return out;
}

Audition::Audition(std::shared_ptr<RenderCache> cache, QObject* parent) : QObject(parent), cache_(std::move(cache))
{
    for (TaskRunner* t : {&task_, &opening_, &swap_}) t->setUrgent();
    timer_.setInterval(33);
    connect(&timer_, &QTimer::timeout, this, &Audition::poll);
}

Audition::~Audition()
{
    opening_.waitForDone();
    swap_.cancel();
    task_.cancel();
    if (line_.device) line_.device->stop();
    recorder_.finish();
}

namespace {

Result<Line> startLine(std::unique_ptr<engine::AudioDevice> device, engine::Recorder& recorder)
{
    Line line;
    line.player = std::make_unique<engine::Player>(device->rateHz());
    line.chain = std::make_unique<engine::LiveChain>(recorder, device->rateHz());
    line.player->setOverlay(line.chain.get());
    line.device = std::move(device);
    if (const auto started = line.device->start(*line.player, line.chain.get()); !started) return started.error();
    return line;
}

void close(Line& line)
{
    if (line.device) line.device->stop();
    line = {};
}

} // namespace

void Audition::setDevice(std::unique_ptr<engine::AudioDevice> device)
{
    close(line_);
    if (device)
        use(startLine(std::move(device), recorder_));
    else
        emit deviceChanged();
}

void Audition::use(Result<Line> line)
{
    close(line_);
    if (line) {
        line_ = std::move(*line);
        rateHz_ = line_.device->rateHz();
        line_.player->setPlaying(playing_);
        line_.player->setMono(mono_);
        gains_.clear(); // the new player has no program yet
    } else {
        emit failed(QString::fromStdString(line.error().message), QString::fromStdString(line.error().remedy));
    }
    emit deviceChanged();
    prepare();
}

std::shared_ptr<Line> Audition::takeLine()
{
    auto line = std::make_shared<Line>(std::move(line_));
    line_ = {};
    emit deviceChanged();
    return line;
}

void Audition::openDevice(engine::DeviceWish wish, std::function<void(Outcome)> done)
{
    wish.rateHz = wantedRate_;
    setPlaying(false);
    auto line = takeLine(); // some systems give a device to one stream only
    using Opened = std::shared_ptr<Result<Line>>;
    const auto open = [wish, line, recorder = &recorder_](const Progress&) {
        close(*line);
        auto device = engine::openDevice(wish);
        return std::make_shared<Result<Line>>(device ? startLine(std::move(*device), *recorder)
                                                     : Result<Line>(device.error()));
    };
    const auto answer = [this, done](Opened opened) {
        if (!*opened) return done(opened->error());
        deviceNote_.clear();
        use(std::move(*opened));
        done(Done{});
    };
    // Never here: a system may take its time, and the simulated player has his part to learn.
    opening_.run<Opened>(tr("Opening the interface"), open, answer);
}

void Audition::setRate(double rateHz)
{
    if (rateHz <= 0.0 || rateHz == wantedRate_) return;
    wantedRate_ = rateHz;
    if (!device() || device()->rateHz() == rateHz) return;
    clear();
    setDevice(nullptr); // opened anew at the session's rate when something is to be heard
}

void Audition::ensureDevice()
{
    if (device() || isOpening()) return;
    struct Opened {
        Result<Line> line;
        std::string told;
    };
    const auto open = [rate = wantedRate_, recorder = &recorder_](const Progress&) {
        std::string told;
        auto device = engine::openDefaultOutput(rate, told);
        return std::make_shared<Opened>(Opened{startLine(std::move(device), *recorder), told});
    };
    const auto answer = [this](std::shared_ptr<Opened> opened) {
        deviceNote_ = QString::fromStdString(opened->told);
        use(std::move(opened->line));
        if (!opened->told.empty()) emit changed();
    };
    if (engine::isHardware({}))
        opening_.run<std::shared_ptr<Opened>>(tr("Opening the output"), open, answer);
    else
        answer(open({}));
}

void Audition::clear()
{
    task_.cancel();
    setPlaying(false);
    request_ = {};
    gains_.clear();
    if (line_.player) line_.player->setProgram(nullptr);
    emit changed();
}

void Audition::request(AuditionRequest request, double fromS, double toS)
{
    ensureDevice();
    const bool sameSlots = request.kind == request_.kind && request.slots_.size() == request_.slots_.size();
    request_ = std::move(request);
    if (!sameSlots || slot_ >= request_.slots_.size()) {
        slot_ = request_.active;
        gains_.clear();
    }
    fromS_ = fromS;
    toS_ = toS;
    emit changed();
    changeLive();
    prepare();
}

/// Where the slot that is heard live has only got another rig, that is swapped in at once; its loudness comes later.
void Audition::changeLive()
{
    if (!live_ || !device()) return;
    const double from = fromS_ - std::min(kPrerollS, fromS_);
    for (const SlotRequest& s : request_.slots_) {
        if (!s.live || !live_->fits(*s.live, from, toS_, rateHz_) || s.live->rig == live_->recipe.rig) continue;
        live_->recipe.rig = s.live->rig;
        using Compiled = std::shared_ptr<Result<std::shared_ptr<CompiledRig>>>;
        swap_.run<Compiled>(
            tr("Preparing the rig"),
            [part = std::make_shared<LivePart>(*live_)](const Progress&) {
                return std::make_shared<Compiled::element_type>(part->compiled(part->recipe.rig));
            },
            [rig = live_->rig](Compiled made) {
                if (*made) rig->set(std::move(**made)); // what is wrong is told by the rendering
            });
    }
}

/// Renders the slots for the device that runs; where one is still being opened, use() comes back here.
void Audition::prepare()
{
    if (request_.slots_.empty() || !device()) return;
    const double preroll = std::min(kPrerollS, fromS_);
    const int rate = static_cast<int>(rateHz_);
    task_.run<std::shared_ptr<Prepared>>(
        tr("Preparing what is heard"),
        [parts = request_.slots_, fromS = fromS_, toS = toS_, preroll, rate, live = live_,
         cache = cache_](const Progress& progress) {
            auto out = std::make_shared<Prepared>();
            out->program = std::make_shared<engine::Program>();
            std::vector<std::optional<double>> loudness;
            for (std::size_t i = 0; i < parts.size(); ++i) {
                auto rendered = renderSound(parts[i].sound, fromS - preroll, toS, *cache, {progress.stop, nullptr});
                if (!rendered) {
                    out->failure = rendered.error();
                    return out;
                }
                auto recording = (*rendered)->sampleRateHz == rate
                                     ? *rendered
                                     : std::make_shared<const Recording>(resampled(**rendered, rate));
                loudness.push_back(integratedLoudness(recording->audio, rate));
                out->program->entries.push_back({std::move(recording), 1.0f});
                if (parts[i].live) {
                    const LayerRecipe& recipe = *parts[i].live;
                    out->live = live;
                    if (!live || !live->fits(recipe, fromS - preroll, toS, rate)) {
                        auto made = LivePart::make(recipe, fromS - preroll, toS, rate);
                        if (!made) {
                            out->failure = made.error();
                            return out;
                        }
                        out->live = std::move(*made);
                    }
                    engine::Slot& slot = out->program->entries.back();
                    slot.recording = out->live->di;
                    slot.rig = out->live->rig;
                    slot.fullScaleV = recipe.output.fullScaleVolts();
                    slot.outputScale = 1.0 / slot.fullScaleV;
                }
                progress.at(double(i + 1) / double(parts.size()));
            }
            std::optional<double> softest; // the others are turned down to it: matching never adds level
            for (const auto& l : loudness)
                if (l) softest = std::min(softest.value_or(*l), *l);
            std::size_t frames = 0;
            for (std::size_t i = 0; i < loudness.size(); ++i) {
                const double gain = loudness[i] ? *softest - *loudness[i] : 0.0;
                out->gainsDb.push_back(gain);
                out->program->entries[i].gain = static_cast<float>(dbToAmplitude(gain));
                frames = std::max(frames, out->program->entries[i].recording->audio.frames());
            }
            out->program->loopStart = static_cast<std::size_t>(preroll * rate);
            out->program->loopEnd = std::max(out->program->loopStart + 1, frames);
            return out;
        },
        [this](std::shared_ptr<Prepared> prepared) {
            if (prepared->failure) {
                if (prepared->failure->code != ErrorCode::Cancelled)
                    emit failed(QString::fromStdString(prepared->failure->message),
                                QString::fromStdString(prepared->failure->remedy));
                return;
            }
            if (!line_.player) return;
            gains_ = prepared->gainsDb;
            live_ = prepared->live;
            line_.player->setSlot(slot_);
            line_.player->setProgram(std::move(prepared->program));
            emit changed();
        });
}

void Audition::setPlaying(bool on)
{
    if (on) ensureDevice();
    playing_ = on;
    if (line_.player) line_.player->setPlaying(on);
    if (on) timer_.start();
    emit changed();
}

void Audition::setSlot(std::size_t index)
{
    if (index >= request_.slots_.size()) return;
    slot_ = index;
    if (line_.player) line_.player->setSlot(index);
    emit changed();
}

void Audition::setMono(bool on)
{
    mono_ = on;
    if (line_.player) line_.player->setMono(on);
    emit changed();
}

std::optional<double> Audition::matchingGainDb(std::size_t index) const
{
    return index < gains_.size() ? std::optional<double>(gains_[index]) : std::nullopt;
}

void Audition::poll()
{
    if (!line_.player) return;
    engine::MeterFrame frame;
    while (line_.player->readMeter(frame)) {
        frames_.push_back(frame);
        if (frames_.size() > kMomentaryFrames) frames_.pop_front();
    }
    if (frames_.empty()) return;
    OutputReading r;
    double squares[2] = {}, product = 0.0, weighted = 0.0, count = 0.0;
    float peak[2] = {}, limiter = 1.0f;
    for (std::size_t i = 0; i < frames_.size(); ++i) {
        const auto& f = frames_[i];
        for (int c = 0; c < 2; ++c) squares[c] += f.squares[c];
        product += f.product;
        weighted += f.weighted;
        count += f.frames;
        limiter = std::min(limiter, f.limiterGain);
        if (i + kPeakFrames >= frames_.size())
            for (int c = 0; c < 2; ++c) peak[c] = std::max(peak[c], f.peak[c]);
    }
    for (int c = 0; c < 2; ++c) {
        r.peakDbfs[c] = std::max(-100.0, amplitudeToDb(double(peak[c])));
        r.rmsDbfs[c] = std::max(-100.0, powerToDb(2.0 * squares[c] / count));
    }
    if (const double lufs = LoudnessMeter::toLufs(weighted / count); lufs > -70.0) r.momentaryLufs = lufs;
    if (squares[0] > 0.0 && squares[1] > 0.0) r.correlation = product / std::sqrt(squares[0] * squares[1]);
    r.limiterDb = amplitudeToDb(double(limiter));
    r.positionS = fromS_ + double(frames_.back().position) / rateHz_ - std::min(kPrerollS, fromS_);
    reading_ = r;
    emit metered();
    if (!playing_ && !r.momentaryLufs) timer_.stop();
}

} // namespace gristle::app
