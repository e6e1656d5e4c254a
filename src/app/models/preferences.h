#pragma once

#include <QStringList>

namespace gristle::app {

/// What belongs to the person rather than to a session, in one folder: GRISTLE_HOME, else the usual place for data.
QString userFolder();

/// Sessions that were open lately and are still there, newest first; at most eight.
QStringList recentSessions();
void rememberSession(const QString& folder);

/// Whether the guitarist hears himself over that interface's own direct monitor.
bool hasDirectMonitor(const QString& device);
void rememberDirectMonitor(const QString& device, bool on);

} // namespace gristle::app
