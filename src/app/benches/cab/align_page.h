#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "app/widgets/plot.h"
#include "core/timing/align_files.h"

#include <set>

class QLabel;
class QPushButton;
class QTableWidget;

namespace gristle::app {

/// What the sum of two microphones keeps, over frequency: as recorded, and brought together.
class SumPicture : public PlotWidget {
    Q_OBJECT
public:
    explicit SumPicture(QWidget* parent = nullptr);
    void setPair(const QString& names, std::vector<core::AlignedBand> bands, bool isKeptLate);

protected:
    void drawStill(QPainter&) override;

private:
    QString names_;
    std::vector<core::AlignedBand> bands_;
    bool isKeptLate_ = false;
};

/// Do the microphones agree in time and polarity? The layers of the part in hand against one of them; what is found is
/// kept with the layers as a move, the files stay as they are.
class AlignPage : public BenchPage {
    Q_OBJECT
public:
    AlignPage(const BenchContext& context, QWidget* parent);
    BenchState state() const; ///< for the spine
    BenchFindings findings() const override;
    Remedies remedies() override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return task_.isBusy() || write_.isBusy(); }

    const std::optional<core::AlignedFiles>& aligned() const { return aligned_; }
    /// Asks for the folder that copies go to; tests answer for it.
    std::function<QString()> askFolder;

protected:
    void showEvent(QShowEvent*) override;

private:
    struct Row { ///< a layer with a take
        std::size_t layer;
        std::size_t other; ///< its place in aligned_->others; of the reference none
    };
    void build();
    void refresh();
    void fillTable();
    void tell();
    void measure();
    void bringTogether();
    void asRecorded();
    void keepLate(int row, bool late);
    void moveByHand(int row, const QString& text);
    void writeCopies();
    const core::Layer& layerOf(const Row& row) const { return session().part()->layers[row.layer]; }
    const core::AlignedFile* fileOf(const Row& row) const;
    /// What each layer is moved by, ms, and whether it is inverted, when all is brought together.
    std::vector<std::pair<double, bool>> moves() const;
    std::vector<core::MixLayer> layers(bool isTogether) const;

    QTableWidget* table_;
    SumPicture* picture_;
    QLabel* sentence_;
    QPushButton *together_, *asRecorded_, *reference_, *copies_;
    QString trouble_;
    std::vector<Row> rows_;
    std::size_t referenceLayer_ = 0;
    std::set<std::size_t> late_;             ///< layers whose delay is meant
    core::LayerPath part_;                   ///< that these are of
    std::vector<core::AlignInput> measured_; ///< what aligned_ is of
    std::optional<core::AlignedFiles> aligned_;
    SessionTask task_{session()}, write_{session()};
    bool refreshing_ = false;
};

} // namespace gristle::app
