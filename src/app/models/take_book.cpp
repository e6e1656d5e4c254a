#include "app/models/take_book.h"

#include "app/models/capture.h"
#include "app/models/session_model.h"
#include "core/session/layer_role.h"
#include "core/units/early_note.h"

#include <algorithm>
#include <cmath>

namespace gristle::app {

using namespace core;

namespace {

constexpr std::size_t kMostKept = 400; // measures of takes, some 0.3 MB a minute each

} // namespace

struct TakeBook::Answer {
    std::string key;
    JudgedTakes judged;
};

TakeBook::TakeBook(SessionModel& session, Capture& capture, QObject* parent)
    : QObject(parent), session_(session), capture_(capture)
{
    for (auto signal : {&SessionModel::documentChanged, &SessionModel::pathChanged, &SessionModel::opened})
        connect(&session_, signal, this, &TakeBook::look);
    connect(&session_, &SessionModel::closed, this, [this] {
        task_.cancel();
        judged_.clear(), best_.reset(), proposal_ = {}, key_.clear(), earlier_.clear();
        memory_ = {};
        emit changed();
    });
    connect(&session_, &SessionModel::takesKept, this, [this] {
        joinsPunch_ = capture_.run().now().shape.kind == engine::RunKind::Punch;
        look();
    });
}

TakeBook::~TakeBook() { task_.cancel(); }

/// Measures what is new of the layer in hand.
void TakeBook::look()
{
    const Layer* layer = session_.isOpen() ? session_.layer() : nullptr;
    if (!layer || layer->takes.empty() || !isPlayed(*layer)) {
        task_.cancel();
        key_.clear(), judged_.clear(), best_.reset(), proposal_ = {}, earlier_.clear();
        return emit changed();
    }
    const Part& part = *session_.part();
    const auto at = std::size_t(layer - part.layers.data());
    auto wanted = std::make_shared<const TakesToJudge>(takesToJudge(session_.folder(), *session_.song(), part, at));
    std::string key = wanted->key();
    if (key == key_) return;
    key_ = key;
    earlier_ = QString::fromStdString(wanted->earlierName);
    task_.run<std::shared_ptr<Answer>>(
        tr("Judging the takes"),
        [wanted, key, memory = memory_](const Progress& p) {
            return std::make_shared<Answer>(Answer{key, judgeTakes(*wanted, memory, p)});
        },
        [this](std::shared_ptr<Answer> answer) { take(std::move(answer)); });
    emit changed();
}

void TakeBook::take(std::shared_ptr<Answer> answer)
{
    memory_ = std::move(answer->judged.memory);
    if (memory_.measures.size() > kMostKept) memory_ = {}; // measured again when they are looked at
    if (answer->key != key_) return;
    judged_ = std::move(answer->judged.each);
    best_ = answer->judged.best;
    const bool isOneTake = std::ranges::count_if(judged_, [](const JudgedTake& t) { return t.measure != nullptr; }) < 2;
    proposal_ = isOneTake ? Comp{} : shortestComp(compBars(), joins());
    if (std::exchange(joinsPunch_, false) && judged_.size() > 1) {
        const Take& punch = session_.layer()->takes.back();
        const JudgedTake& judged = judged_.back();
        if (punch.isPunch() && judged.measure && !judged.judgement.bars.empty())
            useBars(judged.judgement.bars.front().bar, judged.judgement.bars.back().bar + 1, judged_.size() - 1);
    }
    emit changed();
}

int TakeBook::bars() const
{
    int last = 0;
    for (const JudgedTake& t : judged_)
        if (!t.judgement.bars.empty()) last = std::max(last, t.judgement.bars.back().bar);
    return last;
}

std::vector<CompBar> TakeBook::compBars() const
{
    std::vector<CompBar> out;
    for (int b = 1; b <= bars(); ++b) {
        CompBar bar{b, {}};
        for (const JudgedTake& t : judged_) {
            const auto at = std::ranges::find(t.judgement.bars, b, &BarVerdict::bar);
            bar.cost.push_back(at == t.judgement.bars.end() ? std::nullopt : std::optional(at->cost));
        }
        out.push_back(std::move(bar));
    }
    return out;
}

JoinBetween TakeBook::joins() const
{
    return [this, grid = session_.grid()](std::size_t from, std::size_t to, int bar) {
        if (!judged_[from].measure || !judged_[to].measure)
            return Join{grid.secondsOfBar(bar), 0.02, Join::Kind::Ringing, 50.0};
        return findJoin(*judged_[from].measure, *judged_[to].measure, grid, bar);
    };
}

std::vector<int> TakeBook::heardBars() const
{
    std::vector<int> out;
    const Layer* layer = session_.isOpen() ? session_.layer() : nullptr;
    if (!layer || judged_.size() != layer->takes.size()) return out;
    const BarGrid grid = session_.grid();
    for (int b = 1; b <= bars(); ++b) {
        std::size_t take = layer->chosen;
        const double middle = grid.secondsOfBar(b + 0.5);
        for (const Piece& p : layer->pieces)
            if (p.fromS <= middle) take = p.take;
        const auto& own = judged_[take].judgement.bars;
        const bool isThere = std::ranges::find(own, b, &BarVerdict::bar) != own.end();
        out.push_back(isThere ? int(take) : -1);
    }
    return out;
}

void TakeBook::useTake(std::size_t take)
{
    if (!session_.layer() || take >= session_.layer()->takes.size()) return;
    session_.edit(tr("Take %1 counts").arg(take + 1), "take", [&](SessionDocument& d) {
        Layer* l = findLayer(d, session_.path());
        l->chosen = take;
        l->pieces.clear();
    });
}

void TakeBook::useProposal()
{
    if (!proposal_.pieces.empty())
        setChoice(proposal_.choice, tr("The best bars of %1 takes joined").arg(judged_.size()));
}

void TakeBook::useBars(int fromBar, int toBar, std::size_t take)
{
    auto choice = heardBars();
    const auto& own = judged_[take].judgement.bars;
    for (int b = fromBar; b < toBar; ++b)
        if (b >= 1 && std::size_t(b) <= choice.size() && std::ranges::find(own, b, &BarVerdict::bar) != own.end())
            choice[std::size_t(b) - 1] = int(take);
    setChoice(choice, toBar > fromBar + 1 ? tr("Bars %1 to %2 from take %3").arg(fromBar).arg(toBar - 1).arg(take + 1)
                                          : tr("Bar %1 from take %2").arg(fromBar).arg(take + 1));
}

void TakeBook::setChoice(const std::vector<int>& choice, const QString& text)
{
    QStringList cut; // bars at whose line a note rings on in both
    const auto join = [&, all = joins()](std::size_t from, std::size_t to, int bar) {
        const Join found = all(from, to, bar);
        if (found.kind == Join::Kind::Ringing) cut << QString::number(bar);
        return found;
    };
    const Comp comp = compOf(compBars(), choice, join);
    if (comp.pieces.empty()) return;
    if (!cut.isEmpty())
        emit told(tr("Cut through a ringing note where bar %1 begins").arg(cut.join(tr(" and bar "))),
                  tr("listen, or take the bars beside it from the same take"));
    session_.edit(text, "take", [&](SessionDocument& d) {
        Layer* l = findLayer(d, session_.path());
        l->pieces.clear();
        // The take that most bars are of counts; where all are of one whole take, it needs no pieces.
        l->chosen = comp.pieces.front().take;
        if (comp.pieces.size() == 1 && !l->takes[l->chosen].isPunch()) return;
        for (const CompPiece& p : comp.pieces) l->pieces.push_back({p.fromS, p.take, 0.0, 0.0, 1000.0 * p.fadeS});
        if (l->takes[l->chosen].isPunch())
            l->pieces.front().fromS = std::max(0.0, l->takes[l->chosen].spanFromS - kEarlyNoteS);
    });
}

} // namespace gristle::app
