#include "app/benches/level/level_bench.h"

#include "app/benches/level/check_page.h"
#include "app/benches/level/gains_page.h"
#include "app/benches/level/ledger_page.h"
#include "app/benches/level/loading_page.h"
#include "app/benches/level/record_page.h"
#include "app/benches/level/take_page.h"
#include "app/theme/theme.h"

#include <QLabel>
#include <QPushButton>
#include <QStackedWidget>
#include <QVBoxLayout>

namespace gristle::app {

using namespace core;

LevelBench::LevelBench(const BenchContext& context, QWidget* parent) : Bench(context, tr("Level"), 2, parent)
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(26, 12, 26, 14);
    column->setSpacing(6);
    auto* head = new QHBoxLayout;
    head->setSpacing(4);
    question_ = new QLabel(this);
    question_->setFont(Theme::instance().text(TextSize::Heading, true));
    head->addWidget(question_, 1);
    column->addLayout(head);
    stack_ = new QStackedWidget(this);
    column->addWidget(stack_, 1);
    pages_ = {new TakePage(context, stack_),  new CheckPage(context, stack_),  new RecordPage(context, stack_),
              new GainsPage(context, stack_), new LedgerPage(context, stack_), new LoadingPage(context, stack_)};
    for (std::size_t i = 0; i < pages_.size(); ++i) {
        LevelPage* page = pages_[i];
        stack_->addWidget(page);
        auto* choice = new QPushButton(page->name(), this);
        choice->setObjectName("levelPage." + page->name().toLower());
        choice->setAccessibleName(tr("%1 page").arg(page->name()));
        choice->setToolTip(page->question());
        choice->setProperty("slot", true);
        choice->setCheckable(true);
        connect(choice, &QPushButton::clicked, this, [this, i] { choose(i); });
        head->addWidget(choice);
        choices_.push_back(choice);
        connect(page, &LevelPage::stateChanged, this, &Bench::stateChanged);
        connect(page, &LevelPage::auditionChanged, this, &Bench::auditionChanged);
        connect(page, &LevelPage::failed, this, &Bench::failed);
    }
    choose(0);
}

LevelPage& LevelBench::current() const { return *pages_[std::size_t(stack_->currentIndex())]; }

void LevelBench::choose(std::size_t index)
{
    stack_->setCurrentIndex(int(index));
    question_->setText(pages_[index]->question());
    for (std::size_t i = 0; i < choices_.size(); ++i) choices_[i]->setChecked(i == index);
    emit stateChanged();
    emit auditionChanged();
}

void LevelBench::showPage(const QString& name)
{
    for (std::size_t i = 0; i < pages_.size(); ++i)
        if (pages_[i]->name().compare(name, Qt::CaseInsensitive) == 0) choose(i);
}

/// The spine tells of the take in hand, whichever page is looked at.
BenchState LevelBench::state() const
{
    if (capture().isRecording()) return {tr("recording \u2026"), false};
    const Take* take = session().isOpen() ? session().take() : nullptr;
    if (!take) return {tr("no take yet"), false};
    const auto found = session().levelFindings(*take);
    const QString line = severityLine(found);
    if (!line.isEmpty()) return {line, true};
    const auto average = session().averageDbfs(*take);
    if (!average) return {tr("measuring \u2026"), false};
    return {tr("%1 dBFS, ready").arg(QString::fromStdString(figureText(*average))), false};
}

void LevelBench::findings(FindingsPanel& panel) const { current().findings(panel); }

AuditionRequest LevelBench::audition() const
{
    auto request = current().audition();
    return request.slots_.empty() ? pages_.front()->audition() : request;
}

bool LevelBench::isBusy() const
{
    return std::ranges::any_of(pages_, [](const LevelPage* p) { return p->isBusy(); });
}

} // namespace gristle::app
