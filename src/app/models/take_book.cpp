#include "app/models/take_book.h"

#include "app/models/capture.h"
#include "app/models/dry_samples.h"
#include "app/models/session_model.h"
#include "core/mix/session_mix.h"
#include "core/timing/strings.h"
#include "core/units/early_note.h"
#include "core/units/json_text.h"

#include <algorithm>
#include <cmath>

namespace gristle::app {

using namespace core;

namespace {

constexpr std::size_t kMostKept = 400; // measures of takes, some 0.3 MB a minute each

struct Wanted {
    Take take;
    std::string key;
    LayerRecipe dry;
};

/// A take by itself, its file's own samples.
Result<TakeMeasure> measured(const Wanted& w, const std::filesystem::path& folder, const BarGrid& grid,
                             const TakeMeasureOptions& about, const Progress& p)
{
    const auto file = folder / w.take.file;
    const auto channel = chooseChannel(file, w.take.channel);
    if (!channel) return channel.error();
    const auto recording = readRecording(file);
    if (!recording) return recording.error();
    TakeMeasureOptions options = about;
    options.capo = w.take.playing.capo;
    options.atS = w.take.atS;
    options.spanFromS = w.take.spanFromS, options.spanToS = w.take.spanToS;
    return measureTake(std::as_const(recording->audio).channel(*channel), recording->sampleRateHz, grid, options,
                       {p.stop, nullptr});
}

} // namespace

struct TakeBook::Answer {
    std::string key;
    std::vector<JudgedTake> judged;
    std::map<std::string, std::shared_ptr<const TakeMeasure>> measures;
    std::map<std::string, std::shared_ptr<const DoubleTake>> pairs;
};

TakeBook::TakeBook(SessionModel& session, Capture& capture, QObject* parent)
    : QObject(parent), session_(session), capture_(capture)
{
    for (auto signal : {&SessionModel::documentChanged, &SessionModel::pathChanged, &SessionModel::opened})
        connect(&session_, signal, this, &TakeBook::look);
    connect(&session_, &SessionModel::closed, this, [this] {
        task_.cancel();
        judged_.clear(), best_.reset(), proposal_ = {}, key_.clear(), earlier_.clear();
        measures_.clear(), pairs_.clear();
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
    if (!layer || layer->takes.empty()) {
        task_.cancel();
        key_.clear(), judged_.clear(), best_.reset(), proposal_ = {}, earlier_.clear();
        return emit changed();
    }
    const Song& song = *session_.song();
    Song empty = song; // all that bars and tuning depend on
    empty.parts.clear();
    const std::string about = jsonText(songToJson(empty));
    std::vector<Wanted> wanted;
    std::string key = about;
    for (const Take& t : layer->takes) {
        Song one = empty;
        one.parts.push_back({"", {Layer{}}});
        one.parts[0].layers[0].takes.push_back(t);
        wanted.push_back({t, jsonText(songToJson(one)), layerRecipe(session_.folder(), t, RigDocument{})});
        wanted.back().dry.tailS = 0.0;
        key += wanted.back().key;
    }
    // The earlier layer: the first of the part with a take, that is not the one in hand.
    std::optional<LayerRecipe> earlier;
    std::string earlierKey;
    QString earlierName;
    for (const Layer& l : session_.part()->layers) {
        if (&l == layer) break;
        if (!l.chosenTake()) continue;
        Song one = empty;
        one.parts.push_back({"", {l}});
        one.parts[0].layers[0].keptPair.clear();
        earlierKey = jsonText(songToJson(one));
        earlierName = QString::fromStdString(l.name);
        earlier = layerRecipe(session_.folder(), l, RigDocument{});
        earlier->tailS = 0.0;
        break;
    }
    key += earlierKey;
    if (key == key_) return;
    key_ = key;
    earlier_ = earlierName;
    TakeMeasureOptions tuning;
    tuning.referenceHz = song.referenceHz;
    tuning.openHz = openStrings(song.tuning, song.referenceHz);
    task_.run<std::shared_ptr<Answer>>(
        tr("Judging the takes"),
        [wanted, earlier, earlierKey, grid = song.grid(), tuning, key, measures = measures_, pairs = pairs_,
         folder = session_.folder().path()](const Progress& p) {
            auto out = std::make_shared<Answer>();
            out->key = key, out->measures = measures, out->pairs = pairs;
            std::vector<QString> troubles(wanted.size());
            std::vector<float> first;
            std::shared_ptr<const TakeMeasure> firstMeasure;
            for (std::size_t i = 0; i < wanted.size() && !p.stopped(); ++i) {
                p.at(double(i) / double(wanted.size()));
                const Wanted& w = wanted[i];
                if (!out->measures.contains(w.key)) {
                    auto made = measured(w, folder, grid, tuning, p);
                    if (!made) troubles[i] = QString::fromStdString(made.error().line());
                    out->measures[w.key] = made ? std::make_shared<const TakeMeasure>(std::move(*made)) : nullptr;
                }
                if (!earlier || !out->measures[w.key] || out->pairs.contains(earlierKey + w.key)) continue;
                if (first.empty())
                    if (const auto dry = drySamples(*earlier, p)) first = *dry;
                const auto second = drySamples(w.dry, p);
                const int rate = w.dry.rateHz > 0 ? w.dry.rateHz : w.take.sampleRateHz;
                if (first.empty() || !second) continue;
                auto pair = comparePerformances(first, *second, rate, {p.stop, nullptr});
                out->pairs[earlierKey + w.key] = pair ? std::make_shared<const DoubleTake>(std::move(*pair)) : nullptr;
            }
            if (p.stopped()) return out;
            if (earlier) {
                const std::string earlierMeasure = "measure " + earlierKey;
                if (!out->measures.contains(earlierMeasure)) {
                    if (first.empty())
                        if (const auto dry = drySamples(*earlier, p)) first = *dry;
                    auto made = measureTake(first, earlier->rateHz, grid, {}, {p.stop, nullptr});
                    out->measures[earlierMeasure] =
                        made ? std::make_shared<const TakeMeasure>(std::move(*made)) : nullptr;
                }
                firstMeasure = out->measures[earlierMeasure];
            }
            std::vector<const TakeMeasure*> performances;
            std::vector<std::size_t> placeOf(wanted.size());
            for (std::size_t i = 0; i < wanted.size(); ++i)
                if (const auto& m = out->measures[wanted[i].key])
                    placeOf[i] = performances.size(), performances.push_back(m.get());
            for (std::size_t i = 0; i < wanted.size(); ++i) {
                JudgedTake judged;
                judged.measure = out->measures[wanted[i].key];
                judged.trouble = troubles[i];
                if (judged.measure) {
                    JudgeOptions options;
                    options.subject = QObject::tr("Take %1").arg(i + 1).toStdString();
                    const auto pair = out->pairs.find(earlierKey + wanted[i].key);
                    if (earlier && pair != out->pairs.end()) options.earlier = pair->second.get();
                    // The earlier layer counts as another performance where it is one of the same notes.
                    auto all = performances;
                    if (firstMeasure && options.earlier && !options.earlier->isUnrelated)
                        all.push_back(firstMeasure.get());
                    if (all.size() > 1) options.missed = missedNotes(all, placeOf[i]);
                    judged.judgement = judgeTake(*judged.measure, grid, options);
                }
                out->judged.push_back(std::move(judged));
            }
            return out;
        },
        [this](std::shared_ptr<Answer> answer) { take(std::move(answer)); });
    emit changed();
}

void TakeBook::take(std::shared_ptr<Answer> answer)
{
    measures_ = std::move(answer->measures), pairs_ = std::move(answer->pairs);
    if (measures_.size() > kMostKept) measures_.clear(), pairs_.clear(); // measured again when they are looked at
    if (answer->key != key_) return;
    judged_ = std::move(answer->judged);
    std::vector<TakeJudgement> known;
    std::vector<std::size_t> which;
    for (std::size_t i = 0; i < judged_.size(); ++i)
        if (judged_[i].measure) known.push_back(judged_[i].judgement), which.push_back(i);
    best_ = bestTake(known);
    if (best_) {
        best_->index = which[best_->index];
        if (best_->next) best_->next = which[*best_->next];
    }
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
