#pragma once

#include "app/widgets/plot.h"

#include <optional>

namespace gristle::app {

/// A section under the curve.
struct PlottedSection {
    QString name;
    double fromS = 0.0, toS = 0.0;
    std::optional<double> lufs;
    bool isChosen = false;
};

/// Loudness over a song, its sections as steps under the curve. A section is chosen by click.
class SongPlot : public PlotWidget {
    Q_OBJECT
public:
    explicit SongPlot(QWidget* parent = nullptr);
    /// @param lufs  over 3 s, one value each second from the third on
    void setSong(std::vector<float> lufs, double endS, std::vector<PlottedSection> sections);

signals:
    void choose(int section);

protected:
    void drawStill(QPainter&) override;
    void mousePressEvent(QMouseEvent*) override;
    void resizeEvent(QResizeEvent*) override { changeStill(); }

private:
    PlotArea area() const;
    std::vector<float> lufs_;
    double endS_ = 0.0;
    std::vector<PlottedSection> sections_;
};

} // namespace gristle::app
