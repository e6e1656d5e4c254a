#pragma once

#include "app/benches/bench.h"
#include "app/models/take_book.h"

class QComboBox;
class QLabel;
class QPushButton;
class QVBoxLayout;

namespace gristle::engine {
class FootSwitch;
}

namespace gristle::app {

class FigureBox;
class TakeStrips;

/// Recording by bars, hands on the guitar; every take judged at once, the best named, the best bars joined.
class TakeBench : public Bench {
    Q_OBJECT
public:
    TakeBench(const BenchContext& context, QWidget* parent);
    ~TakeBench() override;
    BenchState state() const override;
    BenchFindings findings() const override;
    Remedies remedies() override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return book_.isBusy() || capture().run().isPreparing() || capture().isLooking(); }
    TakeBook& book() { return book_; }
    /// Sets these bars up to be recorded again over what there is, the end not in them.
    void armPunch(double fromBar, double toBar);

protected:
    void showEvent(QShowEvent*) override;
    void hideEvent(QHideEvent*) override;

private:
    void buildRunRow(QVBoxLayout* column);
    void buildTakeRow(QVBoxLayout* column);
    void refresh();
    void refreshRun();
    void meter();
    void toggle();
    void again();
    void setShape(const std::function<void(RunWish&)>& change);
    void editPlaying();
    std::vector<int> badBars(std::size_t take) const;
    bool isJudged() const; ///< all takes of the layer
    QString sentence() const;

    TakeBook book_;
    TakeStrips* strips_;
    QLabel *big_, *sentence_, *about_, *level_;
    QPushButton *record_, *again_, *best_, *comp_, *use_, *loopBar_, *playing_, *player_, *other_;
    QComboBox *kind_, *countIn_, *layers_, *hear_;
    QPushButton* clicks_;
    FigureBox *fromBar_, *toBar_, *clickLevel_, *layersLevel_;
    std::size_t inHand_ = 0; ///< take
    int bar_ = 1;
    std::size_t known_ = 0; ///< takes that were there: a new one comes into the hand
    std::unique_ptr<engine::FootSwitch> foot_;
    bool startsAgain_ = false; ///< once what was recorded is kept
    bool refreshing_ = false;
};

} // namespace gristle::app
