#include "app/models/capture.h"

#include "app/models/preferences.h"
#include "core/measure/vu.h"
#include "core/mix/session_mix.h"
#include "core/stereo/pan_law.h"
#include "core/units/calibrate.h"
#include "engine/loop_ping.h"
#include "engine/simulated_device.h"
#include "engine/standard_room.h"

#include <algorithm>
#include <cmath>

namespace gristle::app {

using namespace core;

namespace {

constexpr int kLookEveryMs = 30;
constexpr int kPlayedBars = 8;         // that the simulated player knows of a part
constexpr double kNothingDbfs = -70.0; // a peak below that is an input's own noise
constexpr double kNeedleS = 0.065;     // 99 % in 300 ms
constexpr double kDriftOverS = 30.0, kDriftFromS = 3.0;
constexpr double kPlaysWithinDb = 30.0; // as findPlaying()

QString text(const std::string& s) { return QString::fromStdString(s); }

} // namespace

Capture::Capture(SessionModel& session, Audition& audition, QObject* parent)
    : QObject(parent), session_(session), audition_(audition), hearing_(session, audition),
      run_(session, audition, *this)
{
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
        silentS_ = 0.0;
        input_ = std::min(input_, inputs() > 0 ? inputs() - 1 : 0);
        applyHearing();
        teachPlayer();
        if (isOpen())
            timer_.start();
        else
            timer_.stop();
        emit changed();
    });
    connect(&session_, &SessionModel::rigChanged, this, &Capture::applyHearing);
    connect(&session_, &SessionModel::pathChanged, this, [this] {
        setAlso({});
        teachPlayer();
    });
    connect(&session_, &SessionModel::takesKept, this, &Capture::teachPlayer);
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
    practice_.cancel();
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

engine::SimulatedRoom* Capture::room() const
{
    auto* simulated = dynamic_cast<engine::SimulatedDevice*>(audition_.device());
    return simulated ? simulated->room() : nullptr;
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

void Capture::turnPreamp(double byDb)
{
    if (auto* at = room()) at->setGainDb(at->gainDb() + byDb);
    clearClips();
    emit changed();
}

std::optional<double> Capture::preampDb() const
{
    const auto* at = room();
    return at ? std::optional(at->gainDb()) : std::nullopt;
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
    played_.clear();
    drift_.reset();
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

void Capture::clearClips()
{
    clipsBefore_ = audition_.recorder().level(input_).clipped;
    reading_.clipped = 0;
    others_.clear();
    othersClippedBefore_.clear();
}

void Capture::meterOthers()
{
    for (const std::size_t input : recordedInputs()) {
        if (input == input_) continue;
        const engine::InputLevel level = audition_.recorder().level(input);
        HeldLevel& held = others_[input];
        held.peakDbfs = std::max(held.peakDbfs, amplitudeToDb(double(level.peak)));
        held.clipped = level.clipped - othersClippedBefore_.try_emplace(input, level.clipped).first->second;
    }
}

std::function<std::vector<float>()> Capture::playersPart(std::uint32_t seed) const
{
    engine::Playing what;
    what.part = session_.part()->name;
    what.bars = kPlayedBars;
    what.tempoBpm = session_.song()->tempoBpm;
    what.quartersPerBar = session_.song()->quartersPerBar();
    what.tuning = session_.song()->tuning;
    what.restBeforeS = session_.barSeconds(); // the first bar rests
    what.restAfterS = session_.barSeconds();
    what.seed = seed;
    what.lateBar = playerDrag_ > 1 ? playerDrag_ - 1 : 0; // of the song; he begins with bar 2
    const double rate = rateHz();
    const auto frames = std::size_t((kPlayedBars + 2) * session_.barSeconds() * rate);
    return [what, rate, frames] {
        auto volts = engine::simulatedPerformance(what, rate);
        volts.resize(frames); // whole bars, the last one a rest
        return volts;
    };
}

/// The simulated interface's player learns the part in hand: its tempo, its tuning, and what its name says. Each take
/// is another try.
void Capture::teachPlayer()
{
    const auto* device = dynamic_cast<engine::SimulatedDevice*>(audition_.device());
    if (!device || !device->room() || device->clock() != engine::SimulatedDevice::Clock::RealTime ||
        !session_.isOpen() || !session_.part() || !session_.song())
        return;
    const std::size_t tries = session_.layer() ? session_.layer()->takes.size() + 20 * session_.path().layer : 0;
    practice_.run<std::vector<float>>(
        tr("The simulated player learns the part"),
        [play = playersPart(std::uint32_t(tries) + 1)](const Progress&) { return play(); },
        [this, rate = rateHz()](std::vector<float> volts) {
            auto* const at = room();
            if (at && at->rateHz() == rate && !isBusy()) at->setPerformance(std::move(volts));
        });
}

void Capture::setPlayerDrag(int bar)
{
    if (bar == playerDrag_) return;
    playerDrag_ = bar;
    teachPlayer();
    emit changed();
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
    const engine::InputLevel level = audition_.recorder().level(input_);
    if (level.frames == 0) return;
    lookS_ = double(level.frames) / rateHz();
    needle_ += (level.rectified - needle_) * (1.0 - std::exp(-lookS_ / kNeedleS));
    reading_.peakDbfs = std::max(-200.0, amplitudeToDb(double(level.peak)));
    // A sine's rectified mean is 2 / pi of its peak, and its peak is its AES17 level.
    reading_.averageDbfs = std::max(-200.0, amplitudeToDb(needle_ * std::numbers::pi / 2.0));
    reading_.clipped = level.clipped - clipsBefore_;
    silentS_ = reading_.peakDbfs > kNothingDbfs ? 0.0 : silentS_ + lookS_;
    watchDrift();
    listenForNote();
    meterOthers();
    run_.poll();
    emit metered();
}

void Capture::setListening(bool on)
{
    isListening_ = on;
    sounding_.clear();
    pitch_.reset();
}

/// Some 5 ms of work for each look at 48 kHz.
void Capture::listenForNote()
{
    constexpr double kSoundingS = 0.3, kEveryS = 0.15;
    auto* chain = audition_.chain();
    if (!isListening_ || inStep_ || !chain) return;
    chain->setTap(input_);
    std::array<float, 4096> block;
    while (const std::size_t n = chain->readTap(block)) {
        sounding_.insert(sounding_.end(), block.begin(), block.begin() + long(n));
        sinceNote_ += n;
    }
    const auto most = std::size_t(kSoundingS * rateHz());
    if (sounding_.size() > most) sounding_.erase(sounding_.begin(), sounding_.end() - long(most));
    if (sounding_.size() < most || double(sinceNote_) < kEveryS * rateHz()) return;
    sinceNote_ = 0;
    constexpr double kDoubtfulCents = 3.0; // a note has just changed
    pitch_ = silentS_ > 0.0 ? std::nullopt : core::pitchOf(sounding_, rateHz());
    if (pitch_ && pitch_->doubtCents > kDoubtfulCents) pitch_.reset();
}

void Capture::useTestClock()
{
    const double rate =
        session_.isOpen() && session_.document().sampleRateHz > 0 ? session_.document().sampleRateHz : 48000.0;
    using engine::SimulatedDevice;
    devices_ = engine::listDevices();
    wish_.id = devices_.back().id;
    audition_.setDevice(
        std::make_unique<SimulatedDevice>(rate, 256, SimulatedDevice::Clock::Manual, engine::standardRoom(rate)));
}

void Capture::runFor(double seconds)
{
    auto* device = dynamic_cast<engine::SimulatedDevice*>(audition_.device());
    const auto look = std::size_t(0.03 * rateHz());
    for (auto left = std::size_t(seconds * rateHz()); device && left > 0;) {
        const std::size_t frames = std::min(left, look);
        device->advance(frames);
        device->forget();
        poll();
        left -= frames;
    }
}

/// What the accents of the last while reach, against what those of the take that counts reach.
void Capture::watchDrift()
{
    if (!isRecording() || !session_.take()) return;
    const auto reference = session_.loudDbfs(*session_.take());
    if (!reference) return;
    const auto looks = std::size_t(1000.0 / kLookEveryMs);
    if (reading_.averageDbfs < *reference - kPlaysWithinDb) return; // nobody plays just now
    played_.push_back(float(dbToPower(reading_.averageDbfs)));
    if (played_.size() > std::size_t(kDriftOverS) * looks) played_.pop_front();
    if (played_.size() < std::size_t(kDriftFromS) * looks) return;
    drift_ = *loudReadingDbfs({played_.begin(), played_.end()}) - *reference;
}

} // namespace gristle::app
