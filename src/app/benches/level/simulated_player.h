#pragma once

#include "app/models/capture.h"

#include <QDialog>

class QCheckBox;
class QSlider;
class QSpinBox;

namespace gristle::app {

/// The hands of the simulated player, and what can go wrong at his interface: for trying everything without a guitar.
class SimulatedPlayerDialog : public QDialog {
    Q_OBJECT
public:
    explicit SimulatedPlayerDialog(Capture& capture, QWidget* parent = nullptr);

private:
    void refresh();
    void turnGuitar();
    QSlider* slider(const char* name, const QString& about, int most);
    QCheckBox* tick(const char* name, const QString& text, const QString& about,
                    std::function<void(engine::SimulatedRoom&, bool)> act);

    Capture& capture_;
    QSlider *volume_, *tone_, *angle_;
    QCheckBox *plays_, *highImpedance_, *pad_, *swapped_, *pulled_;
    QSpinBox* drags_;
};

} // namespace gristle::app
