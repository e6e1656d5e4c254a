#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "core/impulse/impulse_edit.h"

class QCheckBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QTableWidget;

namespace gristle::app {

class ComparePlot;
class FigureBox;

/// What do several impulses make together: their sum with gain, delay, polarity and side, trimmed, shortened and cut,
/// kept as one file.
class MakePage : public BenchPage {
    Q_OBJECT
public:
    MakePage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    Remedies remedies() override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return make_.isBusy(); }
    void addPart(const QString& file);
    const core::ImpulseRecipe& recipe() const { return recipe_; }
    /// Asks for impulses to bring in, and where a copy goes; tests answer for it.
    std::function<QStringList()> askFiles;
    std::function<QString()> askSave;

private:
    /// What the recipe makes, with what its parts are by themselves.
    struct Made {
        core::ImpulseRecipe recipe; ///< that it is of; the one in hand may have gone on
        core::EditedImpulse impulse;
        std::vector<core::ResponsePoint> response;
        std::vector<std::vector<core::ResponsePoint>> parts;
        std::vector<double> alignedSamples;
    };
    static core::Result<Made> madeOf(const core::ImpulseRecipe& recipe);
    QString recipeText() const; ///< of what is made
    void build();
    void change();
    void fillTable();
    void changeRow(int row, int column);
    void tell();
    void keep(bool intoRig);

    core::ImpulseRecipe recipe_;
    std::optional<Made> made_;
    QString trouble_;
    QLabel* sentence_;
    QTableWidget* table_;
    ComparePlot* plot_;
    QLineEdit* name_;
    QCheckBox *align_, *trim_, *early_, *match_;
    FigureBox *length_, *lowCut_, *highCut_, *air_;
    QPushButton *remove_, *keep_, *intoRig_, *write_;
    SessionTask make_{session()};
    bool refreshing_ = false;
};

} // namespace gristle::app
