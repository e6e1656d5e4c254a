#pragma once

#include "app/benches/bench_page.h"
#include "app/benches/blend/song_sum.h"

class QComboBox;
class QTableWidget;

namespace gristle::app {

class BandPlot;
class SumTree;

/// The whole song as sums that run together: what each gains or loses against its parts, and the buses that they go
/// through.
class SumsPage : public BenchPage {
    Q_OBJECT
public:
    SumsPage(const BenchContext& context, SongSum& sum, QWidget* parent);
    BenchFindings findings() const override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return sum_.isBusy(); }

protected:
    void showEvent(QShowEvent*) override { refresh(); }

private:
    void build();
    void addRouting(QVBoxLayout* column);
    void refresh();
    void show();
    void fillTree();
    void fillTable();
    QComboBox* intoBox(int row, const core::Bus& bus);
    void fillLayer();
    void cellTyped(int row, int column);
    void choose(std::size_t sum);
    void change(const QString& text, const std::function<core::Outcome(core::Song&)>& work);
    const core::Song* song() const { return sum_.song(); }
    std::size_t sums() const; ///< buses, and the song
    std::optional<core::JoinFigures> join(std::size_t sum) const;

    SongSum& sum_;
    QLabel *sentence_, *layer_;
    SumTree* tree_;
    BandPlot* loss_;
    QTableWidget* table_;
    QComboBox *by_, *into_;
    QPushButton* remove_;
    std::vector<std::size_t> sumOf_; ///< of what the tree shows: which sum it is
    std::size_t chosen_ = 0;         ///< a sum: a bus of the song, or behind them the song itself
    bool refreshing_ = false;
};

} // namespace gristle::app
