#include "app/shell/header.h"

#include "app/theme/theme.h"
#include "core/units/number_text.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QMenu>
#include <QPushButton>

namespace gristle::app {

using namespace core;

Header::Header(SessionModel& session, std::function<std::optional<QString>(const QString&, const QString&)> askName,
               QWidget* parent)
    : QWidget(parent), session_(session), askName_(std::move(askName))
{
    setObjectName("header");
    setFixedHeight(44);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(16, 0, 18, 0);
    row->setSpacing(4);
    const auto step = [&](const char* name, const QString& about) {
        auto* b = new QPushButton(this);
        b->setObjectName(name);
        b->setAccessibleName(about);
        b->setToolTip(about);
        b->setProperty("plain", true);
        b->setMenu(new QMenu(b));
        row->addWidget(b);
        return b;
    };
    const auto arrow = [&](int i) {
        arrows_[i] = new QLabel(QStringLiteral("\u25b8"), this);
        arrows_[i]->setContentsMargins(4, 0, 4, 0);
        arrows_[i]->setFont(Theme::instance().text(TextSize::Small));
        arrows_[i]->setProperty("tone", "3");
        row->addWidget(arrows_[i]);
    };
    session_step_ = step("step.session", tr("Session: open, bring in, export, undo"));
    sessionMenu_ = session_step_->menu();
    arrow(0);
    song_ = step("step.song", tr("Song"));
    arrow(1);
    part_ = step("step.part", tr("Part"));
    arrow(2);
    layer_ = step("step.layer", tr("Layer"));
    layer_->setProperty("strong", true);
    row->addStretch(1);
    tempo_ = new QPushButton(this);
    tempo_->setObjectName("tempo");
    tempo_->setProperty("plain", true);
    tempo_->setAccessibleName(tr("Tempo, meter and tuning of the song"));
    tempo_->setToolTip(tr("Tempo, meter and tuning of the song: click to change them"));
    connect(tempo_, &QPushButton::clicked, this, &Header::editSong);
    row->addWidget(tempo_);
    saved_ = new QLabel(this);
    saved_->setObjectName("saved");
    saved_->setContentsMargins(14, 0, 10, 0);
    saved_->setFont(Theme::instance().text(TextSize::Small));
    saved_->setProperty("tone", "2");
    row->addWidget(saved_);
    goTo_ = new QPushButton(tr("Go to\u2026  Ctrl J"), this);
    goTo_->setObjectName("goTo");
    goTo_->setAccessibleName(tr("Go to a layer, bench or command"));
    connect(goTo_, &QPushButton::clicked, this, &Header::goTo);
    row->addWidget(goTo_);
    for (auto signal :
         {&SessionModel::opened, &SessionModel::closed, &SessionModel::documentChanged, &SessionModel::pathChanged})
        connect(&session_, signal, this, &Header::refresh);
    connect(&session_, &SessionModel::saved, this, &Header::showSaved);
    connect(&Theme::instance(), &Theme::changed, this, &Header::refresh);
    refresh();
}

void Header::refresh()
{
    const auto shown = [](const std::string& s, const QString& none) {
        return s.empty() ? none : QString::fromStdString(s);
    };
    const bool open = session_.isOpen();
    session_step_->setText(open ? shown(session_.document().name, tr("Session")) : tr("Session"));
    for (QWidget* w :
         {static_cast<QWidget*>(song_), static_cast<QWidget*>(part_), static_cast<QWidget*>(layer_),
          static_cast<QWidget*>(arrows_[0]), static_cast<QWidget*>(arrows_[1]), static_cast<QWidget*>(arrows_[2])})
        w->setVisible(open);
    tempo_->setVisible(session_.song());
    showSaved();
    if (!open) return;
    song_->setText(session_.song() ? shown(session_.song()->name, tr("song")) : tr("no song yet"));
    part_->setText(session_.part() ? shown(session_.part()->name, tr("part")) : tr("no part yet"));
    layer_->setText(session_.layer() ? shown(session_.layer()->name, tr("layer")) : tr("no layer yet"));
    if (const Song* song = session_.song())
        tempo_->setText(QStringLiteral("%1 BPM \u00b7 %2 \u00b7 %3")
                            .arg(QString::fromStdString(numberText(song->tempoBpm)),
                                 QString::fromStdString(song->meter), QString::fromStdString(song->tuning)));
    fillSteps();
}

void Header::showSaved()
{
    const QDateTime at = session_.savedAt();
    saved_->setText(!session_.isOpen()    ? QString()
                    : !session_.isSaved() ? tr("saving \u2026")
                    : at.isValid()        ? tr("saved %1").arg(at.toString("HH:mm"))
                                          : tr("saved"));
}

void Header::fillSteps()
{
    const SessionDocument& d = session_.document();
    const LayerPath at = session_.path();
    for (QPushButton* b : {song_, part_, layer_}) b->menu()->clear();
    const auto add = [this](QPushButton* step, const std::string& name, const LayerPath& to, bool on) {
        QAction* action = step->menu()->addAction(QString::fromStdString(name));
        action->setCheckable(true);
        action->setChecked(on);
        connect(action, &QAction::triggered, this, [this, to] { session_.setPath(to); });
    };
    for (std::size_t s = 0; s < d.songs.size(); ++s) add(song_, d.songs[s].name, {s, 0, 0}, s == at.song);
    if (const Song* song = session_.song())
        for (std::size_t p = 0; p < song->parts.size(); ++p)
            add(part_, song->parts[p].name, {at.song, p, 0}, p == at.part);
    if (const Part* part = session_.part())
        for (std::size_t l = 0; l < part->layers.size(); ++l)
            add(layer_, part->layers[l].name, {at.song, at.part, l}, l == at.layer);
    addVerbs(song_, Step::Song);
    if (session_.song()) addVerbs(part_, Step::Part);
    if (session_.part()) addVerbs(layer_, Step::Layer);
}

namespace {

struct StepWords {
    QString another, rename, copy, remove;         ///< as commands
    QString made, renamed, moved, copied, removed; ///< as the log has them
};

StepWords wordsOf(Step step)
{
    const auto of = [&](const QString& what, const QString& capital) {
        return StepWords{
            QObject::tr("Another %1").arg(what),       QObject::tr("Rename the %1 \u2026").arg(what),
            QObject::tr("Copy the %1").arg(what),      QObject::tr("Remove the %1; its files stay").arg(what),
            QObject::tr("%1 made: %2").arg(capital),   QObject::tr("%1 renamed: %2").arg(capital),
            QObject::tr("%1 moved: %2").arg(capital),  QObject::tr("%1 copied: %2").arg(capital),
            QObject::tr("%1 removed: %2").arg(capital)};
    };
    return step == Step::Song   ? of(QObject::tr("song"), QObject::tr("Song"))
           : step == Step::Part ? of(QObject::tr("part"), QObject::tr("Part"))
                                : of(QObject::tr("layer"), QObject::tr("Layer"));
}

} // namespace

/// What can be done with the steps of a path, under the steps themselves.
void Header::addVerbs(QPushButton* button, Step step)
{
    const SessionDocument& d = session_.document();
    const LayerPath at = session_.path();
    QMenu* menu = button->menu();
    const StepWords words = wordsOf(step);
    if (!menu->isEmpty()) menu->addSeparator();
    const auto verb = [&](const char* name, const QString& text, auto work) {
        QAction* action = menu->addAction(text);
        action->setObjectName(QString("%1.%2").arg(name, QString::fromStdString(stepWord(step))));
        connect(action, &QAction::triggered, this, work);
        return action;
    };
    verb("add", words.another, [this, step, at, words] {
        SessionDocument made = session_.document();
        const auto path = addStep(made, step, at);
        if (!path) return session_.fail(path.error());
        const QString name = QString::fromStdString(nameOf(made, step, *path));
        session_.editSteps(words.made.arg(name), [&](SessionDocument& doc) { return addStep(doc, step, at); });
    });
    const bool isThere = step == Step::Song   ? at.song < d.songs.size()
                         : step == Step::Part ? session_.part() != nullptr
                                              : session_.layer() != nullptr;
    if (!isThere) return;
    const QString name = QString::fromStdString(nameOf(d, step, at));
    const std::size_t index = step == Step::Song ? at.song : step == Step::Part ? at.part : at.layer;
    const std::size_t count = step == Step::Song   ? d.songs.size()
                              : step == Step::Part ? session_.song()->parts.size()
                                                   : session_.part()->layers.size();
    verb("rename", words.rename, [this, step, at, words, name] {
        const auto wanted = askName_(QString(words.rename).remove(QStringLiteral(" \u2026")), name);
        if (!wanted) return;
        session_.editSteps(words.renamed.arg(*wanted) + tr(", before: %1").arg(name), [&](SessionDocument& doc) {
            return renameStep(doc, step, at, wanted->trimmed().toStdString());
        });
    });
    const auto move = [&](const char* object, const QString& text, bool is, std::size_t to) {
        verb(object, text, [this, step, at, words, name, to] {
            session_.editSteps(words.moved.arg(name),
                               [&](SessionDocument& doc) { return moveStep(doc, step, at, to); });
        })->setEnabled(is);
    };
    move("earlier", tr("Earlier in the list"), index > 0, index - 1);
    move("later", tr("Later in the list"), index + 1 < count, index + 1);
    verb("copy", words.copy, [this, step, at, words, name] {
        session_.editSteps(words.copied.arg(name), [&](SessionDocument& doc) { return copyStep(doc, step, at); });
    });
    verb("remove", words.remove, [this, step, at, words, name] {
        session_.editSteps(words.removed.arg(name), [&](SessionDocument& doc) { return removeStep(doc, step, at); });
    });
}

} // namespace gristle::app
