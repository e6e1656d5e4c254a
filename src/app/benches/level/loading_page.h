#pragma once

#include "app/benches/bench_page.h"
#include "app/widgets/plot.h"
#include "core/rig/circuit/guitar_circuit.h"
#include "core/rig/node.h"

class QHBoxLayout;
class QLabel;
class QPushButton;

namespace gristle::app {

class ControlFigures;

/// Frequency responses of set-ups over each other, the chosen one in the act colour.
class LoadingPicture : public PlotWidget {
    Q_OBJECT
public:
    explicit LoadingPicture(QWidget* parent = nullptr);
    struct Curve {
        QString name;
        core::GuitarCircuit circuit;
    };
    void setCurves(std::vector<Curve> curves, std::size_t chosen);

protected:
    void drawStill(QPainter&) override;

private:
    std::vector<Curve> curves_;
    std::size_t chosen_ = 0;
};

/// What cable, controls and input do to the pickup: set-ups compared, heard on the DI in hand, and put into its rig.
class LoadingPage : public BenchPage {
    Q_OBJECT
public:
    LoadingPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    AuditionRequest audition() const override;

protected:
    void showEvent(QShowEvent*) override;

private:
    void build();
    void refresh();
    void choose(std::size_t index);
    void change(const QString& text, const std::function<void(std::vector<std::string>&)>& edit);
    void setControl(const QString& key, const QString& value);
    void putIntoRig();
    std::vector<core::ParameterValues> setups() const; ///< complete; at least one

    LoadingPicture* picture_;
    QLabel *sentence_, *figures_;
    QHBoxLayout* choices_;
    std::vector<QPushButton*> buttons_;
    QPushButton *another_, *remove_, *intoRig_;
    ControlFigures* controls_;
    std::size_t chosen_ = 0;
};

} // namespace gristle::app
