#pragma once

#include <QByteArray>
#include <QStringList>

namespace gristle::app {

/// What belongs to the person rather than to a session, in one folder: GRISTLE_HOME, else the usual place for data.
QString userFolder();

/// Sessions that were open lately and are still there, newest first; at most eight.
QStringList recentSessions();
void rememberSession(const QString& folder);

/// How the window was left.
struct WindowPlace {
    QByteArray geometry;
    QString bench;
};
WindowPlace windowPlace();
void rememberWindowPlace(const WindowPlace& place);

/// A session is being opened; forgotten as soon as it is. How often in a row it was not.
int failedOpenings(const QString& folder);
void rememberOpening(const QString& folder);
void forgetOpening();

/// Whether the guitarist hears himself over that interface's own direct monitor.
bool hasDirectMonitor(const QString& device);
void rememberDirectMonitor(const QString& device, bool on);

} // namespace gristle::app
