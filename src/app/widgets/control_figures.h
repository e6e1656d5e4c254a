#pragma once

#include "core/rig/node.h"

#include <QWidget>
#include <functional>
#include <map>

class QGridLayout;
class QLineEdit;

namespace gristle::app {

/// A figure that is typed, stepped with Up and Down (with Shift ten times finer) or with the wheel; Enter takes it.
class FigureEdit;

/// The controls of a stage as figures on rules: one row a parameter, built from its declaration alone.
class ControlFigures : public QWidget {
    Q_OBJECT
public:
    /// @param rows  in a column; further ones stand beside it. 0: all in one
    explicit ControlFigures(QWidget* parent = nullptr, int rows = 0);
    ~ControlFigures() override;
    /// @param files  what a file parameter may choose from; the last entry of the list asks for another
    void setNode(const core::NodeType* type, const core::ParameterValues& values, const QStringList& files);
    const core::ParameterSpec* focused() const;
    core::ParameterValue valueOf(const std::string& key) const;

signals:
    void changed(const QString& key, const QString& text); ///< a checked value, as in the recall line
    void refused(const QString& message, const QString& remedy);
    void focusMoved();
    void fileWanted(const QString& key);

private:
    void letGo(); ///< of the editors: one that loses the focus as it dies must not be heard
    void addRow(const core::ParameterSpec& spec, int row);
    void showWhatWorks(); ///< the others stand there, but cannot be moved
    void offer(const core::ParameterSpec& spec, const QString& text);
    QString typicalText(const std::string& key) const;
    QString shownText(const std::string& key) const;

    const core::NodeType* type_ = nullptr;
    core::ParameterValues values_;
    QStringList files_;
    std::string focused_;
    QGridLayout* grid_;
    int rows_;
    std::map<std::string, QWidget*> editors_;
};

/// The focused parameter on a ruled line with ticks and a mark; drag, click or arrow keys move it.
class TravelRuler : public QWidget {
    Q_OBJECT
public:
    explicit TravelRuler(QWidget* parent = nullptr);
    void setParameter(const core::ParameterSpec* spec, double value);
    /// Curves over the travel, 0 to 1 each way, drawn above the rule.
    struct Curve {
        QString name;
        Qt::PenStyle style = Qt::SolidLine;
        std::vector<QPointF> points; ///< x: value of the parameter, y: in dB
    };
    /// @param words  what the curves say, a line
    void setCurves(std::vector<Curve> curves, const QString& caption, const QString& words);
    const QString& words() const { return words_; }

signals:
    void moved(double value);

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

private:
    QRectF plot() const;
    double valueAt(double pixel) const;
    double pixelAt(double value) const;
    void moveTo(double value);
    core::ParameterSpec spec_;
    bool has_ = false;
    double value_ = 0.0;
    std::vector<Curve> curves_;
    QString caption_, words_;
};

/// A value one step up or down its range: a hundredth, or a semitone of a logarithmic one.
double stepped(const core::ParameterSpec& spec, double value, double steps);

} // namespace gristle::app
