#include "app/benches/level/check_page.h"

#include "app/benches/level/check_pictures.h"
#include "app/benches/level/live_strip.h"
#include "app/widgets/page_stack.h"

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QStackedWidget>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

namespace {

using Step = GuidedCheck::Step;

QString stepName(Step step)
{
    switch (step) {
    case Step::Rest: return CheckPage::tr("rest");
    case Step::Turn: return CheckPage::tr("turn");
    case Step::Play: return CheckPage::tr("play");
    case Step::Hardest: return CheckPage::tr("hardest");
    case Step::Set: return CheckPage::tr("set");
    }
    return {};
}

QString promptOf(Step step, bool running)
{
    switch (step) {
    case Step::Rest:
        return running ? CheckPage::tr("Hold all strings still.") : CheckPage::tr("Lay your hand on all strings.");
    case Step::Turn:
        return running ? CheckPage::tr("Turn slowly, once around, strings muted.")
                       : CheckPage::tr("Keep the strings muted and turn once around.");
    case Step::Play:
        return running ? CheckPage::tr("Play the part.") : CheckPage::tr("Play the part as you will play it.");
    case Step::Hardest:
        return running ? CheckPage::tr("Hit it as hard as it gets.")
                       : CheckPage::tr("Now the hardest chord of the song.");
    case Step::Set:
        return running ? CheckPage::tr("Play on and turn the preamp.")
                       : CheckPage::tr("Turn the preamp while you play.");
    }
    return {};
}

} // namespace

CheckPage::CheckPage(const BenchContext& context, QWidget* parent)
    : BenchPage(context, tr("Check"), tr("Is the input set right for this guitar?"), parent),
      run_(context.session, context.capture, context.audition), check_(run_.task())
{
    build();
    connect(&run_, &GuidedCheck::changed, this, &CheckPage::refresh);
    connect(&run_, &GuidedCheck::moved, this, &CheckPage::picture);
    connect(&run_, &GuidedCheck::failed, this, &BenchPage::failed);
    connect(&capture(), &Capture::changed, this, &CheckPage::refresh);
    connect(&capture(), &Capture::metered, this, [this] {
        if (isVisible()) strip_->push(capture().meters().reading());
    });
    connect(&session(), &SessionModel::documentChanged, this, &CheckPage::refresh);
    connect(&session(), &SessionModel::pathChanged, this, &CheckPage::refresh);
}

void CheckPage::build()
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* row = new QHBoxLayout;
    row->setSpacing(2);
    for (int i = 0; i <= int(Step::Set); ++i) {
        const Step step = Step(i);
        auto* b = named(new QPushButton(this), ("step." + stepName(step)).toLatin1().constData(),
                        tr("Step %1: %2").arg(i + 1).arg(promptOf(step, false)));
        b->setProperty("slot", true);
        b->setCheckable(true);
        connect(b, &QPushButton::clicked, this, [this, step] {
            run_.goTo(step);
            refresh();
        });
        row->addWidget(b);
        steps_.push_back(b);
    }
    row->addStretch(1);
    book_ = named(new QLabel(this), "gainBookLine", tr("What the gain book says of this guitar"));
    row->addWidget(book_);
    column->addLayout(row);
    prompt_ = named(new QLabel(this), "checkPrompt", tr("What to do now"));
    prompt_->setFont(Theme::instance().text(TextSize::Prompt, true));
    prompt_->setWordWrap(true);
    column->addWidget(prompt_);
    auto* head = new QHBoxLayout;
    big_ = named(new QLabel(this), "checkFigure", tr("The figure of this step"));
    big_->setFont(Theme::instance().mono(TextSize::Big, true));
    bigUnit_ = named(new QLabel(this), "checkUnit", tr("What the figure is"));
    bigUnit_->setFont(Theme::instance().mono(TextSize::Heading));
    head->addWidget(big_);
    head->addWidget(bigUnit_, 1, Qt::AlignBottom);
    column->addLayout(head);
    pictures_ = new PageStack(this);
    strip_ = new LiveStrip(pictures_);
    strip_->setObjectName("checkStrip");
    turn_ = new TurnPicture(pictures_);
    needle_ = new NeedlePicture(pictures_);
    for (QWidget* w : {static_cast<QWidget*>(strip_), static_cast<QWidget*>(turn_), static_cast<QWidget*>(needle_)})
        pictures_->addWidget(w);
    column->addWidget(pictures_, 1);
    column->addWidget(buildFoot());
}

QWidget* CheckPage::buildFoot()
{
    auto* foot = new QWidget(this);
    auto* column = new QVBoxLayout(foot);
    column->setContentsMargins(0, 0, 0, 0);
    auto* keys = new QHBoxLayout;
    go_ = named(new QPushButton(foot), "checkGo", tr("Begin or end this step (Enter, or a MIDI foot switch)"));
    go_->setProperty("act", true);
    go_->setMinimumWidth(150);
    connect(go_, &QPushButton::clicked, this, [this] { run_.press(); });
    again_ = named(new QPushButton(tr("Again"), foot), "checkAgain",
                   tr("The step before once more; all of it where the check is over"));
    connect(again_, &QPushButton::clicked, this, [this] { run_.again(); });
    turnIt_ = named(new QPushButton(tr("Turn the simulated preamp"), foot), "turnSimulated",
                    tr("Does what your hand would do at a real preamp, in whole decibels"));
    connect(turnIt_, &QPushButton::clicked, this, [this] {
        if (const auto by = run_.remainingDb())
            capture().player().turnPreamp(std::round(*by));
        else if (run_.judged() && run_.judged()->check.gainChangeDb)
            capture().player().turnPreamp(std::round(*run_.judged()->check.gainChangeDb));
    });
    gain_ = named(new QLineEdit(foot), "gainNow", tr("What the gain knob shows now, in your words"));
    gain_->setPlaceholderText(tr("knob at"));
    gain_->setFixedWidth(80);
    why_ = named(new QComboBox(foot), "whyMoved", tr("The level has moved at the same gain: why?"));
    why_->addItems({tr("why has it moved?"), tr("new strings"), tr("another battery"), tr("pickup height"),
                    tr("another cable"), tr("played otherwise"), tr("not known")});
    keep_ = named(new QPushButton(tr("Keep in the gain book"), foot), "keepGain",
                  tr("Note this gain for this guitar and pickup on this interface"));
    connect(keep_, &QPushButton::clicked, this, &CheckPage::keep);
    connect(gain_, &QLineEdit::textChanged, this, &CheckPage::refresh);
    keys->addWidget(go_);
    keys->addWidget(again_);
    keys->addWidget(turnIt_);
    keys->addStretch(1);
    keys->addWidget(gain_);
    keys->addWidget(why_);
    keys->addWidget(keep_);
    column->addLayout(keys);
    auto* made = new QHBoxLayout;
    made->setSpacing(4);
    const auto label = [&](const QString& text) {
        auto* l = new QLabel(text, foot);
        l->setProperty("tone", "2");
        made->addWidget(l);
    };
    const auto line = [&](const char* name, const QString& about, const QString& hint, int width) {
        auto* edit = named(new QLineEdit(foot), name, about);
        edit->setPlaceholderText(hint);
        edit->setFixedWidth(width);
        made->addWidget(edit);
        return edit;
    };
    strings_ = line("madeStrings", tr("Strings and their age"), tr("strings, age"), 84);
    pick_ = named(new QComboBox(foot), "madePick", tr("Pick or fingers"));
    pick_->addItems({tr("pick"), tr("fingers"), tr("both")});
    made->addWidget(pick_);
    label(tr("volume"));
    volume_ = line("madeVolume", tr("The guitar's volume"), tr("10"), 32);
    label(tr("tone"));
    tone_ = line("madeTone", tr("The guitar's tone control"), tr("10"), 32);
    label(tr("capo"));
    capo_ = line("madeCapo", tr("Fret of the capo"), tr("none"), 44);
    label(tr("heard on"));
    listened_ = named(new QComboBox(foot), "madeListened", tr("What was listened on"));
    listened_->addItems({tr("headphones"), tr("loudspeakers"), tr("an amplifier")});
    constexpr int kBesides = 34; // the style's padding and the arrow
    listened_->setMinimumWidth(listened_->fontMetrics().horizontalAdvance(tr("loudspeakers")) + kBesides);
    made->addWidget(listened_);
    made->addStretch(1);
    for (QLineEdit* edit : {strings_, volume_, tone_, capo_})
        connect(edit, &QLineEdit::editingFinished, this, &CheckPage::refresh);
    for (QComboBox* choice : {pick_, listened_}) connect(choice, &QComboBox::activated, this, &CheckPage::refresh);
    column->addLayout(made);
    auto* caution =
        new QLabel(tr("Never lift a safety earth to cure hum: an isolating DI box or transformer does it. Inside a "
                      "valve amplifier lethal voltage stays after switch-off; leave it to qualified repair."),
                   foot);
    caution->setProperty("tone", "2");
    caution->setFont(Theme::instance().text(TextSize::Small));
    caution->setWordWrap(true);
    column->addWidget(caution);
    return foot;
}

void CheckPage::showEvent(QShowEvent* event)
{
    BenchPage::showEvent(event);
    if (!session().isOpen()) return;
    run_.lookForFootSwitches();
    capture().lookForDevices();
    refresh();
    go_->setFocus();
}

PlayedWith CheckPage::with() const
{
    const auto text = [](const QLineEdit* e) {
        return (e->text().trimmed().isEmpty() ? e->placeholderText() : e->text().trimmed()).toStdString();
    };
    PlayedWith w;
    w.strings = strings_->text().trimmed().toStdString();
    w.pick = pick_->currentText().toStdString();
    w.volume = text(volume_);
    w.tone = text(tone_);
    w.capo = text(capo_);
    w.listenedOn = listened_->currentText().toStdString();
    return w;
}

/// The fields say what this guitar was last played with; the player changes what is different today.
void CheckPage::fillFrom(const GainEntry& entry)
{
    const PlayedWith& w = entry.with;
    strings_->setText(QString::fromStdString(w.strings));
    for (const auto& [edit, words] : {std::pair(volume_, w.volume), {tone_, w.tone}, {capo_, w.capo}}) {
        const QString text = QString::fromStdString(words);
        edit->setText(text == edit->placeholderText() ? QString() : text);
    }
    for (const auto& [choice, words] : {std::pair(pick_, w.pick), {listened_, w.listenedOn}})
        choice->setCurrentIndex(std::max(0, choice->findText(QString::fromStdString(words))));
}

void CheckPage::keep()
{
    run_.setWith(with());
    GainEntry entry = run_.entry(gain_->text());
    if (why_->isVisible() && why_->currentIndex() > 0) entry.why = why_->currentText().toStdString();
    run_.keep(std::move(entry));
}

void CheckPage::refresh()
{
    if (!session().isOpen() || !isVisible()) return;
    const Step step = run_.step();
    for (std::size_t i = 0; i < steps_.size(); ++i) {
        const bool done = i < GuidedCheck::kRecorded && run_.isDone(Step(i));
        steps_[i]->setText(tr("%1 %2%3").arg(i + 1).arg(stepName(Step(i)), done ? tr(" \u2713") : QString()));
        steps_[i]->setChecked(Step(i) == step);
        steps_[i]->setEnabled(!run_.isRunning() && (i == 0 || run_.isDone(Step::Rest)) &&
                              (Step(i) != Step::Set || run_.judged()));
    }
    prompt_->setText(run_.task().isBusy() ? tr("One moment \u2026") : promptOf(step, run_.isRunning()));
    go_->setText(run_.isRunning() ? tr("Done  Enter") : tr("Begin  Enter"));
    go_->setEnabled(capture().isOpen() && !capture().isBusy());
    again_->setEnabled(run_.isRunning() || step != Step::Rest);
    turnIt_->setVisible(capture().isSimulated() && step == Step::Set);
    turnIt_->setEnabled(run_.judged().has_value());
    const bool average = session().document().targetSchool != "peak";
    const double target = average ? session().document().referenceDbfs : -9.0;
    strip_->setTarget(target, average ? 2.0 : 3.0,
                      average ? tr("target: average %1 \u00b1 2").arg(numberLabel(target))
                              : tr("target: peak %1 \u00b1 3").arg(numberLabel(target)));
    strip_->setRecording(run_.isRunning() && step != Step::Set);
    const GainEntry* last = run_.lastEntry();
    const std::string guitar = session().layer() ? session().layer()->guitar : std::string();
    book_->setText(last ? QString::fromStdString(guitar + ": " + gainSentence(*last)) : QString());
    if (last && std::exchange(filledFor_, guitar + "\n" + last->pickup) != guitar + "\n" + last->pickup)
        fillFrom(*last);
    run_.setWith(with());
    const auto moved = last ? GainBook::moved(*last, run_.entry(gain_->text())) : std::nullopt;
    why_->setVisible(moved.has_value());
    if (moved) {
        why_->setItemText(0, tr("%1 dB since then: why?").arg(QString::fromStdString(signedText(*moved))));
        QStringList changed;
        for (const std::string& words : changedSince(last->with, with())) changed << QString::fromStdString(words);
        why_->setToolTip(changed.isEmpty()
                             ? why_->accessibleName()
                             : tr("%1. Different now: %2").arg(why_->accessibleName(), changed.join("; ")));
        if (!changed.isEmpty() && why_->currentIndex() == 0) why_->setItemText(0, changed.join("; ") + tr("?"));
    }
    for (QWidget* w : {static_cast<QWidget*>(gain_), static_cast<QWidget*>(keep_)})
        w->setEnabled(run_.judged().has_value());
    picture();
    emit stateChanged();
}

void CheckPage::picture()
{
    if (!isVisible()) return;
    const Step step = run_.step();
    QString figure, unit;
    if (run_.isRunning() && GuidedCheck::lengthS(step) > 0.0) {
        figure = numberLabel(std::max(0.0, std::ceil(GuidedCheck::lengthS(step) - run_.secondsInStep())));
        unit = tr("s");
    }
    if (step == Step::Turn && !run_.humTrace().empty()) {
        figure = numberLabel(run_.humTrace().back().levelDbfs, 0);
        unit =
            tr("dBFS of hum, %1 dB over the least so far")
                .arg(numberLabel(run_.humTrace().back().levelDbfs - core::humTurn(run_.humTrace()).best.levelDbfs, 0));
    }
    if (step == Step::Set && run_.judged()) {
        const CaptureCheck& c = run_.judged()->check;
        unit = run_.barsThatAgree() >= GuidedCheck::kBarsToAgree ? tr("dB: it is set")
               : run_.isRunning()                                ? tr("dB remain")
                                                                 : tr("dB to turn at the preamp");
        if (!run_.isRunning() && c.marginAfterDb)
            unit += tr(", then %1 dB left over the hardest chord").arg(numberLabel(*c.marginAfterDb, 1));
    } else if ((step == Step::Play || step == Step::Hardest) && run_.isRunning()) {
        figure = numberLabel(-capture().meters().reading().peakDbfs, 0);
        unit = tr("dB left just now");
    }
    big_->setVisible(step != Step::Set); // there the needle's picture has it, larger
    big_->setText(figure.isEmpty() ? QString(QChar(0x2013)) : figure);
    bigUnit_->setText(unit);
    QWidget* shown = step == Step::Turn  ? static_cast<QWidget*>(turn_)
                     : step == Step::Set ? static_cast<QWidget*>(needle_)
                                         : strip_;
    pictures_->setCurrentWidget(shown);
    if (shown == turn_) turn_->setTrace(run_.humTrace(), GuidedCheck::lengthS(Step::Turn));
    if (shown == needle_)
        needle_->set(run_.isRunning() || run_.remainingDb() ? run_.remainingDb()
                     : run_.judged()                        ? run_.judged()->check.gainChangeDb
                                                            : std::nullopt,
                     run_.barsThatAgree(), GuidedCheck::kBarsToAgree, GuidedCheck::kAgreeDb);
}

BenchFindings CheckPage::findings() const
{
    return {run_.judged() ? run_.judged()->findings : std::vector<Finding>{},
            tr("Four steps, about a minute: then one number to turn the preamp by, and what else is wrong.")};
}

} // namespace gristle::app
