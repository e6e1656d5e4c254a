#include "app/shell/audition_bar.h"

#include "app/theme/theme.h"
#include "app/widgets/dismiss.h"
#include "app/widgets/plot.h"
#include "app/widgets/progress_line.h"
#include "core/advice/finding.h"

#include <QDoubleSpinBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QPainter>
#include <QPushButton>

namespace gristle::app {

OutputMeter::OutputMeter(Audition& audition, QWidget* parent) : QWidget(parent), audition_(audition)
{
    setFixedSize(286, 46);
    setObjectName("outputMeter");
    setAccessibleName(tr("Output level, loudness and correlation"));
    connect(&audition_, &Audition::metered, this, [this] {
        const OutputReading& r = audition_.reading();
        setAccessibleDescription(r.momentaryLufs ? tr("%1 LUFS").arg(*r.momentaryLufs, 0, 'f', 1) : tr("silent"));
        update();
    });
    connect(&Theme::instance(), &Theme::changed, this, qOverload<>(&QWidget::update));
}

void OutputMeter::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    const OutputReading& r = audition_.reading();
    const auto& t = Theme::instance();
    const double left = 18, width = 152;
    const auto at = [&](double db) { return left + width * std::clamp((db + 48.0) / 48.0, 0.0, 1.0); };
    for (int c = 0; c < 2; ++c) {
        const double y = c == 0 ? 6 : 27;
        p.setFont(t.mono(TextSize::Small));
        p.setPen(ink(Token::Ink2));
        p.drawText(QRectF(0, y - 3, 14, 18), Qt::AlignVCenter, c == 0 ? tr("L") : tr("R"));
        p.fillRect(QRectF(left, y + 2, width, 9), ink(Token::Band));
        p.fillRect(QRectF(left, y + 2, at(r.rmsDbfs[c]) - left, 9), ink(c == 0 ? Token::Left : Token::Right));
        if (r.peakDbfs[c] > -48.0)
            p.fillRect(QRectF(at(r.peakDbfs[c]) - 1, y - 1, 2, 15), ink(c == 0 ? Token::Left : Token::Right));
    }
    p.setPen(ink(Token::Ink2));
    const QString dash(QChar(0x2013));
    p.drawText(QRectF(left + width + 8, 3, 110, 18), Qt::AlignVCenter,
               (r.momentaryLufs ? numberLabel(*r.momentaryLufs, 1) : dash) + tr(" LUFS"));
    const QString second = r.limiterDb < -0.1 ? tr("limiter %1 dB").arg(numberLabel(r.limiterDb, 1))
                                              : tr("corr ") + (r.correlation ? numberLabel(*r.correlation, 2) : dash);
    p.setPen(r.limiterDb < -0.1 ? ink(Token::Act) : ink(Token::Ink2));
    p.drawText(QRectF(left + width + 8, 24, 110, 18), Qt::AlignVCenter, second);
}

AuditionBar::AuditionBar(SessionModel& session, Audition& audition, QWidget* parent)
    : QWidget(parent), session_(session), audition_(audition)
{
    setObjectName("auditionBar");
    setAutoFillBackground(true);
    setFixedHeight(66);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(18, 6, 14, 6);
    row->setSpacing(14);
    hear_ = new QPushButton(this);
    hear_->setObjectName("hear");
    hear_->setProperty("act", true);
    hear_->setFixedSize(108, 36);
    hear_->setToolTip(tr("Hear or stop (Space). Start and stop are gentle, the output is limited at \u22121 dBTP."));
    connect(hear_, &QPushButton::clicked, this, &AuditionBar::hear);
    row->addWidget(hear_);
    auto* about = new QVBoxLayout;
    about->setSpacing(1);
    subject_ = new QLabel(this);
    subject_->setObjectName("subject");
    subject_->setMinimumWidth(190);
    about->addWidget(subject_);
    auto* loop = new QHBoxLayout;
    loop->setSpacing(2);
    loop->addWidget(new QLabel(tr("loop bars"), this));
    const auto spin = [&](const char* name, const QString& label) {
        auto* s = new QDoubleSpinBox(this);
        s->setObjectName(name);
        s->setAccessibleName(label);
        s->setToolTip(label);
        s->setRange(1.0, 9999.0);
        s->setDecimals(2);
        s->setButtonSymbols(QAbstractSpinBox::NoButtons);
        s->setFixedWidth(50);
        s->setAlignment(Qt::AlignCenter);
        connect(s, &QDoubleSpinBox::editingFinished, this, [this] {
            if (from_->value() != session_.loop().fromBar() || to_->value() != session_.loop().toBar())
                session_.loop().set(from_->value(), to_->value());
        });
        loop->addWidget(s);
        return s;
    };
    from_ = spin("loopFrom", tr("First bar of the loop ( [ sets it to what is heard )"));
    loop->addWidget(new QLabel(tr("to"), this));
    to_ = spin("loopTo", tr("Bar at which the loop turns back ( ] sets it to what is heard )"));
    loop->addStretch(1);
    about->addLayout(loop);
    row->addLayout(about);
    row->addStretch(1);
    slotRow_ = new QWidget(this);
    slotLayout_ = new QHBoxLayout(slotRow_);
    slotLayout_->setContentsMargins(0, 0, 0, 0);
    slotLayout_->setSpacing(2);
    row->addWidget(slotRow_);
    matching_ = new QLabel(this);
    matching_->setProperty("tone", "2");
    matching_->setObjectName("matching");
    matching_->setMinimumWidth(112);
    row->addWidget(matching_);
    row->addStretch(1);
    taskRow_ = new QWidget(this);
    auto* taskLayout = new QGridLayout(taskRow_);
    taskLayout->setContentsMargins(0, 0, 0, 0);
    taskLayout->setVerticalSpacing(2);
    taskTitle_ = new QLabel(taskRow_);
    taskTitle_->setFont(Theme::instance().text(TextSize::Small));
    progress_ = new ProgressLine(taskRow_);
    progress_->setObjectName("progress");
    progress_->setFixedWidth(130);
    cancel_ = new QPushButton(tr("Stop"), taskRow_);
    cancel_->setObjectName("cancelTask");
    cancel_->setAccessibleName(tr("Stop this work"));
    cancel_->setProperty("plain", true);
    taskLayout->addWidget(taskTitle_, 0, 0);
    taskLayout->addWidget(progress_, 1, 0);
    taskLayout->addWidget(cancel_, 0, 1, 2, 1);
    taskRow_->hide();
    row->addWidget(taskRow_);
    row->addWidget(new OutputMeter(audition, this));
    connect(&audition_, &Audition::changed, this, &AuditionBar::refresh);
    connect(&session_, &SessionModel::loopChanged, this, &AuditionBar::refresh);
    connect(&Theme::instance(), &Theme::changed, this, &AuditionBar::refresh);
    refresh();
}

void AuditionBar::watch(TaskRunner& task)
{
    tasks_.push_back(&task);
    connect(&task, &TaskRunner::busyChanged, this, &AuditionBar::refreshTask);
    connect(&task, &TaskRunner::progressed, this, [this, &task](double part) {
        if (!tasks_.empty() && taskTitle_->text() == task.title()) progress_->setPart(part);
    });
    if (tasks_.size() == 1)
        connect(cancel_, &QPushButton::clicked, this, [this] {
            for (TaskRunner* t : tasks_)
                if (t->isBusy()) return t->cancel();
        });
}

void AuditionBar::refreshTask()
{
    TaskRunner* busy = nullptr;
    for (TaskRunner* t : tasks_)
        if (!busy && t->isBusy()) busy = t;
    taskRow_->setVisible(busy != nullptr);
    if (busy) {
        taskTitle_->setText(busy->title());
        progress_->setPart(0.0);
    }
}

void AuditionBar::rebuildSlots()
{
    for (QPushButton* b : slotButtons_) dismiss(b);
    slotButtons_.clear();
    for (std::size_t i = 0; i < audition_.current().slots_.size(); ++i) {
        auto* b = new QPushButton(slotRow_);
        b->setObjectName(QStringLiteral("slot.%1").arg(i));
        b->setProperty("slot", true);
        b->setCheckable(true);
        b->setToolTip(tr("Hear this one (X swaps); all are equally loud"));
        connect(b, &QPushButton::clicked, this, [this, i] { audition_.setSlot(i); });
        slotLayout_->addWidget(b);
        slotButtons_.push_back(b);
    }
}

/// What is kept so that it need not be rendered again.
QString AuditionBar::keptText() const
{
    constexpr double kMegabyte = 1048576.0;
    const auto kept = session_.renders()->figures();
    return tr("Rendered layers kept in memory: %1 of %2 MB")
        .arg(double(kept.bytes) / kMegabyte, 0, 'f', 0)
        .arg(double(kept.limitBytes) / kMegabyte, 0, 'f', 0);
}

void AuditionBar::refresh()
{
    const bool any = !audition_.current().slots_.empty();
    hear_->setEnabled(any);
    hear_->setText(audition_.isPlaying() ? tr("Stop   Space") : tr("Hear   Space"));
    hear_->setAccessibleName(audition_.isPlaying() ? tr("Stop") : tr("Hear"));
    subject_->setText(any ? audition_.current().subject : tr("nothing to hear on this bench"));
    subject_->setToolTip(keptText() + (audition_.deviceNote().isEmpty() ? QString() : "\n" + audition_.deviceNote()));
    for (QDoubleSpinBox* s : {from_, to_}) s->blockSignals(true);
    from_->setValue(session_.loop().fromBar());
    to_->setValue(session_.loop().toBar());
    for (QDoubleSpinBox* s : {from_, to_}) s->blockSignals(false);
    if (slotButtons_.size() != audition_.current().slots_.size()) rebuildSlots();
    for (std::size_t i = 0; i < slotButtons_.size(); ++i) {
        slotButtons_[i]->setText(audition_.current().slots_[i].title);
        slotButtons_[i]->setChecked(i == audition_.slot());
    }
    slotRow_->setVisible(slotButtons_.size() > 1);
    const auto gain = audition_.matchingGainDb(audition_.slot());
    matching_->setVisible(slotButtons_.size() > 1);
    matching_->setText(gain  ? tr("matched %1 dB").arg(QString::fromStdString(core::signedText(*gain)))
                       : any ? tr("preparing \u2026")
                             : QString());
}

} // namespace gristle::app
