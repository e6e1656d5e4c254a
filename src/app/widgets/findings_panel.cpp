#include "app/widgets/findings_panel.h"

#include "app/theme/theme.h"
#include "app/widgets/dismiss.h"

#include <QLabel>
#include <QPainter>
#include <QPushButton>
#include <QVBoxLayout>

namespace gristle::app {

using core::Finding;
using core::Severity;

namespace {

/// Bed, target as a frame, measured as a mark.
class FindingBar : public QWidget {
public:
    FindingBar(const Finding& finding, QWidget* parent) : QWidget(parent), f_(finding)
    {
        setFixedHeight(22);
        setAccessibleName(QStringLiteral("measured %1 %2, target %3")
                              .arg(f_.measured.value_or(0.0))
                              .arg(QString::fromStdString(f_.unit))
                              .arg(f_.target.value_or(0.0)));
    }

protected:
    void paintEvent(QPaintEvent*) override
    {
        QPainter p(this);
        p.setRenderHint(QPainter::Antialiasing);
        const auto at = [&](double v) {
            return 2.0 + (width() - 4.0) * (std::clamp(v, f_.low, f_.high) - f_.low) / (f_.high - f_.low);
        };
        const double middle = height() / 2.0;
        p.fillRect(QRectF(0, middle - 2, width(), 4), ink(Token::Band));
        if (f_.targetLow && f_.targetHigh) {
            p.setPen(QPen(ink(Token::Ink3), 1));
            p.drawRect(
                QRectF(at(*f_.targetLow), middle - 6, std::max(4.0, at(*f_.targetHigh) - at(*f_.targetLow)), 12));
        } else if (f_.target) {
            p.fillRect(QRectF(at(*f_.target) - 0.5, middle - 7, 1, 14), ink(Token::Ink3));
        }
        if (f_.measured)
            p.fillRect(QRectF(at(*f_.measured) - 1.5, middle - 8, 3, 16),
                       ink(f_.severity == Severity::Note ? Token::Ink : Token::Act));
    }

private:
    Finding f_;
};

/// The mark of a severity: a shape besides the colour.
class SeverityMark : public QWidget {
public:
    SeverityMark(Severity severity, QWidget* parent) : QWidget(parent), severity_(severity) { setFixedSize(14, 16); }

protected:
    void paintEvent(QPaintEvent*) override
    {
        QPainter p(this);
        p.setRenderHint(QPainter::Antialiasing);
        if (severity_ == Severity::Note) {
            p.setPen(Qt::NoPen);
            p.setBrush(ink(Token::Ink3));
            p.drawEllipse(QRectF(2, 4, 9, 9));
        } else if (severity_ == Severity::Fix) {
            p.setPen(QPen(ink(Token::Act), 1.5));
            p.drawPolygon(QPolygonF({{6.5, 3.0}, {11.5, 12.5}, {1.5, 12.5}}));
        } else {
            p.fillRect(QRectF(2, 4, 9, 9), ink(Token::Act));
        }
    }

private:
    Severity severity_;
};

QLabel* wrapped(const QString& text, const QFont& font, Token token, QWidget* parent)
{
    auto* label = new QLabel(text, parent);
    label->setFont(font);
    label->setWordWrap(true);
    label->setTextFormat(Qt::PlainText);
    label->setProperty("tone", token == Token::Ink2 ? "2" : token == Token::Ink3 ? "3" : "");
    return label;
}

QWidget* makeCard(const Finding& f, const Remedies& remedies, QWidget* parent)
{
    auto* card = new QWidget(parent);
    card->setObjectName("finding." + QString::fromStdString(f.code));
    auto* column = new QVBoxLayout(card);
    column->setContentsMargins(0, 0, 0, 10);
    column->setSpacing(4);
    auto* head = new QHBoxLayout;
    head->setSpacing(6);
    head->addWidget(new SeverityMark(f.severity, card), 0, Qt::AlignTop);
    head->addWidget(
        wrapped(QString::fromStdString(f.title), Theme::instance().text(TextSize::Normal, true), Token::Ink, card), 1);
    column->addLayout(head);
    const QString severity = QString::fromLatin1(core::severityText(f.severity));
    card->setAccessibleName(severity + ": " + QString::fromStdString(f.title + ". " + f.message));
    QString text = QString::fromStdString(f.message);
    const auto action = remedies.find(f.code);
    if (!f.remedy.empty() && action == remedies.end()) text += " " + QString::fromStdString(f.remedy) + ".";
    column->addWidget(wrapped(text, Theme::instance().text(TextSize::Small), Token::Ink2, card));
    if (f.measured && f.high > f.low) column->addWidget(new FindingBar(f, card));
    if (action != remedies.end()) {
        auto* button = new QPushButton(action->second.label, card);
        button->setProperty("act", f.severity != Severity::Note);
        button->setObjectName("remedy." + QString::fromStdString(f.code));
        button->setAccessibleName(action->second.label);
        QObject::connect(button, &QPushButton::clicked, card, action->second.apply);
        column->addWidget(button, 0, Qt::AlignLeft);
    }
    return card;
}

} // namespace

FindingsPanel::FindingsPanel(QWidget* parent) : QScrollArea(parent)
{
    setObjectName("findings");
    setAccessibleName(tr("Findings"));
    setWidgetResizable(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFrameShape(QFrame::NoFrame);
    inner_ = new QWidget;
    layout_ = new QVBoxLayout(inner_);
    layout_->setContentsMargins(18, 18, 18, 12);
    layout_->setSpacing(10);
    setWidget(inner_);
    connect(&Theme::instance(), &Theme::changed, this, &FindingsPanel::rebuild);
}

void FindingsPanel::show(const std::vector<Finding>& findings, const Remedies& remedies, const QString& whenNone)
{
    findings_ = findings;
    core::rank(findings_);
    remedies_ = remedies;
    whenNone_ = whenNone;
    rebuild();
}

void FindingsPanel::rebuild()
{
    while (QLayoutItem* item = layout_->takeAt(0)) {
        dismiss(item->widget());
        delete item;
    }
    auto* title = new QLabel(tr("Findings <span style='color:%1; font-weight:400'>%2</span>")
                                 .arg(ink(Token::Ink3).name())
                                 .arg(findings_.empty() ? QString() : QString::number(findings_.size())),
                             inner_);
    title->setFont(Theme::instance().text(TextSize::Heading, true));
    layout_->addWidget(title);
    if (findings_.empty())
        layout_->addWidget(wrapped(whenNone_, Theme::instance().text(TextSize::Small), Token::Ink3, inner_));
    for (std::size_t i = 0; i < findings_.size(); ++i) {
        layout_->addWidget(makeCard(findings_[i], remedies_, inner_));
        if (i + 1 == findings_.size()) break;
        auto* line = new QFrame(inner_);
        line->setFixedHeight(1);
        line->setProperty("rule", true);
        layout_->addWidget(line);
    }
    layout_->addStretch(1);
}

} // namespace gristle::app
