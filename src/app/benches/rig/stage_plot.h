#pragma once

#include "app/widgets/plot.h"
#include "core/mix/figures/stage_picture.h"

namespace gristle::app {

/// One stage drawn: what comes out for what goes in and where the signal lies on it; its response and harmonics; its
/// gain over the loop; what follows a click, on the grid of beats; the spectrum before and behind it; the notes that
/// come in and how far they are off.
class StagePlot : public PlotWidget {
    Q_OBJECT
public:
    enum class View { Transfer, Response, Gain, Echoes, Spectrum, Notes };

    explicit StagePlot(QWidget* parent = nullptr);
    void setView(View view);
    void setReference(double hz); ///< of A4
    /// @param beatS  seconds of a beat
    void setPicture(std::optional<core::StagePicture> picture, double beatS);
    View view() const { return view_; }

protected:
    void drawStill(QPainter& p) override;

private:
    QRectF plot() const;
    void caption(QPainter& p, const QString& text) const;
    void drawTransfer(QPainter& p) const;
    void drawResponse(QPainter& p) const;
    void drawHarmonics(QPainter& p, const QRectF& rect) const;
    void drawGain(QPainter& p) const;
    void drawEchoes(QPainter& p) const;
    void drawSpectrum(QPainter& p) const;
    void drawNotes(QPainter& p) const;
    std::optional<core::StagePicture> picture_;
    double beatS_ = 0.5, referenceHz_ = 440.0;
    View view_ = View::Transfer;
};

} // namespace gristle::app
