#pragma once

#include "app/models/session_model.h"

#include <QWidget>

class QLabel;
class QMenu;
class QPushButton;

namespace gristle::app {

/// Where am I, as a path whose steps are menus; tempo, meter and tuning; whether it is saved; Go to.
class Header : public QWidget {
    Q_OBJECT
public:
    /// @param askName  title, what is suggested; none where somebody thought better of it
    Header(SessionModel& session, std::function<std::optional<QString>(const QString&, const QString&)> askName,
           QWidget* parent);
    QMenu* sessionMenu() { return sessionMenu_; } ///< the window fills it

signals:
    void goTo();
    void editSong();

private:
    void refresh();
    void showSaved();
    void fillSteps();
    void addVerbs(QPushButton* button, core::Step step);
    SessionModel& session_;
    std::function<std::optional<QString>(const QString&, const QString&)> askName_;
    QMenu* sessionMenu_;
    QPushButton *session_step_, *song_, *part_, *layer_, *tempo_, *goTo_;
    QLabel *saved_, *arrows_[3];
};

} // namespace gristle::app
