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
    Header(SessionModel& session, QWidget* parent);
    QMenu* sessionMenu() { return sessionMenu_; } ///< the window fills it

signals:
    void goTo();
    void editSong();

private:
    void refresh();
    void showSaved();
    void fillSteps();
    SessionModel& session_;
    QMenu* sessionMenu_;
    QPushButton *session_step_, *song_, *part_, *layer_, *tempo_, *goTo_;
    QLabel *saved_, *arrows_[3];
};

} // namespace gristle::app
