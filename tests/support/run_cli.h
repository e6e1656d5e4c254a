#pragma once

#include <QJsonDocument>
#include <QJsonObject>
#include <QProcess>

namespace gristle::test {

/// What a call of the command line gave.
struct Ran {
    int code = -1;
    QByteArray out, error;
    QJsonObject json() const { return QJsonDocument::fromJson(out).object(); }
};

inline Ran run(const QStringList& arguments, const QString& folder = {})
{
    QProcess p;
    if (!folder.isEmpty()) p.setWorkingDirectory(folder);
    p.start(GRISTLE_CLI_PATH, arguments);
    p.waitForFinished(120000);
    return {p.exitCode(), p.readAllStandardOutput(), p.readAllStandardError()};
}

/// A number that has to be there.
inline double number(const QJsonValue& v)
{
    if (!v.isDouble()) qFatal("no number");
    return v.toDouble();
}

} // namespace gristle::test
