#pragma once

#include <QWidget>

namespace gristle::app {

/// What is seen while no session is open: one thing to do, and two more.
class StartPage : public QWidget {
    Q_OBJECT
public:
    explicit StartPage(QWidget* parent = nullptr);

signals:
    void bringIn();
    void openSession();
    void makeSession();
};

} // namespace gristle::app
