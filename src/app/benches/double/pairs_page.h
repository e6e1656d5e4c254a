#pragma once

#include "app/benches/bench_page.h"
#include "app/models/session_task.h"
#include "core/advice/pair_choice.h"

#include <map>

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
    struct Candidate {
        std::size_t layer = 0, take = 0;
        QString name;
    };
    struct Compared {
        std::optional<core::DoubleTake> take;
        QString trouble;
    };
    void look();
    void fill();
    void use(const core::SideChoice& choice);
    QString names(const std::vector<std::size_t>& takes) const;

    SessionTask task_{session()};
    std::string key_;
    std::vector<Candidate> candidates_;
    std::map<std::string, std::shared_ptr<const Compared>> known_; ///< by the two takes
    std::map<std::string, double> own_;                            ///< what a take costs by itself
    std::vector<std::string> keys_;                                ///< of the candidates
    std::optional<core::SideChoice> two_, four_;
    QLabel *sentence_, *about_;
    QTableWidget* table_;
    QPushButton *useTwo_, *useFour_;
};

} // namespace gristle::app
