#pragma once

#include "app/benches/bench.h"

namespace gristle::app {

/// The left side: the benches in the order of the job, each with a line on the part in hand. Only benches that work.
class Spine : public QWidget {
    Q_OBJECT
public:
    explicit Spine(QWidget* parent = nullptr);
    void setBenches(std::vector<Bench*> benches);
    void setCurrent(int index);
    void setOpen(bool isOpen); ///< whether there is a session that the benches can speak of
    void refresh();
    QString lineOf(int index) const { return states_[std::size_t(index)].line; }

signals:
    void choose(int index);

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

private:
    std::vector<Bench*> benches_;
    std::vector<BenchState> states_;
    int current_ = 0;
    bool isOpen_ = false;
};

} // namespace gristle::app
