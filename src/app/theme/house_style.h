#pragma once

#include <QProxyStyle>

namespace gristle::app {

/// The house's look where the style sheet does not reach: dialog buttons are words alone, and the few pictures that
/// file dialogs need are drawn with the theme's ink.
class HouseStyle : public QProxyStyle {
    Q_OBJECT
public:
    HouseStyle();
    int styleHint(StyleHint hint, const QStyleOption* option, const QWidget* widget,
                  QStyleHintReturn* returned) const override;
    QIcon standardIcon(StandardPixmap which, const QStyleOption* option, const QWidget* widget) const override;
    QPixmap standardPixmap(StandardPixmap which, const QStyleOption* option, const QWidget* widget) const override;
};

} // namespace gristle::app
