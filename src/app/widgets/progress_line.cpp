#include "app/widgets/progress_line.h"

#include "app/theme/theme.h"

#include <QPainter>

namespace gristle::app {

ProgressLine::ProgressLine(QWidget* parent) : QWidget(parent)
{
    setFixedHeight(4);
    setAccessibleName(tr("Progress"));
}

void ProgressLine::setPart(double part)
{
    part_ = std::clamp(part, 0.0, 1.0);
    setAccessibleDescription(tr("%1 percent").arg(int(part_ * 100.0)));
    update();
}

void ProgressLine::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    p.fillRect(rect(), ink(Token::Band));
    p.fillRect(QRectF(0, 0, width() * part_, height()), ink(Token::Act));
}

} // namespace gristle::app
