#include "app/benches/blend/song_sum.h"

#include "core/mix/render/sound_key.h"

namespace gristle::app {

using namespace core;

SongSum::SongSum(SessionModel& session, QObject* parent) : QObject(parent), session_(session)
{
    connect(&session_, &SessionModel::closing, this,
            [this] { report_.reset(), measuredOf_.clear(), warnings_.clear(), trouble_.clear(); });
}

const Song* SongSum::song() const { return session_.isOpen() ? session_.song() : nullptr; }

Outcome SongSum::change(const QString& text, const QString& what, const std::function<Outcome(Song&)>& work)
{
    if (!song()) return Error{ErrorCode::Usage, "there is no song", "make one"};
    Song changed = *song();
    if (const auto done = work(changed); !done) return done;
    session_.edit(text, what, [&](SessionDocument& d) { d.songs[session_.path().song] = changed; });
    return Done{};
}

Result<MixPlan> SongSum::plan(Effort effort) const
{
    if (!song()) return Error{ErrorCode::FileMissing, "there is no song", "make one"};
    auto out = planMix(session_.folder(), *song(), true);
    if (out)
        for (MixLayer& l : out->layers) l.recipe.effort = effort;
    return out;
}

void SongSum::look()
{
    const auto wanted = plan(Effort::Draft);
    trouble_.clear();
    if (!wanted) {
        task_.cancel();
        report_.reset(), measuredOf_.clear();
        if (wanted.error().code != ErrorCode::FileMissing) trouble_ = QString::fromStdString(wanted.error().line());
        return emit changed();
    }
    std::string key = soundKey(wanted->layers, wanted->options);
    for (const SectionSpan& s : wanted->options.spans) key += s.name + std::to_string(s.fromS) + std::to_string(s.toS);
    if (key == measuredOf_) return;
    measuredOf_ = key, warnings_ = wanted->warnings;
    using Answer = std::shared_ptr<Result<MixReport>>;
    task_.run<Answer>(
        tr("Measuring the song"),
        [plan = *wanted, cache = session_.renders()](const Progress& p) {
            return std::make_shared<Result<MixReport>>(mixDown(
                plan.layers, plan.options, [](const AudioBuffer&) -> Outcome { return Done{}; }, p, cache.get()));
        },
        [this](Answer answer) {
            report_.reset();
            if (*answer)
                report_ = std::move(**answer);
            else
                measuredOf_.clear();
            if (!*answer && answer->error().code != ErrorCode::Cancelled)
                trouble_ = QString::fromStdString(answer->error().line());
            emit changed();
        });
    emit changed();
}

} // namespace gristle::app
