#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "app/widgets/plot.h"
#include "core/mix/figures/signal_ledger.h"

class QComboBox;
class QDoubleSpinBox;
class QLabel;
class QPushButton;

namespace gristle::app {

/// Signal, noise and ceiling at every rung, over decibels.
class LedgerPicture : public PlotWidget {
    Q_OBJECT
public:
    explicit LedgerPicture(QWidget* parent = nullptr);
    void setLedger(std::optional<core::SignalLedger> ledger);

protected:
    void drawStill(QPainter&) override;

private:
    std::optional<core::SignalLedger> ledger_;
};

/// Level through the whole path, from the string to the amplifier's input, and what makes a reamp unity.
class LedgerPage : public BenchPage {
    Q_OBJECT
public:
    LedgerPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    bool isBusy() const override { return returned_.isBusy(); }
    /// Asks for the recording of a return; replaced in tests.
    std::function<QString()> askReturn;

protected:
    void showEvent(QShowEvent*) override;
    void hideEvent(QHideEvent*) override;

private:
    void build();
    void refresh();
    void writeFields();
    void bringReturn();
    std::optional<core::SignalLedger> ledger() const;

    LedgerPicture* picture_;
    QLabel *sentence_, *meter_;
    QDoubleSpinBox *input_, *output_, *box_, *volts_;
    QComboBox *setup_, *voltsOf_;
    QPushButton *return_, *fromVolts_;
    SessionTask returned_{session()};
    std::shared_ptr<const core::FileMeasurement> return_file_;
    bool refreshing_ = false;
};

} // namespace gristle::app
