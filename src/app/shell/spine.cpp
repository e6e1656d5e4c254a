#include "app/shell/spine.h"

#include "app/theme/theme.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

namespace gristle::app {

namespace {

constexpr int kRow = 56;
constexpr int kTop = 8;

} // namespace

Spine::Spine(QWidget* parent) : QWidget(parent)
{
    setObjectName("spine");
    setAccessibleName(tr("Benches"));
    setFixedWidth(158);
    setFocusPolicy(Qt::StrongFocus);
    connect(&Theme::instance(), &Theme::changed, this, qOverload<>(&QWidget::update));
}

void Spine::setBenches(std::vector<Bench*> benches)
{
    benches_ = std::move(benches);
    refresh();
}

void Spine::setCurrent(int index)
{
    current_ = index;
    update();
}

void Spine::setOpen(bool isOpen)
{
    isOpen_ = isOpen;
    refresh();
}

void Spine::refresh()
{
    states_.clear();
    QStringList said;
    for (const Bench* b : benches_) {
        states_.push_back(isOpen_ ? b->state() : BenchState{});
        said << b->name() + ": " + states_.back().line;
    }
    setAccessibleDescription(said.join("; "));
    update();
}

void Spine::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    p.fillRect(rect(), ink(Token::Panel));
    p.setPen(ink(Token::Rule));
    p.drawLine(width() - 1, 0, width() - 1, height());
    const auto& t = Theme::instance();
    for (std::size_t i = 0; i < benches_.size(); ++i) {
        const QRect row(0, kTop + int(i) * kRow, width(), kRow);
        const bool on = int(i) == current_;
        if (on) {
            p.fillRect(row, ink(Token::Ground));
            p.fillRect(QRect(0, row.top(), 4, kRow), ink(Token::Act));
        }
        if (on && hasFocus()) {
            p.setPen(QPen(ink(Token::Act), 1));
            p.drawRect(row.adjusted(4, 1, -2, -2));
        }
        p.setFont(t.text(TextSize::Normal, true));
        p.setPen(ink(Token::Ink));
        p.drawText(row.adjusted(20, 9, -24, 0), Qt::AlignLeft | Qt::AlignTop, benches_[i]->name());
        p.setFont(t.mono(TextSize::Small));
        p.setPen(ink(Token::Ink3));
        p.drawText(row.adjusted(0, 9, -14, 0), Qt::AlignRight | Qt::AlignTop, QString::number(benches_[i]->digit()));
        p.setFont(t.text(TextSize::Small));
        const BenchState& state = states_[i];
        int x = row.left() + 20;
        if (state.wants) { // a shape besides the words
            p.setRenderHint(QPainter::Antialiasing);
            p.setPen(QPen(ink(Token::Act), 1.3));
            p.setBrush(Qt::NoBrush);
            const double y = row.top() + 38.5;
            p.drawPolygon(QPolygonF({{x + 4.0, y - 5}, {x + 8.5, y + 4}, {x - 0.5, y + 4}}));
            x += 14;
        }
        p.setPen(state.wants ? ink(Token::Ink) : ink(Token::Ink2));
        p.drawText(QRect(x, row.top() + 30, width() - x - 10, 18), Qt::AlignLeft | Qt::AlignVCenter,
                   p.fontMetrics().elidedText(state.line, Qt::ElideRight, width() - x - 10));
    }
}

void Spine::mousePressEvent(QMouseEvent* event)
{
    const int index = (int(event->position().y()) - kTop) / kRow;
    if (index >= 0 && index < int(benches_.size())) emit choose(index);
}

void Spine::keyPressEvent(QKeyEvent* event)
{
    if (event->key() == Qt::Key_Up && current_ > 0) return void(emit choose(current_ - 1));
    if (event->key() == Qt::Key_Down && current_ + 1 < int(benches_.size())) return void(emit choose(current_ + 1));
    QWidget::keyPressEvent(event);
}

} // namespace gristle::app
