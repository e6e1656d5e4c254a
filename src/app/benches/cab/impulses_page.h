#pragma once

#include "app/benches/bench_page.h"
#include "app/models/impulse_library.h"
#include "app/models/session_task.h"
#include "core/impulse/impulse_info.h"

class QCheckBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QTableView;

namespace gristle::app {

class ComparePlot;
class ImpulseList;

/// Which impulse? A folder of them with the picture of each, searched and tagged; any against one chosen as zero.
class ImpulsesPage : public BenchPage {
    Q_OBJECT
public:
    ImpulsesPage(const BenchContext& context, QWidget* parent);
    BenchFindings findings() const override;
    AuditionRequest audition() const override;
    bool isBusy() const override { return library_.isBusy() || info_.isBusy(); }
    ImpulseLibrary& library() { return library_; }
    /// Asks for a folder; tests answer for it.
    std::function<QString()> askFolder;

signals:
    void wantedInBlend(const QString& file); ///< the chosen one, to be made into something

protected:
    void showEvent(QShowEvent*) override;

private:
    void build();
    void openSession();
    void tell();
    void measure();
    void putChosenIntoRig();
    const core::ImpulseCard* chosen() const;
    const core::ImpulseCard* zero() const;

    ImpulseLibrary library_;
    ImpulseList* list_;
    QTableView* table_;
    QLineEdit* search_;
    QLabel *sentence_, *count_, *figures_;
    ComparePlot* plot_;
    QPushButton *ofSession_, *ofFolder_, *asZero_, *intoBlend_, *intoRig_;
    QCheckBox* hideDuplicates_;
    std::string zero_; ///< file that the others are compared with
    std::string measured_;
    std::optional<core::ImpulseInfo> told_;
    SessionTask info_{session()};
};

} // namespace gristle::app
