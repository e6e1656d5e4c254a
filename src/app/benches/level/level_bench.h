#pragma once

#include "app/benches/bench.h"

class QLabel;
class QPushButton;
class QStackedWidget;

namespace gristle::app {

class LevelPage;

/// Is this DI captured right: gain, headroom, noise, hum, loading? Pages from the take in hand to the guitar itself.
class LevelBench : public Bench {
    Q_OBJECT
public:
    LevelBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
    void findings(FindingsPanel& panel) const override;
    AuditionRequest audition() const override;
    bool isBusy() const override;
    void showPage(const QString& name);
    template<typename T> T* page() const
    {
        for (LevelPage* p : pages_)
            if (auto* found = qobject_cast<T*>(p)) return found;
        return nullptr;
    }

private:
    LevelPage& current() const;
    void choose(std::size_t index);

    std::vector<LevelPage*> pages_;
    std::vector<QPushButton*> choices_;
    QLabel* question_;
    QStackedWidget* stack_;
};

} // namespace gristle::app
