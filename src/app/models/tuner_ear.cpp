#include "app/models/tuner_ear.h"

#include "app/models/audition.h"

#include <array>

namespace gristle::app {

void TunerEar::setListening(bool on)
{
    task_.cancel();
    isListening_ = on;
    sounding_.clear();
    pitch_.reset();
}

void TunerEar::look(std::size_t input, double rateHz, bool isSilent)
{
    constexpr double kSoundingS = 0.3, kEveryS = 0.15, kOldS = 0.3;
    auto* chain = audition_.chain();
    if (!isListening_ || !chain) return;
    chain->setTap(input);
    std::array<float, 4096> block;
    while (const std::size_t n = chain->readTap(block)) {
        sounding_.insert(sounding_.end(), block.begin(), block.begin() + long(n));
        sinceNote_ += n;
        taken_ += n;
    }
    const auto most = std::size_t(kSoundingS * rateHz);
    if (sounding_.size() > most) sounding_.erase(sounding_.begin(), sounding_.end() - long(most));
    if (sounding_.size() < most || double(sinceNote_) < kEveryS * rateHz || task_.isBusy()) return;
    sinceNote_ = 0;
    using Heard = std::optional<core::Pitch>;
    task_.run<Heard>(
        tr("Listening for the note"),
        [sounding = sounding_, rateHz, isSilent](const core::Progress&) {
            constexpr double kDoubtfulCents = 3.0; // a note has just changed
            Heard pitch = isSilent ? Heard() : core::pitchOf(sounding, rateHz);
            return pitch && pitch->doubtCents > kDoubtfulCents ? Heard() : pitch;
        },
        [this, asked = taken_, most = std::uint64_t(kOldS * rateHz)](Heard pitch) {
            pitch_ = taken_ - asked > most ? Heard() : std::move(pitch); // what sounded then is no answer for now
            emit heard();
        });
}

} // namespace gristle::app
