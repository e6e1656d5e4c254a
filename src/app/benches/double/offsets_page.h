#pragma once

#include "app/benches/bench_page.h"
#include "app/models/double_book.h"

class QComboBox;

namespace gristle::app {

class FigureBox;
class OffsetPlot;

/// Two layers note by note, the verdict by what is heard, and what mends it.
class OffsetsPage : public BenchPage {
    Q_OBJECT
public:
    OffsetsPage(const BenchContext& context, DoubleBook& book, QWidget* parent);
    BenchFindings findings() const override;
    Remedies remedies() override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return book_.isBusy(); }
    QString verdict() const;

signals:
    /// The bars of the second side are to be recorded once more, the end not in them.
    void playAgain(const core::LayerPath& layer, double fromBar, double toBar);
    void playOther(); ///< the layer for it is in hand

private:
    void refresh();
    void fillSides();
    void setLimits();
    void setStyle(const QString& name); ///< a name that is not known yet: the bounds that are shown, kept under it
    void forgetStyle();
    DoubleBook::StrayStretch stretch() const; ///< that the buttons are about: what strays most, else the bar in hand
    void record();

    DoubleBook& book_;
    QLabel *sentence_, *figures_;
    OffsetPlot* plot_;
    QComboBox *firstSide_, *secondSide_, *style_;
    FigureBox *one_, *width_, *loose_;
    QPushButton *again_, *moveBars_, *moveSide_, *movePhrases_, *retune_, *back_, *loop_, *forget_, *keep_;
    int bar_ = 1;
    bool isChosen_ = false; ///< by hand, not what strays most
    bool refreshing_ = false;
};

} // namespace gristle::app
