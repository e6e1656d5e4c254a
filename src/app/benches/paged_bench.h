#pragma once

#include "app/benches/bench.h"

class QLabel;
class QPushButton;
class QStackedWidget;

namespace gristle::app {

class BenchPage;

/// A bench with several pages: the question of the one in hand, and buttons that choose another. Findings and what is
/// heard are that page's; what is heard falls back on the first one's.
class PagedBench : public Bench {
    Q_OBJECT
public:
    using Bench::Bench;
    BenchFindings findings() const override;
    Remedies remedies() override;
    AuditionRequest audition() const override;
    bool isBusy() const override;
    void showPage(const QString& name);
    QStringList pageNames() const;
    template<typename T> T* page() const
    {
        for (BenchPage* p : pages_)
            if (auto* found = qobject_cast<T*>(p)) return found;
        return nullptr;
    }

protected:
    /// Once, by the derived bench's constructor; pages become the bench's.
    void setPages(std::vector<BenchPage*> pages);

private:
    BenchPage& current() const;
    void choose(std::size_t index);

    std::vector<BenchPage*> pages_;
    std::vector<QPushButton*> choices_;
    QLabel* question_ = nullptr;
    QStackedWidget* stack_ = nullptr;
};

} // namespace gristle::app
