#include "app/models/double_book.h"

#include "app/models/session_model.h"
#include "core/actions/compare_sides.h"
#include "core/mix/render/dry_samples.h"
#include "core/mix/render/session_mix.h"
#include "core/session/layer_role.h"
#include "core/session/pieces.h"
#include "core/timing/by_di.h"
#include "core/units/early_note.h"
#include "core/units/json_text.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kWorthMovingMs = 6.0; // heard as leaning to one side
constexpr double kWorthTuningCents = 3.0, kMostCents = 12.0;
constexpr int kFewestNotes = 3; // of a phrase that is moved

/// A layer that may be the DI of a side: its index in the part and how it is heard.
struct Candidate {
    std::size_t layer;
    LayerRecipe recipe;
};

struct Answer {
    std::optional<DoubleTake> pair;
    std::shared_ptr<const TakeMeasure> measure;
    std::vector<StrayBar> strays;
    std::vector<Phrase> phrases;
    std::vector<Finding> findings;
    QString trouble;
    std::optional<std::size_t> firstDi, secondDi;
};

/// What a side is judged by: its DI, where it is driven and one of the others is that.
std::vector<float> judgedBy(std::vector<float> heard, const std::vector<Candidate>& others, double rateHz,
                            const Progress& progress, std::optional<std::size_t>& di)
{
    for (const Candidate& other : others) {
        if (progress.stopped()) break;
        const auto x = drySamples(other.recipe, progress);
        if (!x) continue; // what cannot be read is nobody's DI
        if (auto moved = asItsDi(heard, *x, rateHz)) {
            di = other.layer;
            return std::move(*moved);
        }
    }
    return heard;
}

} // namespace

namespace {

/// A performance of the part, with a take.
bool isComparable(const Layer* layer) { return layer && isPlayed(*layer) && layer->chosenTake(); }

} // namespace

DoubleBook::DoubleBook(SessionModel& session, QObject* parent) : QObject(parent), session_(session)
{
    for (auto signal : {&SessionModel::documentChanged, &SessionModel::pathChanged, &SessionModel::opened})
        connect(&session_, signal, this, &DoubleBook::look);
    connect(&session_, &SessionModel::closed, this, [this] {
        task_.cancel();
        first_.reset(), second_.reset(), part_ = {9999, 9999, 0};
        key_.clear();
        look();
    });
}

DoubleBook::~DoubleBook() { task_.cancel(); }

const Layer* DoubleBook::layer(std::optional<std::size_t> index) const
{
    const Part* part = session_.isOpen() ? session_.part() : nullptr;
    return part && index && *index < part->layers.size() ? &part->layers[*index] : nullptr;
}

QString DoubleBook::name(std::optional<std::size_t> index) const
{
    const Layer* l = layer(index);
    return l ? QString::fromStdString(l->name) : QString();
}

LayerPath DoubleBook::path(std::size_t index) const
{
    LayerPath out = session_.path();
    out.layer = index;
    return out;
}

/// The layer in hand and the one on the other side, in the order of the part.
void DoubleBook::pickSides()
{
    const Part* part = session_.isOpen() ? session_.part() : nullptr;
    const LayerPath here{session_.path().song, session_.path().part, 0};
    const auto isUsable = [&](std::optional<std::size_t> i) { return isComparable(layer(i)); };
    if (part && here == part_ && isUsable(first_) && isUsable(second_) && first_ != second_) return;
    part_ = here;
    first_.reset(), second_.reset();
    if (!part) return;
    if (const auto sides = sidesOf(*part, session_.path().layer)) first_ = sides->first, second_ = sides->second;
}

void DoubleBook::choose(std::size_t first, std::size_t second)
{
    if (first == second) return;
    first_ = first, second_ = second;
    look();
}

void DoubleBook::look()
{
    pickSides();
    if (!first_ || !second_) {
        task_.cancel();
        key_.clear();
        pair_.reset(), measure_.reset(), firstDi_.reset(), secondDi_.reset(), strays_.clear(), phrases_.clear(),
            findings_.clear(), trouble_.clear();
        return emit changed();
    }
    Song about = *session_.song();
    about.parts = {{"", {*layer(first_), *layer(second_)}}};
    for (Layer& l : about.parts[0].layers) { // what is compared is dry
        l.rig.clear(), l.keptPair.clear();
        l.gainDb = 0.0;
    }
    const DoubleLimits limits = session_.doubleStyle().limits;
    const std::string compared = jsonText(songToJson(about));
    fingerprint_ = QCryptographicHash::hash(QByteArray::fromStdString(compared), QCryptographicHash::Sha1)
                       .toHex()
                       .left(16)
                       .toStdString();
    // Any other layer may be the DI of a side that is driven; what is cut and moved there is cut and moved in it.
    std::vector<Candidate> firstOthers, secondOthers;
    std::string others;
    for (std::size_t i = 0; i < session_.part()->layers.size(); ++i) {
        if (i == first_ || i == second_ || !isComparable(layer(i))) continue;
        for (auto [side, candidates] : {std::pair(layer(first_), &firstOthers), {layer(second_), &secondOthers}}) {
            Layer other = *layer(i);
            const bool isTakeForTake = other.takes.size() == side->takes.size();
            if (!isTakeForTake && !side->pieces.empty()) continue;
            if (isTakeForTake) other.chosen = side->chosen, other.pieces = side->pieces;
            other.earlierMs = side->earlierMs, other.rig.clear(), other.gainDb = 0.0;
            candidates->push_back({i, layerRecipe(session_.folder(), other, RigDocument{})});
            candidates->back().recipe.tailS = 0.0;
            others += fmt::format(" {} {} {}", i, other.takes[other.chosen].file, other.takes[other.chosen].channel);
        }
    }
    const std::string key = compared + others + (isKept() ? " kept " : " ") + std::to_string(limits.oneMs) + " " +
                            std::to_string(limits.widthMs) + " " + std::to_string(limits.looseMs);
    if (key == key_) return;
    key_ = key;
    const auto recipe = [&](const Layer& l) {
        LayerRecipe out = layerRecipe(session_.folder(), l, RigDocument{});
        out.tailS = 0.0;
        return out;
    };
    task_.run<std::shared_ptr<Answer>>(
        tr("Comparing two performances"),
        [a = recipe(*layer(first_)), b = recipe(*layer(second_)), firstOthers, secondOthers, grid = about.grid(),
         limits, subject = layer(second_)->name](const Progress& p) {
            auto out = std::make_shared<Answer>();
            const auto tell = [&](const Error& e) { out->trouble = QString::fromStdString(e.line()); };
            auto first = drySamples(a, p), second = drySamples(b, p);
            if (!first || !second) {
                tell(first ? second.error() : first.error());
                return out;
            }
            const double rate = a.rateHz;
            *first = judgedBy(std::move(*first), firstOthers, rate, p, out->firstDi);
            *second = judgedBy(std::move(*second), secondOthers, rate, p, out->secondDi);
            auto pair = comparePerformances(*first, *second, rate, {p.stop, p.report});
            if (!pair) {
                tell(pair.error());
                return out;
            }
            out->pair = std::move(*pair);
            const BarPlace place{grid, -kEarlyNoteS};
            out->findings = doubleFindings(*out->pair, place, subject, limits);
            rank(out->findings);
            if (out->pair->isUnrelated || out->pair->isCopy) return out;
            out->strays = strayBars(*out->pair, place);
            if (auto measure = measureTake(*second, rate, grid, {}, {p.stop, nullptr})) {
                out->measure = std::make_shared<const TakeMeasure>(std::move(*measure));
                out->phrases = phrasesOf(*out->pair, *out->measure, grid);
            }
            return out;
        },
        [this](std::shared_ptr<Answer> answer) {
            pair_ = std::move(answer->pair), measure_ = std::move(answer->measure);
            strays_ = std::move(answer->strays), phrases_ = std::move(answer->phrases);
            findings_ = std::move(answer->findings);
            if (isOnePerformance()) findings_.clear();
            if (isKept())
                for (Finding& f : findings_) f.severity = Severity::Note;
            trouble_ = std::move(answer->trouble);
            firstDi_ = answer->firstDi, secondDi_ = answer->secondDi;
            emit changed();
        });
    emit changed();
}

std::optional<DoubleBook::StrayStretch> DoubleBook::worstStray() const
{
    std::optional<StrayStretch> best;
    for (std::size_t i = 0; i < strays_.size();) {
        StrayStretch s{strays_[i].bar, strays_[i].bar, 0.0};
        double sum = 0.0;
        int notes = 0;
        std::size_t j = i;
        for (; j < strays_.size() && strays_[j].bar <= s.lastBar + (j > i ? 1 : 0) &&
               strays_[j].offsetMs * strays_[i].offsetMs > 0.0;
             ++j) {
            s.lastBar = strays_[j].bar;
            sum += strays_[j].offsetMs * strays_[j].notes, notes += strays_[j].notes;
        }
        s.offsetMs = sum / std::max(1, notes);
        if (!best || std::abs(s.offsetMs) * (s.lastBar - s.firstBar + 1) >
                         std::abs(best->offsetMs) * (best->lastBar - best->firstBar + 1))
            best = s;
        i = std::max(j, i + 1);
    }
    return best;
}

bool DoubleBook::isOnePerformance() const
{
    const Layer *a = layer(first_), *b = layer(second_);
    return a && b && pair_ && pair_->isCopy && a->place * b->place >= 0.0;
}

bool DoubleBook::isKept() const
{
    const Layer* l = layer(second_);
    return l && !fingerprint_.empty() && l->keptPair == fingerprint_;
}

void DoubleBook::keep()
{
    if (!pair_ || !second_) return;
    session_.edit(tr("%1 against %2 kept as it is").arg(name(second_), name(first_)), "double",
                  [&](SessionDocument& d) { findLayer(d, path(*second_))->keptPair = fingerprint_; });
}

void DoubleBook::moveSide()
{
    if (!pair_ || !second_) return;
    const double ms = std::round(10.0 * pair_->offsetMedianMs) / 10.0;
    session_.edit(
        tr("%1 moved %2 ms %3").arg(name(second_)).arg(std::abs(ms)).arg(ms > 0.0 ? tr("earlier") : tr("later")),
        "double", [&](SessionDocument& d) { findLayer(d, path(*second_))->earlierMs += ms; });
}

bool DoubleBook::moveBars(int firstBar, int lastBar, double laterMs)
{
    if (!measure_ || !second_) return false;
    const double earlierS = 1e-3 * layer(second_)->earlierMs; // pieces have their places before the side is moved
    const auto at = movableBars(*measure_, session_.grid(), firstBar, lastBar, laterMs);
    if (!at) {
        emit failed(tr("Bars %1 to %2 cannot be moved: no note begins where they do").arg(firstBar).arg(lastBar),
                    tr("play them again"));
        return false;
    }
    StretchChange change{at->first + earlierS, at->second + earlierS, laterMs};
    session_.edit(tr("%1: bars %2 to %3 moved %4 ms %5")
                      .arg(name(second_))
                      .arg(firstBar)
                      .arg(lastBar)
                      .arg(std::abs(laterMs), 0, 'f', 1)
                      .arg(laterMs > 0.0 ? tr("later") : tr("earlier")),
                  "double", [&](SessionDocument& d) {
                      Layer* l = findLayer(d, path(*second_));
                      l->pieces = changedPieces(*l, change);
                  });
    return true;
}

int DoubleBook::movePhrases()
{
    if (!pair_ || !second_) return 0;
    const double earlierS = 1e-3 * layer(second_)->earlierMs;
    std::vector<StretchChange> changes;
    for (const Phrase& p : phrases_) {
        const double off = p.offsetMs - pair_->offsetMedianMs;
        if (std::abs(off) > kWorthMovingMs && p.notes >= kFewestNotes)
            changes.push_back({p.fromS + earlierS, p.toS + earlierS, -off, 0.0, 20.0});
    }
    if (changes.empty()) return 0;
    session_.edit(tr("%1: %2 phrases moved at their rests").arg(name(second_)).arg(changes.size()), "double",
                  [&](SessionDocument& d) {
                      Layer* l = findLayer(d, path(*second_));
                      for (const StretchChange& c : changes) l->pieces = changedPieces(*l, c);
                  });
    return int(changes.size());
}

int DoubleBook::retunePhrases()
{
    if (!second_) return 0;
    const double earlierS = 1e-3 * layer(second_)->earlierMs;
    std::vector<StretchChange> changes;
    for (const Phrase& p : phrases_)
        if (p.cents && std::abs(*p.cents) > kWorthTuningCents)
            changes.push_back(
                {p.fromS + earlierS, p.toS + earlierS, 0.0, -std::clamp(*p.cents, -kMostCents, kMostCents), 20.0});
    if (changes.empty()) return 0;
    session_.edit(tr("%1: %2 phrases retuned").arg(name(second_)).arg(changes.size()), "double",
                  [&](SessionDocument& d) {
                      Layer* l = findLayer(d, path(*second_));
                      for (const StretchChange& c : changes) l->pieces = changedPieces(*l, c);
                  });
    return int(changes.size());
}

bool DoubleBook::hasMoves() const
{
    const Layer* l = layer(second_);
    return l && std::ranges::any_of(l->pieces, [](const Piece& p) { return p.laterMs != 0.0 || p.cents != 0.0; });
}

void DoubleBook::takeMovesBack()
{
    if (!hasMoves()) return;
    session_.edit(tr("%1: moves taken back").arg(name(second_)), "double", [&](SessionDocument& d) {
        Layer* l = findLayer(d, path(*second_));
        std::vector<Piece> left;
        for (Piece p : l->pieces) {
            p.laterMs = p.cents = 0.0;
            if (left.empty() || left.back().take != p.take) left.push_back(p);
        }
        if (left.size() == 1 && left[0].take == l->chosen && !l->takes[l->chosen].isPunch()) left.clear();
        l->pieces = left;
    });
}

} // namespace gristle::app
