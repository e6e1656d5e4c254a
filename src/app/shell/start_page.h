#pragma once

#include <QWidget>

class QPushButton;
class QVBoxLayout;

namespace gristle::app {

/// What is seen while no session is open: one thing to do, and two more.
class StartPage : public QWidget {
    Q_OBJECT
public:
    explicit StartPage(QWidget* parent = nullptr);
    void setMakingDemo(bool isMaking);

signals:
    void bringIn();
    void openSession();
    void makeSession();
    void openRecent(const QString& folder);
    void openDemo();

protected:
    void showEvent(QShowEvent*) override;

private:
    QVBoxLayout* recent_;
    QPushButton* demo_ = nullptr;
};

} // namespace gristle::app
