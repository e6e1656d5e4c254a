#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "core/actions/compare_pairs.h"

class QTableWidget;

namespace gristle::app {

/// All whole takes of the part, each with each: which two, or which four, make the best sides.
class PairsPage : public BenchPage {
    Q_OBJECT
public:
    PairsPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    bool isBusy() const override { return task_.isBusy(); }
    const std::optional<core::SideChoice>& two() const { return two_; }
    const std::optional<core::SideChoice>& four() const { return four_; }

protected:
    void showEvent(QShowEvent*) override;

private:
    void look();
    void fill();
    void use(const core::SideChoice& choice);
    QString nameOf(std::size_t take) const;
    QString names(const std::vector<std::size_t>& takes) const;

    SessionTask task_{session()};
    std::string key_;
    core::PartTakes takes_;
    core::PairMemory memory_;
    std::optional<core::SideChoice> two_, four_;
    QLabel *sentence_, *about_;
    QTableWidget* table_;
    QPushButton *useTwo_, *useFour_;
};

} // namespace gristle::app
