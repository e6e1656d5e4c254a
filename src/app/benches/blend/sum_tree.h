#pragma once

#include "app/widgets/plot.h"

namespace gristle::app {

/// A layer, or a sum that others run into.
struct TreeSignal {
    QString name, level;            ///< "Left 1", "\u22122.0 dB"
    int into = -1;                  ///< the signal that it runs into; -1: the last sum
    std::vector<int> sends{};       ///< where it goes besides
    std::optional<double> lossDb{}; ///< of a sum: what meets there, apart, over the sum
    bool isSum = false;
    bool isBad = false; ///< it loses more than chance would have it
};

/// What meets where: layers on the left run together into buses, and these into the song on the right. A sum is chosen
/// by click, or with Up and Down.
class SumTree : public PlotWidget {
    Q_OBJECT
public:
    explicit SumTree(QWidget* parent = nullptr);
    void setSignals(std::vector<TreeSignal> all, int chosen);
    QSize sizeHint() const override;
    QSize minimumSizeHint() const override { return sizeHint(); }

Q_SIGNALS:
    void choose(int sum);

protected:
    void drawStill(QPainter&) override;
    void drawMoving(QPainter&) override;
    void mousePressEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void resizeEvent(QResizeEvent*) override { changeStill(); }

private:
    struct Spot {
        double row = 0.0;
        int depth = 0; ///< sums between here and the end
    };
    std::vector<Spot> spots() const;
    QPointF pointOf(int index, const std::vector<Spot>& all) const;
    int leaves() const;
    std::vector<TreeSignal> all_;
    int chosen_ = -1;
};

} // namespace gristle::app
