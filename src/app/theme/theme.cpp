#include "app/theme/theme.h"

#include "app/theme/house_style.h"

#include <QApplication>
#include <QFontDatabase>
#include <QIcon>
#include <QPalette>
#include <QStyleFactory>
#include <array>

/// A library's resources are not there until somebody asks; the macro does not work inside a namespace.
static void initResources() { Q_INIT_RESOURCE(resources); }

namespace gristle::app {

namespace {

struct Pair {
    const char* paper;
    const char* off;
};

/// In the order of Token.
constexpr std::array<Pair, 11> kColors = {{{"#F5F1E8", "#1B1D1F"},
                                           {"#EDE7DA", "#222528"},
                                           {"#D3CBBB", "#3A3E42"},
                                           {"#E4DCCA", "#2F3438"},
                                           {"#23262B", "#E9E4D8"},
                                           {"#5C5F66", "#ABA89F"},
                                           {"#696660", "#96948C"},
                                           {"#B23A2A", "#E36A54"},
                                           {"#3C6C96", "#7FB0DC"},
                                           {"#B07A1E", "#E0AE54"},
                                           {"#8A8780", "#97948C"}}};

int pixels(TextSize size)
{
    switch (size) {
    case TextSize::Small: return 12;
    case TextSize::Normal: return 13;
    case TextSize::Heading: return 15;
    case TextSize::Reading: return 18;
    case TextSize::Prompt: return 28;
    case TextSize::Big: return 46;
    }
    return 13;
}

QString loadFamily(const char* regular, const char* strong, const char* fallback)
{
    const int id = QFontDatabase::addApplicationFont(regular);
    QFontDatabase::addApplicationFont(strong);
    const auto families = id >= 0 ? QFontDatabase::applicationFontFamilies(id) : QStringList();
    return families.isEmpty() ? QString::fromLatin1(fallback) : families.front();
}

QFont font(const QString& family, TextSize size, bool strong)
{
    QFont f(family);
    f.setPixelSize(pixels(size));
    f.setWeight(strong ? QFont::DemiBold : QFont::Normal);
    return f;
}

} // namespace

Theme& Theme::instance()
{
    static Theme theme;
    return theme;
}

void Theme::install(QApplication& application)
{
    initResources();
    textFamily_ = loadFamily(":/fonts/Inter-Regular.otf", ":/fonts/Inter-SemiBold.otf", "sans-serif");
    monoFamily_ = loadFamily(":/fonts/JetBrainsMono-Regular.ttf", ":/fonts/JetBrainsMono-SemiBold.ttf", "monospace");
    application.setStyle(new HouseStyle);
    application.setFont(text());
    application.setWindowIcon(QIcon(":/gristle.png"));
    apply();
}

void Theme::setLamp(Lamp lamp)
{
    if (lamp == lamp_) return;
    lamp_ = lamp;
    apply();
    emit changed();
}

QColor Theme::color(Token token) const
{
    const Pair& pair = kColors[static_cast<std::size_t>(token)];
    return QColor(QLatin1String(lamp_ == Lamp::Paper ? pair.paper : pair.off));
}

QFont Theme::text(TextSize size, bool strong) const { return font(textFamily_, size, strong); }
QFont Theme::mono(TextSize size, bool strong) const { return font(monoFamily_, size, strong); }

void Theme::apply()
{
    QPalette p;
    p.setColor(QPalette::Window, color(Token::Ground));
    p.setColor(QPalette::Base, color(Token::Ground));
    p.setColor(QPalette::AlternateBase, color(Token::Panel));
    p.setColor(QPalette::Button, color(Token::Ground));
    p.setColor(QPalette::ToolTipBase, color(Token::Panel));
    for (const auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText, QPalette::ToolTipText})
        p.setColor(role, color(Token::Ink));
    for (const auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText})
        p.setColor(QPalette::Disabled, role, color(Token::Ink3));
    p.setColor(QPalette::PlaceholderText, color(Token::Ink3));
    p.setColor(QPalette::Highlight, color(Token::Band));
    p.setColor(QPalette::HighlightedText, color(Token::Ink));
    p.setColor(QPalette::Link, color(Token::Act));
    QApplication::setPalette(p);
    qApp->setStyleSheet(styleSheet());
}

QString Theme::styleSheet() const
{
    QString s = R"(
QToolTip { background: %panel; color: %ink; border: 1px solid %rule; padding: 4px; }
QPushButton { border: 1px solid %rule; border-radius: 2px; padding: 5px 11px; background: transparent; color: %ink; font-weight: 600; }
QPushButton:hover { border-color: %ink3; }
QPushButton:pressed { background: %band; }
QPushButton:checked { background: %band; border-color: %ink2; }
QPushButton:focus { border: 2px solid %ink; padding: 4px 10px; }
QPushButton:disabled { color: %ink3; }
QPushButton[act="true"] { border-color: %act; color: %act; }
QPushButton[act="true"]:focus { border-color: %act; }
QPushButton[act="true"]:disabled { border-color: %rule; color: %ink3; }
QPushButton[view="true"] { border: none; border-bottom: 2px solid transparent; border-radius: 0; padding: 3px 4px; font-weight: 400; }
QPushButton[view="true"]:checked { background: transparent; border-bottom-color: %act; font-weight: 600; }
QPushButton[view="true"]:focus { border-bottom-color: %ink; }
QPushButton[small="true"] { padding: 2px 6px; font-weight: 400; }
QPushButton[small="true"]:focus { padding: 1px 5px; }
QPushButton[plain="true"] { border: none; padding: 4px 2px; font-weight: 400; text-align: left; }
QPushButton[plain="true"]:hover { color: %act; }
QPushButton[plain="true"]:focus { border: none; border-bottom: 2px solid %ink; }
QPushButton[plain="true"][strong="true"] { font-weight: 600; }
QPushButton::menu-indicator { width: 0; }
QPushButton[slot="true"] { border: none; border-bottom: 3px solid transparent; border-radius: 0; padding: 5px 9px 3px; font-weight: 400; }
QPushButton[slot="true"]:checked { background: transparent; border-bottom: 3px solid %act; font-weight: 600; }
QPushButton[slot="true"]:focus { background: %band; }
QLineEdit, QComboBox, QDoubleSpinBox, QSpinBox { background: %ground; border: none; border-bottom: 1px solid %ink3; border-radius: 0; padding: 3px 4px; color: %ink; selection-background-color: %band; selection-color: %ink; }
QLineEdit:focus, QComboBox:focus, QDoubleSpinBox:focus, QSpinBox:focus { border-bottom: 2px solid %act; padding-bottom: 2px; }
QAbstractSpinBox::up-button, QAbstractSpinBox::down-button { border: none; background: transparent; width: 16px; }
QAbstractSpinBox::up-arrow { image: url(:/marks/up-%lamp.png); width: 9px; height: 6px; }
QAbstractSpinBox::down-arrow { image: url(:/marks/down-%lamp.png); width: 9px; height: 6px; }
QAbstractSpinBox::up-arrow:off, QAbstractSpinBox::down-arrow:off { image: none; }
QComboBox::drop-down { border: none; width: 18px; }
QComboBox::down-arrow { image: url(:/marks/down-%lamp.png); width: 9px; height: 6px; }
QComboBox QAbstractItemView { background: %ground; border: 1px solid %rule; selection-background-color: %band; selection-color: %ink; }
QMenu { background: %ground; border: 1px solid %rule; padding: 4px 0; }
QMenu::item { padding: 5px 22px 5px 14px; color: %ink; }
QMenu::item:selected { background: %band; }
QMenu::item:disabled { color: %ink3; }
QMenu::separator { height: 1px; background: %rule; margin: 4px 0; }
QTableView, QListWidget, QTextBrowser { background: %ground; border: 1px solid %ground; gridline-color: %rule; color: %ink; outline: 0; }
QTableView QComboBox, QTableView QComboBox:focus { padding-top: 0px; padding-bottom: 0px; }
QTableView::item { padding: 3px 6px; border-bottom: 1px solid %rule; }
QTableView::item:selected, QListWidget::item:selected { background: %band; color: %ink; }
QTableView:focus { border-color: %ink3; }
QHeaderView::section { background: %ground; color: %ink2; border: none; border-bottom: 1px solid %ink3; padding: 4px 6px; text-align: left; }
QScrollArea { border: none; background: transparent; }
QScrollBar:vertical { background: transparent; width: 10px; }
QScrollBar::handle:vertical { background: %rule; min-height: 24px; border-radius: 3px; margin: 1px 2px; }
QScrollBar:horizontal { background: transparent; height: 10px; }
QScrollBar::handle:horizontal { background: %rule; min-width: 24px; border-radius: 3px; margin: 2px 1px; }
QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QAbstractScrollArea::corner { background: transparent; border: none; }
QWidget#auditionBar { background: %panel; }
QDialog { background: %ground; }
QLabel[tone="2"] { color: %ink2; }
QLabel[tone="3"] { color: %ink3; }
QFrame[rule="true"] { background: %rule; }
QWidget#noticeRow { background: %band; border-left: 4px solid %act; }
QLabel#notice { color: %ink; }
)";
    const std::pair<const char*, Token> names[] = {
        {"%ground", Token::Ground}, {"%panel", Token::Panel}, {"%rule", Token::Rule}, {"%band", Token::Band},
        {"%ink2", Token::Ink2},     {"%ink3", Token::Ink3},   {"%ink", Token::Ink},   {"%act", Token::Act}};
    for (const auto& [name, token] : names) s.replace(QLatin1String(name), color(token).name());
    s.replace(QLatin1String("%lamp"), QLatin1String(lamp_ == Lamp::Paper ? "paper" : "off"));
    return s;
}

} // namespace gristle::app
