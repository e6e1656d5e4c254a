#pragma once

#include "app/benches/bench_page.h"

class QComboBox;
class QDoubleSpinBox;
class QLabel;
class QPushButton;

namespace gristle::app {

class LiveStrip;

/// Recording a take for the layer in hand, with the interface, what is heard meanwhile, and the level as it comes.
class RecordPage : public BenchPage {
    Q_OBJECT
public:
    RecordPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    bool isBusy() const override { return capture().isLooking(); }
    /// Against A4 = 440 Hz; empty where no single string sounds.
    static QString noteText(const std::optional<core::Pitch>& pitch);

protected:
    void showEvent(QShowEvent*) override;
    void hideEvent(QHideEvent*) override;

private:
    void build();
    QWidget* buildInterfaceRow();
    QWidget* buildFoot();
    void refresh();
    void refreshDevices();
    void meter();
    void toggle();
    void fillAlso();

    QComboBox *devices_, *inputs_, *buffers_, *countIn_, *hear_;
    QDoubleSpinBox* hearLevel_;
    QLabel *delay_, *big_, *bigUnit_, *note_, *readings_, *time_, *warning_;
    QPushButton *record_, *ping_, *player_, *hold_, *also_;
    LiveStrip* strip_;
    double held_ = -200.0; ///< highest peak since it was cleared
    bool refreshing_ = false;
};

} // namespace gristle::app
