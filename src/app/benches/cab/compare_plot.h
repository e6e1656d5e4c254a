#pragma once

#include "app/widgets/plot.h"
#include "core/impulse/impulse_info.h"

namespace gristle::app {

/// Responses against one that is chosen as zero, as an equaliser's curves; without a zero, as they are.
class ComparePlot : public PlotWidget {
    Q_OBJECT
public:
    explicit ComparePlot(QWidget* parent = nullptr);
    struct Curve {
        QString name;
        std::vector<core::ResponsePoint> points;
    };
    /// @param curves  the first one is the chosen one
    void setCurves(const QString& zeroName, std::vector<Curve> curves);

protected:
    void drawStill(QPainter&) override;

private:
    QString zeroName_;
    std::vector<Curve> curves_;
};

} // namespace gristle::app
