#pragma once

#include "app/models/take_book.h"
#include "app/widgets/plot.h"

namespace gristle::app {

/// A strip of bars for each take: every note as a dot, early above the line and late below it; what is wrong with a bar
/// as a mark and few words; what is heard of each take underlined. One cell is in hand: keys and clicks choose it.
class TakeStrips : public PlotWidget {
    Q_OBJECT
public:
    explicit TakeStrips(QWidget* parent);
    /// @param barQuarters  where each bar begins, from bar 1, one more than there are bars; seconds of the song
    void setTakes(std::vector<core::JudgedTake> takes, std::vector<int> heard, std::size_t counts,
                  std::vector<double> barsS);
    void setInHand(int take, int bar);
    void setNow(std::optional<double> bar); ///< where the recording is
    void setLoop(double fromBar, double toBar);
    int take() const { return take_; }
    int bar() const { return bar_; }

signals:
    void choose(int take, int bar); ///< from 0; from 1
    void use();                     ///< what is in hand

protected:
    void drawStill(QPainter& p) override;
    void drawMoving(QPainter& p) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;

private:
    struct Layout {
        QRectF cells;
        int firstBar = 1, bars = 0, firstTake = 0, takes = 0;
        double barWidth = 0.0, rowHeight = 0.0;
        QRectF cell(int take, int bar) const;
    };
    Layout layout() const;
    void drawCell(QPainter& p, const QRectF& cell, int take, int bar) const;
    int allBars() const { return std::max(0, int(barsS_.size()) - 1); }

    std::vector<core::JudgedTake> takes_;
    std::vector<int> heard_;
    std::size_t counts_ = 0;
    std::vector<double> barsS_;
    int take_ = 0, bar_ = 1;
    std::optional<double> now_;
    double loopFrom_ = 1.0, loopTo_ = 1.0;
};

} // namespace gristle::app
