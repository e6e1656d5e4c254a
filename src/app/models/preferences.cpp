#include "app/models/preferences.h"

#include <QDir>
#include <QFileInfo>
#include <QSettings>
#include <QStandardPaths>

namespace gristle::app {

namespace {

constexpr int kMostRecent = 8;

QString file() { return userFolder() + "/gristle.ini"; }

} // namespace

QString userFolder()
{
    const QString own = qEnvironmentVariable("GRISTLE_HOME");
    return own.isEmpty() ? QStandardPaths::writableLocation(QStandardPaths::AppDataLocation) : own;
}

QStringList recentSessions()
{
    QStringList out;
    for (const QString& folder : QSettings(file(), QSettings::IniFormat).value("recent").toStringList())
        if (QFileInfo::exists(folder + "/session.json") && out.size() < kMostRecent) out << folder;
    return out;
}

void rememberSession(const QString& folder)
{
    QDir().mkpath(userFolder());
    QSettings settings(file(), QSettings::IniFormat);
    QStringList all = settings.value("recent").toStringList();
    const QString path = QFileInfo(folder).absoluteFilePath();
    all.removeAll(path);
    all.prepend(path);
    settings.setValue("recent", QStringList(all.mid(0, kMostRecent)));
}

WindowPlace windowPlace()
{
    const QSettings settings(file(), QSettings::IniFormat);
    return {settings.value("window/geometry").toByteArray(), settings.value("window/bench").toString()};
}

void rememberWindowPlace(const WindowPlace& place)
{
    QDir().mkpath(userFolder());
    QSettings settings(file(), QSettings::IniFormat);
    settings.setValue("window/geometry", place.geometry);
    settings.setValue("window/bench", place.bench);
}

int failedOpenings(const QString& folder)
{
    const QSettings settings(file(), QSettings::IniFormat);
    const bool isIt = settings.value("opening/folder").toString() == QFileInfo(folder).absoluteFilePath();
    return isIt ? settings.value("opening/times").toInt() : 0;
}

void rememberOpening(const QString& folder)
{
    QDir().mkpath(userFolder());
    const int times = failedOpenings(folder) + 1;
    QSettings settings(file(), QSettings::IniFormat);
    settings.setValue("opening/folder", QFileInfo(folder).absoluteFilePath());
    settings.setValue("opening/times", times);
}

void forgetOpening() { QSettings(file(), QSettings::IniFormat).remove("opening"); }

bool hasDirectMonitor(const QString& device)
{
    return QSettings(file(), QSettings::IniFormat).value("direct_monitor").toStringList().contains(device);
}

void rememberDirectMonitor(const QString& device, bool on)
{
    if (hasDirectMonitor(device) == on) return;
    QDir().mkpath(userFolder());
    QSettings settings(file(), QSettings::IniFormat);
    QStringList all = settings.value("direct_monitor").toStringList();
    all.removeAll(device);
    if (on) all.prepend(device);
    settings.setValue("direct_monitor", all);
}

} // namespace gristle::app
