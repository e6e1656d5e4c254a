#include "app/benches/take/take_bench.h"

#include "app/benches/bench_page.h"
#include "app/benches/level/simulated_player.h"
#include "app/benches/take/playing_dialog.h"
#include "app/benches/take/take_strips.h"
#include "app/models/slots.h"
#include "app/widgets/figure_table.h"
#include "core/mix/render/render.h"
#include "core/mix/render/session_mix.h"
#include "engine/devices/foot_switch.h"

#include <QComboBox>
#include <QShortcut>

namespace gristle::app {

using namespace core;
using engine::RunKind;

namespace {

constexpr double kLastBar = 9999.0;

QString barsText(const std::vector<int>& bars)
{
    QStringList parts;
    for (std::size_t i = 0; i < bars.size();) {
        std::size_t j = i;
        while (j + 1 < bars.size() && bars[j + 1] == bars[j] + 1) ++j;
        parts << (i == j ? QString::number(bars[i]) : QStringLiteral("%1\u2013%2").arg(bars[i]).arg(bars[j]));
        i = j + 1;
    }
    return parts.join(QStringLiteral(", "));
}

} // namespace

TakeBench::TakeBench(const BenchContext& context, QWidget* parent)
    : Bench(context, tr("Take"), 5, parent), book_(context.session, context.capture)
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(26, 18, 26, 14);
    column->setSpacing(6);
    auto* head = new QHBoxLayout;
    auto* question = new QLabel(tr("Which take is clean, in tune, in time?"), this);
    question->setFont(Theme::instance().text(TextSize::Heading, true));
    head->addWidget(question);
    head->addStretch(1);
    level_ = new QLabel(this);
    level_->setObjectName("takeLevel");
    level_->setFont(Theme::instance().mono(TextSize::Normal));
    level_->setProperty("tone", "2");
    head->addWidget(level_);
    other_ =
        named(new QPushButton(tr("Other side"), this), "otherSide",
              tr("A new layer of this part, on the other side and with this one's rig: it is in hand then, and what "
                 "you record next goes there"));
    connect(other_, &QPushButton::clicked, this, [this] {
        const Layer* layer = session().layer();
        if (!layer) return;
        session().editSteps(tr("Another side for %1").arg(QString::fromStdString(layer->name)),
                            [at = session().path()](SessionDocument& d) { return addStep(d, Step::Layer, at); });
    });
    head->addSpacing(12);
    head->addWidget(other_);
    column->addLayout(head);
    auto* told = new QHBoxLayout;
    told->setSpacing(18);
    big_ = new QLabel(this);
    big_->setObjectName("takeBig");
    big_->setFont(Theme::instance().text(TextSize::Big, true));
    sentence_ = new QLabel(this);
    sentence_->setObjectName("takeSentence");
    sentence_->setFont(Theme::instance().text(TextSize::Reading, true));
    sentence_->setWordWrap(true);
    told->addWidget(big_);
    told->addWidget(sentence_, 1);
    column->addLayout(told);
    strips_ = new TakeStrips(this);
    strips_->setEmptyText(tr("Play: R records a take for this layer, each one is judged as soon as it ends."));
    column->addWidget(strips_, 1);
    about_ = new QLabel(this);
    about_->setObjectName("takeAbout");
    about_->setWordWrap(true);
    about_->setProperty("tone", "2");
    column->addWidget(about_);
    buildTakeRow(column);
    buildRunRow(column);

    connect(strips_, &TakeStrips::choose, this, [this](int take, int bar) {
        const bool isOther = std::size_t(take) != inHand_;
        inHand_ = std::size_t(take), bar_ = bar;
        refresh();
        if (isOther) emit auditionChanged();
    });
    connect(strips_, &TakeStrips::use, this, [this] { use_->click(); });
    connect(&book_, &TakeBook::changed, this, &TakeBench::refresh);
    connect(&book_, &TakeBook::told, this, &TakeBench::failed);
    connect(&session(), &SessionModel::loopChanged, this,
            [this] { strips_->setLoop(session().loop().fromBar(), session().loop().toBar()); });
    connect(&session(), &SessionModel::pathChanged, this, [this] {
        known_ = inHand_ = session().isOpen() && session().layer() ? session().layer()->chosen : 0;
        known_ = session().isOpen() && session().layer() ? session().layer()->takes.size() : 0;
        bar_ = 1;
        capture().run().prepareLayers();
        refresh();
    });
    connect(&session(), &SessionModel::documentChanged, this, [this] {
        if (isVisible() && !capture().isBusy()) capture().run().prepareLayers();
        refresh();
    });
    connect(&capture(), &Capture::changed, this, &TakeBench::refreshRun);
    connect(&capture(), &Capture::metered, this, &TakeBench::meter);
    connect(&Theme::instance(), &Theme::changed, this, &TakeBench::refresh);
    const auto key = [&](Qt::Key k, auto slot) { connect(new QShortcut(k, this), &QShortcut::activated, this, slot); };
    key(Qt::Key_R, [this] { toggle(); });
    key(Qt::Key_A, [this] { again(); });
    key(Qt::Key_B, [this] { best_->click(); });
    key(Qt::Key_P, [this] { comp_->click(); });
    key(Qt::Key_U, [this] { use_->click(); });
    key(Qt::Key_L, [this] { loopBar_->click(); });
}

TakeBench::~TakeBench() = default;

/// What is done with the takes.
void TakeBench::buildTakeRow(QVBoxLayout* column)
{
    auto* row = new QHBoxLayout;
    row->setSpacing(6);
    const auto add = [&](const QString& text, const char* name, const QString& about, auto slot) {
        auto* b = named(new QPushButton(text, this), name, about);
        connect(b, &QPushButton::clicked, this, slot);
        row->addWidget(b);
        return b;
    };
    best_ = add(tr("Let it count"), "takeCounts", tr("The take in hand is heard, whole (B)"),
                [this] { book_.useTake(inHand_); });
    use_ = add(tr("Use this bar"), "useBar",
               tr("This bar is heard from this take, joined where both rest or begin a note (U, Enter)"), [this] {
                   if (inHand_ < book_.takes().size()) book_.useBars(bar_, bar_ + 1, inHand_);
               });
    comp_ = add(tr("Join the best"), "joinBest", tr("The best bars of all takes, with as few joins as pay (P)"),
                [this] { book_.useProposal(); });
    loopBar_ = add(tr("Loop it"), "loopBar", tr("What is heard loops this bar (L)"),
                   [this] { session().loop().set(bar_, bar_ + 1); });
    row->addStretch(1);
    playing_ = add(QString(), "playingNotes", tr("How it is played: pick, cloth, capo, strings. Takes keep it"),
                   [this] { editPlaying(); });
    column->addLayout(row);
}

/// How the next take is recorded.
void TakeBench::buildRunRow(QVBoxLayout* column)
{
    auto* row = new QHBoxLayout;
    row->setSpacing(6);
    record_ = named(new QPushButton(this), "takeRecord", tr("Record, or stop (R, or a press of a foot switch)"));
    record_->setProperty("act", true);
    record_->setMinimumWidth(84);
    connect(record_, &QPushButton::clicked, this, &TakeBench::toggle);
    again_ = named(new QPushButton(tr("Again"), this), "takeAgain",
                   tr("Stop, keep what there is, and start once more (A, or two quick presses of a foot switch)"));
    connect(again_, &QPushButton::clicked, this, &TakeBench::again);
    kind_ = named(new QComboBox(this), "runKind", tr("What is recorded"));
    kind_->addItems({tr("until I stop"), tr("these bars, over and over"), tr("these bars again")});
    connect(kind_, &QComboBox::activated, this,
            [this](int i) { setShape([i](RunWish& w) { w.shape.kind = RunKind(i); }); });
    fromBar_ = new FigureBox(tr("from bar"), {}, "runFrom", 1.0, kLastBar, 0, this);
    toBar_ = new FigureBox(tr("to"), {}, "runTo", 1.0, kLastBar, 0, this);
    connect(fromBar_, &FigureBox::changed, this, [this](double v) {
        setShape([v](RunWish& w) {
            w.shape.toBar = std::max(w.shape.toBar, v + 1.0);
            w.shape.fromBar = v;
        });
    });
    connect(toBar_, &FigureBox::changed, this, [this](double v) { // as people say it: bars 3 to 4 are two
        setShape([v](RunWish& w) {
            w.shape.fromBar = std::min(w.shape.fromBar, v);
            w.shape.toBar = v + 1.0;
        });
    });
    countIn_ = named(new QComboBox(this), "takeCountIn", tr("Bars before it, with clicks"));
    countIn_->addItems({tr("at once"), tr("1 bar before"), tr("2 bars before")});
    connect(countIn_, &QComboBox::activated, this,
            [this](int i) { setShape([i](RunWish& w) { w.shape.countInBars = i; }); });
    row->addWidget(record_);
    row->addWidget(again_);
    row->addWidget(kind_);
    row->addWidget(fromBar_);
    row->addWidget(toBar_);
    row->addWidget(countIn_);
    row->addStretch(1);
    column->addLayout(row);
    auto* heard = new QHBoxLayout;
    heard->setSpacing(6);
    clicks_ = named(new QPushButton(tr("Clicks"), this), "runClicks", tr("Clicks while it is recorded, too"));
    clicks_->setCheckable(true);
    connect(clicks_, &QPushButton::clicked, this,
            [this](bool on) { setShape([on](RunWish& w) { w.shape.hasClicks = on; }); });
    clickLevel_ = new FigureBox({}, tr("dB"), "clickLevel", -60.0, 0.0, 0, this);
    connect(clickLevel_, &FigureBox::changed, this, [this](double v) { setShape([v](RunWish& w) { w.clickDb = v; }); });
    layers_ = named(new QComboBox(this), "runLayers", tr("What else is heard, at its place"));
    layers_->addItems({tr("nothing else"), tr("with this part"), tr("with the song")});
    connect(layers_, &QComboBox::activated, this,
            [this](int i) { setShape([i](RunWish& w) { w.layers = HeardLayers(i); }); });
    layersLevel_ = new FigureBox({}, tr("dB"), "layersLevel", -60.0, 12.0, 0, this);
    connect(layersLevel_, &FigureBox::changed, this,
            [this](double v) { setShape([v](RunWish& w) { w.layersDb = v; }); });
    hear_ = named(new QComboBox(this), "takeHear", tr("What you hear of yourself"));
    hear_->addItems({tr("do not hear me"), tr("hear me dry"), tr("hear me through the rig"), tr("direct monitor")});
    connect(hear_, &QComboBox::activated, this, [this](int i) { capture().setHear(Hear(i)); });
    heard->addWidget(clicks_);
    heard->addWidget(clickLevel_);
    heard->addWidget(layers_);
    heard->addWidget(layersLevel_);
    heard->addWidget(hear_);
    heard->addStretch(1);
    player_ = named(new QPushButton(tr("Player \u2026"), this), "takePlayer",
                    tr("The simulated player, who stands in for you: his guitar, and what goes wrong"));
    connect(player_, &QPushButton::clicked, this, [this] {
        auto* dialog = new SimulatedPlayerDialog(capture(), window());
        dialog->setAttribute(Qt::WA_DeleteOnClose);
        dialog->show();
    });
    heard->addWidget(player_);
    column->addLayout(heard);
}

void TakeBench::setShape(const std::function<void(RunWish&)>& change)
{
    RunWish wish = capture().run().wish();
    change(wish);
    capture().run().setWish(wish);
    if (!capture().isBusy()) capture().run().prepareLayers();
}

void TakeBench::armPunch(double fromBar, double toBar)
{
    setShape([&](RunWish& w) {
        w.shape.kind = RunKind::Punch;
        w.shape.fromBar = fromBar, w.shape.toBar = toBar;
        w.shape.countInBars = std::max(1, w.shape.countInBars);
        if (w.layers == HeardLayers::None) w.layers = HeardLayers::Part;
    });
    session().loop().set(fromBar, toBar);
    record_->setFocus();
}

void TakeBench::showEvent(QShowEvent* event)
{
    Bench::showEvent(event);
    if (!session().isOpen()) return;
    if (!foot_) foot_ = std::make_unique<engine::FootSwitch>();
    foot_->look();
    foot_->presses();
    if (!capture().isOpen()) capture().lookForDevices();
    capture().run().prepareLayers();
    refresh();
}

void TakeBench::hideEvent(QHideEvent* event)
{
    Bench::hideEvent(event);
    startsAgain_ = false;
}

void TakeBench::toggle()
{
    startsAgain_ = false;
    if (capture().isBusy())
        capture().stop();
    else
        capture().record();
}

void TakeBench::again()
{
    if (!capture().isBusy()) return toggle();
    capture().stop();
    startsAgain_ = true; // with the next look
}

void TakeBench::meter()
{
    if (!isVisible()) return;
    for (int i = foot_ ? foot_->presses() : 0; i > 0; --i) toggle();
    if (startsAgain_ && !capture().isBusy()) {
        startsAgain_ = false;
        capture().record();
    }
    const InputReading& r = capture().meters().reading();
    level_->setText(r.clipped > 0 ? tr("\u25a0 clipped: turn down")
                    : r.averageDbfs > -120.0
                        ? tr("input %1 averages %2 dBFS").arg(capture().input() + 1).arg(shownFigure(r.averageDbfs, 0))
                        : QString());
    if (capture().isBusy()) refreshRun();
}

/// "take 3, bar 5", to be read with the guitar in hand.
void TakeBench::refreshRun()
{
    if (!session().isOpen() || !isVisible()) return;
    const TakeRun& run = capture().run();
    const bool busy = capture().isBusy();
    record_->setText(busy ? tr("Stop") : tr("Record"));
    record_->setEnabled(capture().isOpen());
    player_->setVisible(capture().isSimulated());
    again_->setEnabled(busy);
    other_->setEnabled(!busy && session().isOpen() && session().layer());
    for (QWidget* w : std::initializer_list<QWidget*>{kind_, fromBar_, toBar_, countIn_, clicks_, layers_})
        w->setEnabled(!busy);
    const RunWish& wish = run.wish();
    kind_->setCurrentIndex(int(wish.shape.kind));
    fromBar_->setValue(wish.shape.fromBar);
    toBar_->setValue(wish.shape.toBar - 1.0);
    toBar_->setVisible(wish.shape.kind != RunKind::Through);
    countIn_->setCurrentIndex(wish.shape.countInBars);
    clicks_->setChecked(wish.shape.hasClicks);
    clickLevel_->setValue(wish.clickDb);
    layers_->setCurrentIndex(int(wish.layers));
    layersLevel_->setValue(wish.layersDb);
    hear_->setCurrentIndex(int(capture().hear()));
    QString now;
    if (run.isWaiting())
        now = tr("preparing");
    else if (run.isCountingIn())
        now = tr("in %1").arg(std::max(1, int(std::ceil(run.countInLeftS() / session().loop().beatSeconds()))));
    else if (const auto bar = run.barNow())
        now = tr("bar %1").arg(int(std::floor(*bar)));
    strips_->setNow(run.barNow());
    big_->setText(now);
    big_->setVisible(!now.isEmpty());
    sentence_->setText(sentence());
    emit stateChanged();
}

QString TakeBench::sentence() const
{
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    const std::size_t count = layer ? layer->takes.size() : 0;
    if (capture().isBusy()) {
        const TakeRun& run = capture().run();
        if (run.isWaiting()) return tr("The other layers are being rendered, then it starts.");
        const QString which = tr("take %1").arg(count + 1);
        if (run.isCountingIn()) return tr("Counting in: %1").arg(which);
        return run.now().shape.kind == RunKind::Loop ? tr("Recording, pass %1 of the loop").arg(run.pass() + 1)
                                                     : tr("Recording: %1").arg(which);
    }
    if (count == 0) return tr("Nothing is recorded for this layer yet.");
    if (book_.isBusy() || book_.takes().size() != count) return tr("Judging the takes \u2026");
    const auto& best = book_.best();
    if (!best) return tr("None of the takes can be judged.");
    const QString name = tr("Take %1").arg(best->index + 1);
    if (!best->next)
        return tr("One take. %1").arg(QString::fromStdString(book_.takes()[best->index].judgement.sentence));
    if (best->sure < 0.8) return tr("%1 and take %2 are about as good: listen.").arg(name).arg(*best->next + 1);
    const QString sure = best->sure > 0.95 ? tr("clearly") : tr("probably");
    const QString reason = best->reason.empty() ? QString() : tr(" by %1").arg(QString::fromStdString(best->reason));
    return tr("%1 is %2 the best%3.").arg(name, sure, reason);
}

std::vector<int> TakeBench::badBars(std::size_t take) const
{
    std::vector<int> out;
    if (take < book_.takes().size())
        for (const BarVerdict& b : book_.takes()[take].judgement.bars)
            if (b.isBad) out.push_back(b.bar);
    return out;
}

void TakeBench::refresh()
{
    if (refreshing_) return;
    refreshing_ = true;
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    const std::size_t count = layer ? layer->takes.size() : 0;
    if (count > known_) inHand_ = count - 1;
    known_ = count;
    inHand_ = std::min(inHand_, count > 0 ? count - 1 : 0);
    const bool judged = count > 0 && book_.takes().size() == count;
    std::vector<double> bars;
    if (judged)
        for (int b = 1; b <= book_.bars() + 1; ++b) bars.push_back(session().grid().secondsOfBar(b));
    strips_->setTakes(judged ? book_.takes() : std::vector<JudgedTake>{},
                      judged ? book_.heardBars() : std::vector<int>{}, layer ? layer->chosen : 0, bars);
    strips_->setInHand(int(inHand_), bar_);
    const bool has = judged && inHand_ < book_.takes().size();
    best_->setEnabled(has);
    best_->setText(has ? tr("Let take %1 count").arg(inHand_ + 1) : tr("Let it count"));
    const auto heard = book_.heardBars();
    const auto isThere = [&](int bar) {
        return has && std::ranges::find(book_.takes()[inHand_].judgement.bars, bar, &BarVerdict::bar) !=
                          book_.takes()[inHand_].judgement.bars.end();
    };
    use_->setEnabled(isThere(bar_) && std::size_t(bar_) <= heard.size() &&
                     heard[std::size_t(bar_) - 1] != int(inHand_));
    use_->setText(tr("Use bar %1").arg(bar_));
    comp_->setEnabled(judged && book_.proposal().pieces.size() > 1 && book_.proposal().choice != heard);
    loopBar_->setText(tr("Loop bar %1").arg(bar_));
    loopBar_->setEnabled(has);
    QString about;
    if (has) {
        const JudgedTake& t = book_.takes()[inHand_];
        about = t.measure ? tr("Take %1. %2").arg(inHand_ + 1).arg(QString::fromStdString(t.judgement.sentence))
                          : QString::fromStdString(t.trouble);
        const Take& take = layer->takes[inHand_];
        if (take.playing != PlayingNotes{}) about += " " + PlayingDialog::textOf(take.playing) + ".";
        if (book_.earlier().isEmpty())
            about += tr(" Dots: early above the line, late below, to the click.");
        else
            about += tr(" Dots show the click; words judge against %1.").arg(book_.earlier());
        QStringList strings;
        for (const StringTuning& s : t.judgement.strings)
            strings << QStringLiteral("%1 %2").arg(QString::fromStdString(s.name),
                                                   QString::fromStdString(signedText(s.cents, 0)));
        if (!strings.isEmpty()) about += tr(" Strings, cents: %1.").arg(strings.join(QStringLiteral(", ")));
    }
    about_->setText(about);
    const PlayingNotes notes = session().isOpen() && session().part() ? session().part()->playing : PlayingNotes{};
    playing_->setText(notes == PlayingNotes{} ? tr("How it is played \u2026") : PlayingDialog::textOf(notes));
    playing_->setEnabled(session().isOpen() && session().part());
    refreshing_ = false;
    refreshRun();
    emit stateChanged();
}

void TakeBench::editPlaying()
{
    if (!session().part()) return;
    auto* dialog = new PlayingDialog(session().part()->playing, window());
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [this, dialog] {
        const PlayingNotes notes = dialog->notes();
        const QString part = session().part() ? QString::fromStdString(session().part()->name) : QString();
        session().editPart(tr("How %1 is played: %2").arg(part, PlayingDialog::textOf(notes)), "take",
                           [&](Part& p) { p.playing = notes; });
        refresh();
    });
    dialog->open();
}

BenchState TakeBench::state() const
{
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    if (capture().isBusy()) return {tr("recording \u2026"), false};
    if (!layer || layer->takes.empty()) return {tr("no take yet"), false};
    if (book_.isBusy() || book_.takes().size() != layer->takes.size()) return {tr("judging \u2026"), false};
    int bad = 0;
    const auto heard = book_.heardBars();
    for (std::size_t i = 0; i < heard.size(); ++i)
        if (heard[i] >= 0)
            for (const BarVerdict& b : book_.takes()[std::size_t(heard[i])].judgement.bars)
                bad += b.bar == int(i) + 1 && b.isBad;
    if (bad > 0) return {bad == 1 ? tr("1 bar to mend") : tr("%1 bars to mend").arg(bad), true};
    const auto plays = [](const JudgedTake& t) { return t.measure && !t.measure->notes.empty(); };
    if (std::ranges::none_of(book_.takes(), plays)) return {tr("nobody plays"), true};
    return {layer->takes.size() == 1 ? tr("1 take, clean") : tr("%1 takes, clean").arg(layer->takes.size()), false};
}

BenchFindings TakeBench::findings() const
{
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    BenchFindings out{{},
                      book_.isBusy()                   ? tr("Judging \u2026")
                      : layer && !layer->takes.empty() ? tr("Nothing is wrong with this take.")
                                                       : tr("What you record is judged bar by bar.")};
    if (isJudged()) {
        out.found = book_.takes()[inHand_].judgement.findings;
        rank(out.found);
    }
    return out;
}

bool TakeBench::isJudged() const
{
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    return layer && inHand_ < book_.takes().size() && book_.takes().size() == layer->takes.size();
}

Remedies TakeBench::remedies()
{
    const auto bad = isJudged() ? badBars(inHand_) : std::vector<int>{};
    if (bad.empty()) return {};
    // The first stretch of bars that follow each other.
    std::size_t last = 0;
    while (last + 1 < bad.size() && bad[last + 1] == bad[last] + 1) ++last;
    const std::vector<int> stretch(bad.begin(), bad.begin() + long(last) + 1);
    Remedies out;
    for (const char* code : {"take.late", "take.early", "take.missed", "take.clipped", "take.tuning"})
        out[code] = {tr("Record %1 %2 again").arg(stretch.size() == 1 ? tr("bar") : tr("bars"), barsText(stretch)),
                     [this, stretch] { armPunch(stretch.front(), stretch.back() + 1); }};
    return out;
}

AuditionRequest TakeBench::audition() const
{
    AuditionRequest out;
    out.kind = "take";
    const Layer* layer = session().isOpen() ? session().layer() : nullptr;
    if (!layer || !layer->chosenTake()) return out;
    std::vector<std::string> warnings;
    auto heard = layerRecipe(session().folder(), *layer, true, warnings);
    if (!heard) return out;
    out.subject = tr("%1, through its rig").arg(QString::fromStdString(layer->name));
    const auto slot = [&](const QString& title, LayerRecipe recipe) {
        recipe.effort = Effort::Playing;
        out.slots_.push_back(layerSlot(title, recipe));
    };
    slot(layer->pieces.empty() ? tr("What counts") : tr("As joined"), *heard);
    if (inHand_ < layer->takes.size()) {
        LayerRecipe take = layerRecipe(session().folder(), layer->takes[inHand_], heard->rig);
        take.earlierS += 0.001 * layer->earlierMs;
        take.isInverted = layer->isInverted;
        take.allowMissing = true;
        slot(tr("Take %1").arg(inHand_ + 1), take);
    }
    return out;
}

} // namespace gristle::app
