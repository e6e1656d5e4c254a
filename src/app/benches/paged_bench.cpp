#include "app/benches/paged_bench.h"

#include "app/benches/bench_page.h"
#include "app/theme/theme.h"
#include "app/widgets/page_stack.h"

#include <QLabel>
#include <QPushButton>
#include <QStackedWidget>
#include <QVBoxLayout>

namespace gristle::app {

void PagedBench::setPages(std::vector<BenchPage*> pages)
{
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(26, 12, 26, 14);
    column->setSpacing(6);
    auto* head = new QHBoxLayout;
    head->setSpacing(4);
    question_ = new QLabel(this);
    question_->setFont(Theme::instance().text(TextSize::Heading, true));
    question_->setWordWrap(true); // in a narrow window beside many pages
    head->addWidget(question_, 1);
    column->addLayout(head);
    stack_ = new PageStack(this);
    column->addWidget(stack_, 1);
    for (BenchPage* page : pages_ = std::move(pages)) stack_->addWidget(page);
    for (std::size_t i = 0; i < pages_.size(); ++i) {
        BenchPage* page = pages_[i];
        auto* choice = new QPushButton(page->name(), this);
        choice->setObjectName(this->name().toLower() + "Page." + page->name().toLower());
        choice->setAccessibleName(tr("%1 page").arg(page->name()));
        choice->setToolTip(page->question());
        choice->setProperty("slot", true);
        choice->setCheckable(true);
        connect(choice, &QPushButton::clicked, this, [this, i] { choose(i); });
        head->addWidget(choice);
        choices_.push_back(choice);
        connect(page, &BenchPage::stateChanged, this, &Bench::stateChanged);
        connect(page, &BenchPage::auditionChanged, this, &Bench::auditionChanged);
        connect(page, &BenchPage::failed, this, &Bench::failed);
    }
    choose(0);
}

BenchPage& PagedBench::current() const { return *pages_[std::size_t(stack_->currentIndex())]; }

void PagedBench::choose(std::size_t index)
{
    stack_->setCurrentIndex(int(index));
    question_->setText(pages_[index]->question());
    for (std::size_t i = 0; i < choices_.size(); ++i) choices_[i]->setChecked(i == index);
    emit stateChanged();
    emit auditionChanged();
}

void PagedBench::showPage(const QString& name)
{
    for (std::size_t i = 0; i < pages_.size(); ++i)
        if (pages_[i]->name().compare(name, Qt::CaseInsensitive) == 0) choose(i);
}

QStringList PagedBench::pageNames() const
{
    QStringList out;
    for (const BenchPage* page : pages_) out << page->name();
    return out;
}

BenchFindings PagedBench::findings() const { return current().findings(); }

Remedies PagedBench::remedies() { return current().remedies(); }

AuditionRequest PagedBench::audition() const
{
    auto request = current().audition();
    return request.slots_.empty() ? pages_.front()->audition() : request;
}

bool PagedBench::isBusy() const
{
    return std::ranges::any_of(pages_, [](const BenchPage* p) { return p->isBusy(); });
}

} // namespace gristle::app
