#pragma once

#include <QTableWidget>
#include <functional>
#include <optional>
#include <set>

class QLineEdit;

namespace gristle::app {

/// A cell of words, or of a figure: set in the monospaced font, to the right.
QTableWidgetItem* wordCell(const QString& text);
QTableWidgetItem* figureCell(const QString& text, bool editable = false);

/// A table as all benches have them: rows chosen whole, no grid, figures to the right.
void layOutTable(QTableWidget& table, const QStringList& headers, const std::set<int>& figures);

/// A value as it is written on screen: with a real minus sign, to so many digits.
QString shownFigure(double value, int digits);
/// What was typed as a figure, whichever minus sign.
std::optional<double> typedFigure(QString text);

/// A figure that is typed and taken with Enter or by leaving; a text that is none, or out of range, goes back.
class FigureBox : public QWidget {
    Q_OBJECT
public:
    /// @param label  before it @param unit  behind it
    FigureBox(const QString& label, const QString& unit, const char* name, double low, double high, int digits,
              QWidget* parent);
    void setValue(double value);
    double value() const { return value_; }
    void setOffAtZero(); ///< 0 is written, and may be typed, as "off"

signals:
    void changed(double value);

private:
    void take();
    QLineEdit* edit_;
    QString textOf(double value) const;
    double low_, high_, value_ = 0.0;
    int digits_;
    bool isOffAtZero_ = false;
};

} // namespace gristle::app
