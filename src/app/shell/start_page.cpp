#include "app/shell/start_page.h"

#include "app/models/preferences.h"
#include "app/theme/theme.h"
#include "app/widgets/dismiss.h"

#include <QDir>
#include <QFileInfo>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

namespace gristle::app {

StartPage::StartPage(QWidget* parent) : QWidget(parent)
{
    setObjectName("startPage");
    auto* outer = new QVBoxLayout(this);
    outer->addStretch(2);
    auto* title = new QLabel(tr("Drop your recordings here."), this);
    title->setFont(Theme::instance().text(TextSize::Big, true));
    title->setAlignment(Qt::AlignHCenter);
    outer->addWidget(title);
    auto* about = new QLabel(tr("Two takes of one riff, played straight into the interface, are enough.\nGristle says "
                                "whether they were captured right, puts them through a rig, places them left and "
                                "right,\nshows what mono does to it, and keeps a record of it all.\nNothing recorded "
                                "yet? Make an empty session, check the input, and record."),
                             this);
    about->setFont(Theme::instance().text(TextSize::Heading));
    about->setAlignment(Qt::AlignHCenter);
    outer->addWidget(about);
    outer->addSpacing(22);
    auto* row = new QHBoxLayout;
    row->addStretch(1);
    const auto add = [&](const QString& text, const char* name, bool act, auto signal) {
        auto* b = new QPushButton(text, this);
        b->setObjectName(name);
        b->setAccessibleName(text);
        b->setProperty("act", act);
        connect(b, &QPushButton::clicked, this, signal);
        row->addWidget(b);
        row->addSpacing(8);
        return b;
    };
    add(tr("Bring takes in \u2026"), "start.bringIn", true, &StartPage::bringIn);
    add(tr("Open a session \u2026"), "start.open", false, &StartPage::openSession);
    add(tr("Make an empty session \u2026"), "start.new", false, &StartPage::makeSession);
    demo_ = add(tr("Look at the demo"), "start.demo", false, &StartPage::openDemo);
    demo_->setToolTip(tr("An invented EP with synthesised guitars and faults to find; made here in a few seconds"));
    row->addStretch(1);
    outer->addLayout(row);
    recent_ = new QVBoxLayout;
    outer->addSpacing(26);
    outer->addLayout(recent_);
    outer->addStretch(3);
    auto* caution = new QLabel(tr("Loudness and hours add up: take breaks, and start with the headphones down."), this);
    caution->setAlignment(Qt::AlignHCenter);
    outer->addWidget(caution);
    outer->addSpacing(14);
}

void StartPage::setMakingDemo(bool isMaking)
{
    demo_->setText(isMaking ? tr("Making the demo \u2026") : tr("Look at the demo"));
    demo_->setEnabled(!isMaking);
}

void StartPage::showEvent(QShowEvent* event)
{
    QWidget::showEvent(event);
    while (QLayoutItem* item = recent_->takeAt(0)) {
        dismiss(item->widget());
        delete item;
    }
    const QStringList known = recentSessions();
    if (!known.isEmpty()) {
        auto* heading = new QLabel(tr("Open again"), this);
        heading->setProperty("tone", "2");
        recent_->addWidget(heading, 0, Qt::AlignHCenter);
    }
    for (const QString& folder : known) {
        const QString home = QDir::homePath();
        QString where = QFileInfo(folder).absolutePath();
        if (where.startsWith(home)) where.replace(0, home.size(), "~");
        auto* b = new QPushButton(tr("%1   in %2").arg(QFileInfo(folder).completeBaseName(), where), this);
        b->setObjectName("start.recent");
        b->setAccessibleName(tr("Open %1").arg(QFileInfo(folder).completeBaseName()));
        b->setToolTip(folder);
        b->setProperty("plain", true);
        connect(b, &QPushButton::clicked, this, [this, folder] { emit openRecent(folder); });
        recent_->addWidget(b, 0, Qt::AlignHCenter);
    }
}

} // namespace gristle::app
