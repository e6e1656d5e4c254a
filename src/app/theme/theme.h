#pragma once

#include <QColor>
#include <QFont>
#include <QObject>

class QApplication;

namespace gristle::app {

/// What a colour is for. Left, right and di are for channels, always and only.
enum class Token { Ground, Panel, Rule, Band, Ink, Ink2, Ink3, Act, Left, Right, Di };
enum class Lamp { Paper, Off };
enum class TextSize { Small, Normal, Heading, Reading, Prompt, Big };

/// Colours, sizes and fonts of the window. One theme for the application; widgets repaint on changed().
class Theme : public QObject {
    Q_OBJECT
public:
    static Theme& instance();
    void install(QApplication& application); ///< loads the fonts that ship and sets palette and style
    void setLamp(Lamp lamp);
    Lamp lamp() const { return lamp_; }
    QColor color(Token token) const;
    QFont text(TextSize size = TextSize::Normal, bool strong = false) const;
    QFont mono(TextSize size = TextSize::Normal, bool strong = false) const;

signals:
    void changed();

private:
    void apply();
    QString styleSheet() const;
    Lamp lamp_ = Lamp::Paper;
    QString textFamily_, monoFamily_;
};

inline QColor ink(Token token) { return Theme::instance().color(token); }

} // namespace gristle::app
