#include "app/benches/double/offsets_page.h"

#include "app/benches/double/offset_plot.h"
#include "app/models/slots.h"
#include "app/widgets/figure_table.h"
#include "core/mix/render/mixdown.h"
#include "core/mix/render/session_mix.h"
#include "core/units/early_note.h"

#include <QComboBox>
#include <QLineEdit>
#include <QShortcut>

namespace gristle::app {

using namespace core;

namespace {

constexpr double kWorthMovingMs = 1.0;

QString barsText(int first, int last)
{
    return first == last ? QObject::tr("bar %1").arg(first) : QObject::tr("bars %1\u2013%2").arg(first).arg(last);
}

} // namespace

OffsetsPage::OffsetsPage(const BenchContext& context, DoubleBook& book, QWidget* parent)
    : BenchPage(context, tr("Offsets"), tr("Do the two make width?"), parent), book_(book)
{
    auto* column = layOut("doubleSentence", sentence_);
    figures_ = new QLabel(this);
    figures_->setObjectName("doubleFigures");
    figures_->setWordWrap(true);
    column->addWidget(figures_);
    plot_ = new OffsetPlot(this);
    column->addWidget(plot_, 1);
    auto* mend = addRow(column, 6);
    again_ = addButton(mend, {}, "playAgain",
                       tr("The bars are looped, and recorded over on the Take bench; where there is no second side "
                          "yet, a layer for it is made"),
                       [this] { record(); });
    again_->setProperty("act", true);
    moveBars_ =
        addButton(mend, {}, "moveBars",
                  tr("Moves what is recorded, cut just before its first note and before the one behind it"), [this] {
                      const auto s = stretch();
                      book_.moveBars(s.firstBar, s.lastBar, -s.offsetMs);
                  });
    loop_ = addButton(mend, tr("Loop it"), "loopStray", tr("What is heard loops these bars (L)"),
                      [this] { session().loop().set(stretch().firstBar, stretch().lastBar + 1); });
    mend->addStretch(1);
    auto* side = addRow(column, 6);
    moveSide_ =
        addButton(side, {}, "moveSide", tr("Moves the whole second side by the median"), [this] { book_.moveSide(); });
    movePhrases_ = addButton(side, tr("Move phrases"), "movePhrases",
                             tr("Phrases that are over 6 ms off, each by its median, cut at its rests"), [this] {
                                 if (book_.movePhrases() == 0)
                                     emit failed(tr("No phrase between two rests is over 6 ms off"),
                                                 tr("move bars instead, or play them again"));
                             });
    retune_ = addButton(side, tr("Retune phrases"), "retunePhrases",
                        tr("Phrases that are over 3 cents off, by resampling, by 12 cents at most; what it moves their "
                           "notes by is shown"),
                        [this] {
                            if (book_.retunePhrases() == 0)
                                emit failed(tr("No phrase is over 3 cents off"), tr("there is nothing to retune"));
                        });
    back_ =
        addButton(side, tr("Moves back"), "movesBack", tr("The second side as it was joined, nothing moved or retuned"),
                  [this] { book_.takeMovesBack(); });
    side->addStretch(1);
    auto* about = addRow(column, 6);
    firstSide_ = named(new QComboBox(this), "firstSide", tr("The side that is taken as it is"));
    secondSide_ = named(new QComboBox(this), "secondSide", tr("The side that is judged against it"));
    for (QComboBox* box : {firstSide_, secondSide_}) {
        box->setMinimumContentsLength(6);
        box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
        connect(box, &QComboBox::activated, this, [this] {
            book_.choose(firstSide_->currentData().toULongLong(), secondSide_->currentData().toULongLong());
        });
    }
    about->addWidget(secondSide_);
    about->addWidget(new QLabel(tr("against"), this));
    about->addWidget(firstSide_);
    about->addStretch(1);
    keep_ = addButton(about, tr("Keep it as it is"), "keepPair",
                      tr("You listened and it is meant so: nothing asks to be mended until a side changes"),
                      [this] { book_.keep(); });
    auto* bounds = addRow(column, 6);
    bounds->addWidget(new QLabel(tr("style"), this));
    style_ =
        named(new QComboBox(this), "doubleStyle",
              tr("What is played: bounds of one, width and loose go with it; a new name keeps those that are shown"));
    style_->setEditable(true);
    style_->setInsertPolicy(QComboBox::NoInsert);
    style_->setMinimumContentsLength(9);
    style_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    named(style_->lineEdit(), "doubleStyleName", tr("Name of the style"));
    connect(style_, &QComboBox::activated, this, [this] { setStyle(style_->currentText()); });
    connect(style_->lineEdit(), &QLineEdit::editingFinished, this, [this] { setStyle(style_->currentText()); });
    bounds->addWidget(style_);
    const auto limit = [&](const QString& label, const QString& unit, const char* name) {
        auto* box = new FigureBox(label, unit, name, 0.1, 200.0, 0, this);
        connect(box, &FigureBox::changed, this, &OffsetsPage::setLimits);
        bounds->addWidget(box);
        return box;
    };
    one_ = limit(tr("one to"), {}, "limitOne");
    width_ = limit(tr("width"), {}, "limitWidth");
    loose_ = limit(tr("loose"), tr("ms"), "limitLoose");
    bounds->addStretch(1);
    forget_ = addButton(bounds, tr("Forget style"), "forgetStyle",
                        tr("This style goes; its parts are heard by the first one"), [this] { forgetStyle(); });

    connect(plot_, &OffsetPlot::choose, this, [this](int bar) {
        bar_ = bar, isChosen_ = true;
        refresh();
    });
    connect(&book_, &DoubleBook::changed, this, [this] {
        isChosen_ = false;
        refresh();
    });
    connect(&book_, &DoubleBook::failed, this, &OffsetsPage::failed);
    connect(&session(), &SessionModel::loopChanged, this,
            [this] { plot_->setLoop(session().loop().fromBar(), session().loop().toBar()); });
    connect(&Theme::instance(), &Theme::changed, this, &OffsetsPage::refresh);
    connect(new QShortcut(Qt::Key_L, this), &QShortcut::activated, this, [this] { loop_->click(); });
    refresh();
}

DoubleBook::StrayStretch OffsetsPage::stretch() const
{
    const auto worst = book_.worstStray();
    if (worst && (!isChosen_ || (bar_ >= worst->firstBar && bar_ <= worst->lastBar))) return *worst;
    DoubleBook::StrayStretch out{bar_, bar_, 0.0};
    if (!book_.pair()) return out;
    // The bar in hand: by the mean of its notes against the side.
    const BarPlace place{session().grid(), -kEarlyNoteS};
    double sum = 0.0, n = 0.0;
    for (const NotePair& note : book_.pair()->notes)
        if (place.barOf(note.timeS) == bar_) sum += note.offsetMs - book_.pair()->offsetMedianMs, n += 1.0;
    out.offsetMs = n > 0.0 ? sum / n : 0.0;
    return out;
}

void OffsetsPage::record()
{
    const auto s = stretch();
    if (book_.second()) return emit playAgain(book_.path(*book_.second()), s.firstBar, s.lastBar + 1);
    const LayerPath first = session().path();
    if (session().editSteps(tr("Another side for %1").arg(QString::fromStdString(session().layer()->name)),
                            [&](SessionDocument& d) { return addStep(d, Step::Layer, first); }))
        emit playOther();
}

void OffsetsPage::setLimits()
{
    const DoubleLimits limits{one_->value(), width_->value(), loose_->value()};
    if (!limits.areInOrder()) {
        emit failed(tr("What is heard as one, width and loose must grow in this order"),
                    tr("write larger figures from left to right"));
        return refresh();
    }
    const std::string name = session().doubleStyle().name;
    session().edit(tr("Doubles, %1: one below %2, width to %3, loose to %4 ms")
                       .arg(QString::fromStdString(name))
                       .arg(limits.oneMs)
                       .arg(limits.widthMs)
                       .arg(limits.looseMs),
                   "double", [&](SessionDocument& d) {
                       for (DoubleStyle& s : d.doubleStyles)
                           if (s.name == name) s.limits = limits;
                   });
}

void OffsetsPage::setStyle(const QString& name)
{
    const std::string wanted = name.trimmed().toStdString();
    const DoubleStyle now = session().doubleStyle();
    if (!session().part() || wanted.empty() || wanted == now.name) return refresh();
    session().edit(
        tr("Doubles of %1: heard by the style %2").arg(QString::fromStdString(session().part()->name), name.trimmed()),
        "double", [&, path = session().path()](SessionDocument& d) {
            if (std::ranges::find(d.doubleStyles, wanted, &DoubleStyle::name) == d.doubleStyles.end())
                d.doubleStyles.push_back({wanted, now.limits});
            d.songs[path.song].parts[path.part].doubleStyle = wanted;
        });
}

void OffsetsPage::forgetStyle()
{
    const std::string name = session().doubleStyle().name;
    session().edit(tr("The style %1 of doubles is forgotten").arg(QString::fromStdString(name)), "double",
                   [&](SessionDocument& d) {
                       std::erase_if(d.doubleStyles, [&](const DoubleStyle& s) { return s.name == name; });
                       for (Song& song : d.songs)
                           for (Part& part : song.parts)
                               if (part.doubleStyle == name) part.doubleStyle.clear();
                   });
}

QString OffsetsPage::verdict() const
{
    if (!book_.second()) return tr("It takes two layers with a take each. Play the other side, and it is judged here.");
    if (book_.isBusy()) return tr("Comparing \u2026");
    if (!book_.trouble().isEmpty()) return book_.trouble();
    if (!book_.pair()) return {};
    const DoubleTake& t = *book_.pair();
    const QString second = book_.name(book_.second());
    if (t.isUnrelated && t.tempoRatio)
        return tr("%1 is the same part at %2 % of the tempo.").arg(second, shownFigure(100.0 / *t.tempoRatio, 1));
    if (t.isTooShort()) return tr("Too few notes are in both to say anything.");
    if (t.semitonesHigher != 0)
        return tr("%1 is %2: a harmony, no double.")
            .arg(second, QString::fromStdString(semitonesText(t.semitonesHigher)));
    if (t.isOtherNotes) return tr("%1 has the same rhythm and other notes.").arg(second);
    if (t.isUnrelated) return tr("These are not two performances of one part.");
    if (book_.isOnePerformance())
        return tr("%1 and %2 are one performance, not a double.").arg(book_.name(book_.first()), second);
    if (t.isCopy) return tr("%1 is a copy: no width, and in mono it combs.").arg(second);
    if (book_.isKept()) return tr("Kept as it is.");
    if (!t.otherPitch.empty()) {
        const PitchStretch& s = t.otherPitch.front();
        const BarPlace place{session().grid(), -kEarlyNoteS};
        return tr("%1 is %2 in %3.")
            .arg(second, QString::fromStdString(semitonesText(s.semitonesHigher)),
                 barsText(place.barOf(s.fromS), place.barOf(s.toS)));
    }
    if (const auto worst = book_.worstStray())
        return tr("%1 %2 %3 ms in %4; play those again, or move them.")
            .arg(second, worst->offsetMs > 0.0 ? tr("drags") : tr("rushes"), numberLabel(std::abs(worst->offsetMs)),
                 barsText(worst->firstBar, worst->lastBar));
    const DoubleBetween between = heardBetween(t, session().doubleStyle().limits);
    if (!between.isTold())
        return tr("I cannot tell these apart: from %1 to %2, anything may be true.")
            .arg(QString::fromStdString(heardText(between.least)), QString::fromStdString(heardText(between.most)));
    switch (heardAs(t, session().doubleStyle().limits)) {
    case DoubleHeard::One: return tr("Heard as one: too alike to be wide.");
    case DoubleHeard::Width: return tr("Width: two that belong together.");
    case DoubleHeard::Loose: return tr("Loose: heard as untidy.");
    case DoubleHeard::Flam: return tr("A flam: heard as two strokes.");
    }
    return {};
}

void OffsetsPage::fillSides()
{
    const Part* part = session().isOpen() ? session().part() : nullptr;
    for (auto [box, chosen] : {std::pair(firstSide_, book_.first()), std::pair(secondSide_, book_.second())}) {
        box->clear();
        for (std::size_t i = 0; part && i < part->layers.size(); ++i) {
            if (!part->layers[i].chosenTake()) continue;
            box->addItem(QString::fromStdString(part->layers[i].name), qulonglong(i));
            if (chosen == i) box->setCurrentIndex(box->count() - 1);
        }
        box->setEnabled(box->count() > 1);
    }
}

void OffsetsPage::refresh()
{
    if (refreshing_) return;
    refreshing_ = true;
    fillSides();
    const DoubleLimits limits = session().doubleStyle().limits;
    style_->clear();
    if (session().isOpen())
        for (const DoubleStyle& s : session().document().doubleStyles) style_->addItem(QString::fromStdString(s.name));
    style_->setCurrentIndex(style_->findText(QString::fromStdString(session().doubleStyle().name)));
    style_->setEnabled(session().isOpen() && session().part());
    forget_->setEnabled(style_->isEnabled() && style_->currentIndex() > 0);
    one_->setValue(limits.oneMs), width_->setValue(limits.widthMs), loose_->setValue(limits.looseMs);
    sentence_->setText(verdict());
    const auto& pair = book_.pair();
    const bool has = pair && !pair->isUnrelated && !pair->isTooShort() && !book_.isBusy();
    if (pair && !pair->isUnrelated && session().isOpen()) {
        const BarGrid grid = session().grid();
        std::vector<double> bars;
        const double lastS = pair->notes.empty() ? 0.0 : pair->notes.back().timeS;
        for (int b = 1; b == 1 || grid.secondsOfBar(b - 1) <= lastS + kEarlyNoteS; ++b)
            bars.push_back(grid.secondsOfBar(b));
        const auto s = stretch();
        if (!isChosen_) bar_ = s.firstBar;
        plot_->setPair(*pair, limits, bars, book_.strays());
        plot_->setInHand(s.firstBar, s.lastBar);
        plot_->setLoop(session().loop().fromBar(), session().loop().toBar());
    } else {
        plot_->setEmptyText(book_.second() ? QString() : tr("One picture of every note: when there are two sides."));
        plot_->clear();
    }
    QString figures;
    if (has) {
        const auto strong = [](const QString& v) {
            return QStringLiteral("<span style='font-family:\"%1\";font-weight:600'>%2</span>")
                .arg(Theme::instance().mono().family(), v);
        };
        const auto doubt = [](std::optional<double> v) {
            return v ? QStringLiteral(" \u00b1 %1").arg(shownFigure(*v, 1)) : QString();
        };
        const auto signedFigure = [](double v) { return QString::fromStdString(signedText(v)); };
        figures =
            tr("spread %1 ms \u00b7 median %2 ms \u00b7 tuning %3 cents \u00b7 level %4 dB \u00b7 %5 notes in both")
                .arg(strong(QString::fromStdString(figureText(pair->offsetSdMs))) + doubt(pair->spreadDoubtMs()),
                     strong(signedFigure(pair->offsetMedianMs)) + doubt(pair->medianDoubtMs()),
                     strong(pair->tuningMeanCents ? signedFigure(*pair->tuningMeanCents) : QString(QChar(0x2013))) +
                         doubt(pair->tuningDoubtCents()),
                     strong(signedFigure(pair->levelDifferenceDb)), strong(QString::number(pair->notes.size())));
        if (pair->unmatchedFirst + pair->unmatchedSecond > 0)
            figures += tr(", %1 and %2 in one alone").arg(pair->unmatchedFirst).arg(pair->unmatchedSecond);
        for (const auto& [side, di] : {std::pair(book_.first(), book_.firstDi()), {book_.second(), book_.secondDi()}})
            if (di) figures += tr(" \u00b7 %1 by its DI, %2").arg(book_.name(side), book_.name(di));
        if (std::abs(pair->movedMs) > 0.0)
            figures += tr(" \u00b7 it lies %1 ms away as a whole").arg(numberLabel(pair->movedMs));
    }
    figures_->setText(figures);
    const auto s = stretch();
    const bool canMend = has && !pair->isCopy;
    again_->setText(book_.second() ? tr("Play %1 again").arg(barsText(s.firstBar, s.lastBar))
                                   : tr("Play the other side"));
    again_->setEnabled(book_.second() || (session().isOpen() && session().take()));
    moveBars_->setText(tr("Move %1 by %2 ms")
                           .arg(barsText(s.firstBar, s.lastBar), QString::fromStdString(signedText(-s.offsetMs, 0))));
    moveBars_->setEnabled(canMend && std::abs(s.offsetMs) > kWorthMovingMs);
    loop_->setEnabled(has);
    moveSide_->setText(has ? tr("Move the side %1 ms").arg(QString::fromStdString(signedText(-pair->offsetMedianMs)))
                           : tr("Move the side"));
    moveSide_->setEnabled(canMend && std::abs(pair->offsetMedianMs) > kWorthMovingMs);
    movePhrases_->setEnabled(canMend);
    retune_->setEnabled(canMend);
    back_->setEnabled(book_.hasMoves());
    keep_->setEnabled(has && !book_.isKept() && !severityLine(book_.findings()).isEmpty());
    refreshing_ = false;
    emit stateChanged();
}

BenchFindings OffsetsPage::findings() const
{
    if (book_.isBusy()) return {{}, tr("Comparing \u2026")};
    return {book_.findings(), tr("Two layers of a part are compared here.")};
}

Remedies OffsetsPage::remedies()
{
    Remedies out;
    out["double.side_late"] = {moveSide_->text(), [this] { book_.moveSide(); }};
    if (book_.worstStray() && !isChosen_)
        out["double.late_bar"] = out["double.early_bar"] = {again_->text(), [this] { record(); }};
    out["double.tuning"] = {tr("Retune the phrases"), [this] { retune_->click(); }};
    return out;
}

/// Both sides at their places, through their rigs, and each alone.
AuditionRequest OffsetsPage::audition() const
{
    AuditionRequest out;
    out.kind = "double";
    if (!book_.first() || !book_.second()) return out;
    out.subject = tr("%1 and %2").arg(book_.name(book_.first()), book_.name(book_.second()));
    std::vector<MixLayer> both;
    std::vector<std::string> warnings;
    for (const std::size_t i : {*book_.first(), *book_.second()}) {
        const Layer& l = session().part()->layers[i];
        auto recipe = layerRecipe(session().folder(), l, true, warnings);
        if (!recipe) return out;
        recipe->effort = Effort::Playing;
        both.push_back({std::move(*recipe), l.place, l.gainDb});
    }
    const MixOptions options = mixOptions(session().document());
    const auto slot = [&](const QString& title, const std::vector<MixLayer>& layers) {
        out.slots_.push_back(mixSlot(title, layers, options));
    };
    slot(tr("Both"), both);
    slot(book_.name(book_.first()), {both[0]});
    slot(book_.name(book_.second()), {both[1]});
    return out;
}

} // namespace gristle::app
