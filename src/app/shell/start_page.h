#pragma once

#include <QWidget>

class QVBoxLayout;

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
    void openRecent(const QString& folder);

protected:
    void showEvent(QShowEvent*) override;

private:
    QVBoxLayout* recent_;
};

} // namespace gristle::app
