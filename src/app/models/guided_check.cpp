#include "app/models/guided_check.h"

#include "app/models/preferences.h"
#include "core/measure/vu.h"

namespace gristle::app {

using namespace core;

namespace {

constexpr int kFootEveryMs = 20;
constexpr double kPlaysWithinDb = 20.0; // of the loudest of the last bars: below that nobody plays
constexpr double kSilentDbfs = -60.0;
constexpr std::size_t kLooksToJudge = 30; // a second

} // namespace

std::filesystem::path gainBookFile() { return (userFolder() + "/gain-book.jsonl").toStdString(); }

GuidedCheck::GuidedCheck(SessionModel& session, Capture& capture, Audition& audition, QObject* parent)
    : QObject(parent), session_(session), capture_(capture), audition_(audition), book_(gainBookFile())
{
    connect(&capture_, &Capture::metered, this, &GuidedCheck::look);
    connect(&capture_, &Capture::changed, this, [this] {
        // A check is of one input: with another it begins anew.
        if (std::exchange(input_, capture_.input()) != capture_.input() && isDone(Step::Rest)) restart();
        // The device was lost in the middle.
        if (!running_ || step_ == Step::Set || capture_.isInStep()) return;
        running_ = false;
        emit changed();
    });
    connect(&session_, &SessionModel::closing, this, [this] {
        task_.cancel();
        restart();
    });
    footTimer_.setInterval(kFootEveryMs);
    connect(&footTimer_, &QTimer::timeout, this, [this] {
        for (int i = foot_->presses(); i > 0; --i) press();
    });
}

void GuidedCheck::lookForFootSwitches()
{
    if (foot_) return foot_->look();
    foot_ = std::make_unique<engine::FootSwitch>();
    footTimer_.start();
}

double GuidedCheck::lengthS(Step step)
{
    switch (step) {
    case Step::Rest: return 5.0;
    case Step::Turn: return 15.0;
    case Step::Play: return 0.0;
    case Step::Hardest: return 0.0;
    case Step::Set: return 0.0;
    }
    return 0.0;
}

std::filesystem::path GuidedCheck::file(Step step) const
{
    static constexpr const char* kNames[] = {"rest.wav", "turn.wav", "play.wav", "hardest.wav"};
    return session_.folder().path() / "cache" / "check" / kNames[std::size_t(step)];
}

void GuidedCheck::press()
{
    if (!session_.isOpen() || task_.isBusy()) return;
    running_ ? end() : begin();
}

void GuidedCheck::begin()
{
    if (capture_.isRecording() || task_.isBusy()) return;
    stepS_ = 0.0;
    if (step_ != Step::Set) {
        if (!capture_.recordStep(file(step_))) return;
        judged_.reset();
    }
    if (step_ == Step::Play) playLooks_.clear();
    trace_.clear();
    window_.clear();
    turnedS_ = 0.0;
    bar_.clear();
    barsBefore_.clear();
    remaining_.reset();
    agreeing_ = 0;
    if (auto* chain = audition_.chain()) {
        chain->setTap(capture_.input());
        std::array<float, 4096> old;
        while (chain->readTap(old) > 0) {}
    }
    running_ = true;
    emit changed();
}

void GuidedCheck::end()
{
    running_ = false;
    if (step_ == Step::Set) {
        emit changed();
        return;
    }
    const auto report = capture_.finishStep();
    if (report.failure) {
        emit failed(QString::fromStdString(report.failure->message), QString::fromStdString(report.failure->remedy));
        emit changed();
        return;
    }
    done_[std::size_t(step_)] = report.frames > 0;
    if (!done_[std::size_t(step_)]) {
        emit changed();
        return;
    }
    if (step_ == Step::Rest) return measureRest();
    next();
}

void GuidedCheck::next()
{
    step_ = Step(int(step_) + 1);
    // Without a mains series there is nothing to turn away from.
    if (step_ == Step::Turn && mainsHz_ <= 0.0) step_ = Step::Play;
    if (step_ == Step::Set) judge();
    emit changed();
}

/// The mains frequency has to be known before the turn is looked at.
void GuidedCheck::measureRest()
{
    using Answer = std::shared_ptr<Result<FileMeasurement>>;
    task_.run<Answer>(
        tr("Looking for hum"),
        [f = file(Step::Rest)](const Progress& p) {
            return std::make_shared<Result<FileMeasurement>>(measureFile(f, {}, p));
        },
        [this, channel = capture_.stepChannel()](Answer rest) {
            mainsHz_ = 0.0;
            if (*rest && channel < (*rest)->channels.size())
                if (const auto& hum = (*rest)->channels[channel].noise.hum) mainsHz_ = hum->mainsHz;
            next();
        });
    emit changed();
}

void GuidedCheck::judge()
{
    CheckFiles files;
    files.rest = file(Step::Rest);
    if (isDone(Step::Turn)) files.turn = file(Step::Turn);
    files.play = file(Step::Play);
    files.hardest = file(Step::Hardest);
    files.channel = capture_.stepChannel();
    MeasureOptions options = session_.measurements().options();
    options.keepPicture = false;
    using Answer = std::shared_ptr<Result<JudgedCheck>>;
    task_.run<Answer>(
        tr("Judging the check"),
        [files, options](const Progress& p) {
            return std::make_shared<Result<JudgedCheck>>(judgeCapture(files, options, p));
        },
        [this](Answer answer) {
            if (!*answer) {
                emit failed(QString::fromStdString(answer->error().message),
                            QString::fromStdString(answer->error().remedy));
            } else {
                judged_ = std::move(**answer);
                if (const GainEntry* before = lastEntry()) {
                    const auto dull = dullFindings(before->brightnessDb, before->when, judged_->check.brightnessDb,
                                                   changedSince(before->with, entry({}).with));
                    judged_->findings.insert(judged_->findings.end(), dull.begin(), dull.end());
                    rank(judged_->findings);
                }
                const CaptureCheck& c = judged_->check;
                session_.note("check", tr("Input checked: averages %1 dBFS, change the gain by %2 dB, floor %3 dBFS")
                                           .arg(c.averageDbfs ? figureText(*c.averageDbfs).c_str() : "-",
                                                c.gainChangeDb ? signedText(*c.gainChangeDb).c_str() : "-",
                                                c.floorDbfs ? figureText(*c.floorDbfs).c_str() : "-"));
            }
            emit changed();
        });
}

void GuidedCheck::again()
{
    if (running_) { // this step from its beginning
        running_ = false;
        if (step_ != Step::Set) capture_.finishStep();
        return begin();
    }
    if (isOver()) return restart();
    if (step_ != Step::Rest) step_ = step_ == Step::Play && mainsHz_ <= 0.0 ? Step::Rest : Step(int(step_) - 1);
    emit changed();
}

void GuidedCheck::goTo(Step step)
{
    if (running_ || task_.isBusy()) return;
    if (step != Step::Rest && !isDone(Step::Rest)) return;
    step_ = step;
    emit changed();
}

void GuidedCheck::restart()
{
    if (running_ && step_ != Step::Set) capture_.finishStep();
    running_ = false;
    step_ = Step::Rest;
    done_ = {};
    judged_.reset();
    trace_.clear();
    mainsHz_ = 0.0;
    remaining_.reset();
    emit changed();
}

void GuidedCheck::look()
{
    if (!running_) return;
    stepS_ += capture_.meters().lookS();
    if (step_ == Step::Play) playLooks_.push_back(capture_.meters().reading());
    if (step_ == Step::Turn) lookAtTurn();
    if (step_ == Step::Set) lookAtNeedle();
    if (lengthS(step_) > 0.0 && stepS_ >= lengthS(step_)) return end();
    emit moved();
}

void GuidedCheck::lookAtTurn()
{
    auto* chain = audition_.chain();
    if (!chain || mainsHz_ <= 0.0) return;
    std::array<float, 4096> block;
    while (const std::size_t n = chain->readTap(block))
        window_.insert(window_.end(), block.begin(), block.begin() + long(n));
    const double rate = capture_.rateHz();
    const auto points = core::humTrace(window_, rate, mainsHz_);
    if (points.empty()) return;
    for (const HumPoint& p : points) trace_.push_back({turnedS_ + p.timeS, p.levelDbfs});
    // The next windows begin where the trace would have gone on: every half window.
    const auto hop = std::size_t(std::lround(10.0 * rate / mainsHz_)) / 2;
    window_.erase(window_.begin(), window_.begin() + long(points.size() * hop));
    turnedS_ += double(points.size() * hop) / rate;
}

/// What the accents (by the peak school: the peaks) of the last bars reach against those of the play step, which the
/// check judged, by the same meter. A bar in which nobody plays says nothing.
void GuidedCheck::lookAtNeedle()
{
    if (!judged_ || playLooks_.empty()) return;
    bar_.push_back(capture_.meters().reading());
    std::vector<InputReading> now = barsBefore_;
    now.insert(now.end(), bar_.begin(), bar_.end());
    const auto before = loudOf(playLooks_), reached = loudOf(now);
    if (before && reached && *reached > kSilentDbfs && now.size() >= kLooksToJudge)
        remaining_ = *before + judged_->check.gainChangeDb.value_or(0.0) - *reached;
    if (stepS_ < session_.loop().barSeconds()) return;
    stepS_ = 0.0;
    const auto own = loudOf(bar_);
    if (!remaining_ || !own || *own < *reached - kPlaysWithinDb) return bar_.clear();
    agreeing_ = std::abs(*remaining_) <= kAgreeDb ? agreeing_ + 1 : 0;
    barsBefore_ = std::move(now);
    const std::size_t most = bar_.size() * (kBarsToAgree - 1);
    if (barsBefore_.size() > most) barsBefore_.erase(barsBefore_.begin(), barsBefore_.end() - long(most));
    bar_.clear();
    if (agreeing_ >= kBarsToAgree) end();
}

std::optional<double> GuidedCheck::loudOf(const std::vector<InputReading>& looks) const
{
    const bool average = session_.document().targetSchool != "peak";
    std::vector<float> powers;
    for (const InputReading& r : looks) powers.push_back(float(dbToPower(average ? r.averageDbfs : r.peakDbfs)));
    return loudReadingDbfs(std::move(powers));
}

GainEntry GuidedCheck::entry(const QString& gain) const
{
    GainEntry e;
    e.when = localNow();
    if (session_.layer()) {
        e.guitar = session_.layer()->guitar;
        e.pickup = session_.layer()->pickup;
    }
    e.interface = audition_.device() ? audition_.device()->name() : std::string();
    e.input = int(capture_.input()) + 1;
    e.gain = gain.trimmed().toStdString();
    if (judged_) {
        // As it stands now: after turning, what was asked for.
        const CaptureCheck& c = judged_->check;
        const bool turned = agreeing_ >= kBarsToAgree;
        const double by = turned ? c.gainChangeDb.value_or(0.0) : 0.0;
        if (c.averageDbfs) e.averageDbfs = *c.averageDbfs + by;
        if (c.peakDbtp) e.peakDbtp = *c.peakDbtp + by;
        if (c.floorDbfs) e.floorDbfs = *c.floorDbfs + by;
        e.brightnessDb = c.brightnessDb;
    }
    e.with = with_;
    if (session_.song()) e.with.tuning = session_.song()->tuning;
    return e;
}

const GainEntry* GuidedCheck::lastEntry() const
{
    if (!session_.isOpen() || !session_.layer()) return nullptr;
    const GainEntry now = entry({});
    return book_.last(now.guitar, now.pickup, now.interface, now.input);
}

void GuidedCheck::keep(GainEntry entry)
{
    if (const auto kept = book_.add(entry); !kept)
        return emit failed(QString::fromStdString(kept.error().message), QString::fromStdString(kept.error().remedy));
    session_.note("check",
                  tr("Gain book: %1, %2 on %3: %4")
                      .arg(QString::fromStdString(entry.guitar), QString::fromStdString(entry.pickup),
                           QString::fromStdString(entry.interface), QString::fromStdString(gainSentence(entry))));
    emit changed();
}

} // namespace gristle::app
