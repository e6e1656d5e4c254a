#pragma once

#include <QWidget>

namespace gristle::app {

/// How much of some work is done, as a thin line. Moving it only asks for a repaint, it never paints by itself.
class ProgressLine : public QWidget {
    Q_OBJECT
public:
    explicit ProgressLine(QWidget* parent = nullptr);
    void setPart(double part); ///< 0 to 1

protected:
    void paintEvent(QPaintEvent*) override;

private:
    double part_ = 0.0;
};

} // namespace gristle::app
