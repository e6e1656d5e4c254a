#pragma once

#include <QWidget>

namespace gristle::app {

/// Takes a widget away that may be the one that was just clicked: at once for the user, whose next key or click must
/// not reach it, and from memory when its own event is over.
inline void dismiss(QWidget* widget)
{
    if (!widget) return;
    widget->hide();
    widget->deleteLater();
}

} // namespace gristle::app
