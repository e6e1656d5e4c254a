#include "app/models/capture.h"

#include "app/models/preferences.h"
#include "core/mix/render/session_mix.h"
#include "core/stereo/pan_law.h"
#include "core/units/calibrate.h"
#include "engine/runs/loop_ping.h"

#include <algorithm>
#include <cmath>

namespace gristle::app {

using namespace core;

namespace {

QString text(const std::string& s) { return QString::fromStdString(s); }

} // namespace

Capture::Capture(SessionModel& session, Audition& audition, QObject* parent)
    : QObject(parent), session_(session), audition_(audition), hearing_(session, audition),
      run_(session, audition, *this), player_(session, audition), tuner_(audition), meters_(audition.recorder())
{
    connect(&player_, &SimulatedPlayer::changed, this, [this] {
        clearClips();
        emit changed();
    });
    connect(&player_, &SimulatedPlayer::passed, this, &Capture::poll);
    connect(&tuner_, &TunerEar::heard, this, &Capture::metered);
    connect(&hearing_, &LiveHearing::failed, this, &Capture::failed);
    connect(&run_, &TakeRun::changed, this, &Capture::changed);
    connect(&run_, &TakeRun::failed, this, &Capture::failed);
    timer_.setTimerType(Qt::PreciseTimer);
    timer_.setInterval(kLookEveryMs);
    connect(&timer_, &QTimer::timeout, this, &Capture::poll);
    connect(&audition_, &Audition::deviceChanged, this, [this] {
        if (isBusy()) stop();
        tone_ = false;
        hearing_.forget();
        meters_.restart();
        input_ = std::min(input_, inputs() > 0 ? inputs() - 1 : 0);
        applyHearing();
        player_.learn();
        if (isOpen())
            timer_.start();
        else
            timer_.stop();
        emit changed();
    });
    for (auto signal : {&SessionModel::rigChanged, &SessionModel::takesChanged, &SessionModel::placingChanged})
        connect(&session_, signal, this, &Capture::applyHearing);
    connect(&session_, &SessionModel::pathChanged, this, [this] {
        setAlso({});
        player_.learn();
    });
    connect(&session_, &SessionModel::takesKept, &player_, &SimulatedPlayer::learn);
    connect(&session_, &SessionModel::closing, this, [this] {
        stop();
        setHear(Hear::Nothing);
    });
}

Capture::~Capture()
{
    deviceStop_.request_stop();
    device_.cancel();
    look_.cancel();
    disconnect(&audition_, nullptr, this, nullptr);
}

void Capture::lookForDevices()
{
    if (isBusy() || inStep_) return; // some systems are disturbed by the question
    look_.run<std::vector<engine::DeviceInfo>>(
        tr("Looking for interfaces"), [](const Progress&) { return engine::listDevices(); },
        [this](std::vector<engine::DeviceInfo> found) {
            devices_ = std::move(found);
            if (session_.isOpen()) ensureOpen();
            emit changed();
        });
}

bool Capture::isOpen() const { return audition_.device() && audition_.device()->isRunning() && inputs() > 0; }
std::size_t Capture::inputs() const { return audition_.device() ? audition_.device()->inputs() : 0; }
double Capture::rateHz() const { return audition_.rateHz(); }
bool Capture::isSimulated() const { return audition_.device() && audition_.device()->isSimulated(); }

void Capture::chooseDevice(const QString& id)
{
    if (isBusy()) stop();
    wish_.id = id.toStdString();
    roundTrip_.reset();
    open();
}

void Capture::chooseBuffer(std::size_t frames)
{
    if (frames == wish_.bufferFrames) return;
    if (isBusy()) stop();
    wish_.bufferFrames = frames;
    roundTrip_.reset();
    open();
}

void Capture::open()
{
    if (devices_.empty()) devices_ = engine::listDevices();
    auto at = std::ranges::find(devices_, wish_.id, &engine::DeviceInfo::id);
    if (wish_.id.empty()) {
        at = std::ranges::find_if(devices_, [](const auto& d) { return d.isDefault && d.inputs > 0; });
        if (at == devices_.end()) at = std::prev(devices_.end()); // the simulated one stands last
        wish_.id = at->id;
    }
    wish_.inputs = at == devices_.end() ? 1 : std::min<std::size_t>(at->inputs, engine::Recorder::kMostChannels);
    const bool direct = hasDirectMonitor(text(wish_.id));
    if (direct != (hear_ == Hear::Direct)) hear_ = direct ? Hear::Direct : Hear::Nothing;
    audition_.openDevice(wish_, [this](const Outcome& opened) {
        if (!opened) emit failed(text(opened.error().message), text(opened.error().remedy));
        emit changed();
    });
}

void Capture::ensureOpen()
{
    if (!isOpen() && !isOpening()) open();
}

void Capture::setInput(std::size_t input)
{
    if (input >= inputs() || input == input_) return;
    input_ = input;
    clearClips();
    applyHearing();
    emit changed();
}

void Capture::setHear(Hear hear)
{
    hear_ = hear;
    if (!wish_.id.empty()) rememberDirectMonitor(text(wish_.id), hear == Hear::Direct);
    applyHearing();
    emit changed();
}

void Capture::setHearLevelDb(double db)
{
    hearDb_ = std::clamp(db, -60.0, 12.0);
    if (auto* chain = audition_.chain()) chain->setGain(float(dbToAmplitude(hearDb_)));
    emit changed();
}

void Capture::applyHearing() { hearing_.apply({hear_, hearDb_, input_, also_}); }

void Capture::setAlso(const std::vector<AlsoRecord>& also)
{
    also_ = also;
    clearClips();
    applyHearing();
    emit changed();
}

std::vector<std::size_t> Capture::recordedInputs() const
{
    std::vector<std::size_t> out{input_};
    for (const AlsoRecord& a : also_)
        if (a.input < inputs() && std::ranges::find(out, a.input) == out.end()) out.push_back(a.input);
    return out;
}

std::optional<double> Capture::delayMs() const
{
    const auto* device = audition_.device();
    if (!device || device->inputs() == 0 || hear_ == Hear::Direct) return std::nullopt;
    const double own = double(audition_.latency()) + (audition_.chain() ? double(audition_.chain()->latency()) : 0.0);
    if (roundTrip_) return 1000.0 * (roundTrip_->delaySamples + own) / device->rateHz();
    const std::int64_t told = roundTripFrames();
    if (told == 0) return std::nullopt;
    return 1000.0 * (double(told) + own) / device->rateHz();
}

std::int64_t Capture::roundTripFrames() const
{
    if (roundTrip_) return std::llround(roundTrip_->delaySamples);
    const auto* device = audition_.device();
    if (!device) return 0;
    const std::size_t reported = device->latencyFrames();
    return std::int64_t(reported > 0 ? reported : 2 * device->bufferFrames());
}

bool Capture::withDevice(const QString& title, DeviceWork work)
{
    if (isBusy() || isInStep() || !isOpen() || device_.isBusy()) return false;
    struct Answer {
        std::unique_ptr<engine::AudioDevice> device;
        std::function<void()> then;
        std::optional<Error> failure;
    };
    audition_.setPlaying(false);
    const engine::DeviceWish wish{wish_.id, rateHz(), wish_.bufferFrames, inputs()};
    auto line = audition_.takeLine(); // some systems give a device to one stream only
    deviceStop_ = std::stop_source();
    device_.run<std::shared_ptr<Answer>>(
        title,
        [wish, work = std::move(work), line = std::move(line), stop = deviceStop_.get_token()](const Progress& p) {
            auto out = std::make_shared<Answer>();
            if (line->device) line->device->stop();
            if (line->device && line->device->isSimulated()) { // with the room that it stands in
                out->device = std::move(line->device);
            } else {
                line->device.reset();
                auto device = engine::openDevice(wish);
                if (!device) {
                    out->failure = device.error();
                    return out;
                }
                out->device = std::move(*device);
            }
            out->then = work(*out->device, {stop, p.report});
            return out;
        },
        [this](std::shared_ptr<Answer> answer) {
            if (answer->device && answer->device->isSimulated()) {
                audition_.setDevice(std::move(answer->device));
            } else {
                answer->device.reset();
                open();
            }
            if (answer->failure)
                emit failed(text(answer->failure->message), text(answer->failure->remedy));
            else
                answer->then();
            emit changed();
        });
    emit changed();
    return true;
}

void Capture::ping()
{
    (void)withDevice(tr("Measuring the round trip"),
                     [this, input = input_](engine::AudioDevice& device, const Progress& p) -> std::function<void()> {
                         return [this, found = engine::pingLoop(device, {.input = input}, p.stop)] {
                             if (!found) return emit failed(text(found.error().message), text(found.error().remedy));
                             roundTrip_ = *found;
                             emit changed();
                             emit pinged(roundTrip_->delaySamples);
                         };
                     });
}

void Capture::setTone(bool on)
{
    tone_ = on && audition_.chain();
    if (auto* chain = audition_.chain())
        chain->setTone(kTestToneHz, tone_ ? float(dbToAmplitude(kTestToneDbfs)) : 0.0f);
    emit changed();
}

void Capture::record(const std::optional<RunWish>& once)
{
    if (!session_.isOpen() || isBusy() || inStep_) return;
    ensureOpen();
    if (!isOpen()) return;
    clearClips();
    drift_.start();
    run_.begin(once);
    emit changed();
}

void Capture::setCountIn(int bars)
{
    RunWish wish = run_.wish();
    wish.shape.countInBars = bars;
    run_.setWish(wish);
}

void Capture::stop()
{
    if (isBusy()) run_.stop();
    emit changed();
}

std::size_t Capture::gaps() const { return run_.isRunning() ? audition_.recorder().gaps() : 0; }

std::optional<double> Capture::minutesLeft() const
{
    if (!session_.isOpen()) return std::nullopt;
    const auto s = engine::secondsLeft(session_.folder().path(),
                                       {int(rateHz()), recordedInputs().size(), SampleFormat::Int24, {}, {}});
    return s ? std::optional(*s / 60.0) : std::nullopt;
}

std::vector<std::size_t> Capture::stepInputs() const
{
    const std::size_t first = input_ - input_ % 2;
    if (first + 1 < inputs()) return {first, first + 1};
    return {input_};
}

bool Capture::recordStep(const std::filesystem::path& file)
{
    if (isBusy() || inStep_) return false;
    ensureOpen();
    if (!isOpen()) return false;
    engine::RecordPlan plan;
    plan.file = file;
    plan.inputs = stepInputs();
    plan.format = {int(rateHz()), plan.inputs.size(), SampleFormat::Float32, {}, {}};
    std::error_code ignored;
    std::filesystem::remove(file, ignored);
    std::filesystem::create_directories(file.parent_path(), ignored);
    clearClips();
    if (const auto started = audition_.recorder().start(plan); !started) {
        emit failed(text(started.error().message), text(started.error().remedy));
        return false;
    }
    inStep_ = true;
    emit changed();
    return true;
}

engine::RecordReport Capture::finishStep()
{
    inStep_ = false;
    const auto report = audition_.recorder().finish();
    emit changed();
    return report;
}

void Capture::poll()
{
    auto* device = audition_.device();
    if (!device) return;
    if (!device->isRunning()) { // it was there and is not any more
        timer_.stop();
        const QString kept =
            run_.isRunning() ? tr(": the take is kept up to %1 s").arg(recordedS(), 0, 'f', 1) : QString();
        if (isBusy()) stop();
        if (inStep_) finishStep();
        emit failed(tr("%1 %2%3").arg(text(device->name()), text(device->endedBecause()), kept),
                    tr("see that it is plugged in and at its rate, then choose it anew"));
        emit changed();
        return;
    }
    if (!meters_.look(recordedInputs(), rateHz())) return;
    if (isRecording() && session_.take())
        if (const auto reference = session_.measurements().loudDbfs(*session_.take()))
            drift_.look(meters_.reading().averageDbfs, *reference);
    if (!inStep_) tuner_.look(input_, rateHz(), meters_.silentS() > 0.0);
    run_.poll();
    emit metered();
}

void Capture::useTestClock()
{
    devices_ = engine::listDevices();
    wish_.id = devices_.back().id;
    player_.useTestClock();
}

} // namespace gristle::app
