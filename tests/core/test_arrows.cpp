// Each library sees its own folder and those that it stands on, and no other: what the build hands its compiler as
// places to look in is held against the table that CONTRIBUTING shows, and an include against the arrows is tried.

#include <QFile>
#include <QProcess>
#include <QTemporaryDir>
#include <QtTest/QtTest>
#include <filesystem>
#include <map>
#include <set>

namespace fs = std::filesystem;
using Names = std::set<std::string>;

namespace {

/// Which folders each may include, by hand.
const std::map<std::string, Names> kMaySee{
    {"units", {"units"}},
    {"audio", {"audio", "units"}},
    {"signal", {"signal", "audio", "units"}},
    {"measure", {"measure", "signal", "audio", "units"}},
    {"stereo", {"stereo", "signal", "audio", "units"}},
    {"sim", {"sim", "signal", "audio", "units"}},
    {"rig", {"rig", "stereo", "signal", "audio", "units"}},
    {"timing", {"timing", "measure", "signal", "audio", "units"}},
    {"impulse", {"impulse", "timing", "measure", "signal", "audio", "units"}},
    {"session", {"session", "rig", "impulse", "timing", "measure", "stereo", "signal", "audio", "units"}},
    {"mix", {"mix", "session", "rig", "impulse", "timing", "measure", "stereo", "signal", "audio", "units"}},
    {"advice",
     {"advice", "mix", "session", "rig", "impulse", "timing", "measure", "stereo", "signal", "audio", "units"}},
    {"actions",
     {"actions", "advice", "mix", "session", "rig", "impulse", "timing", "measure", "stereo", "signal", "audio",
      "units"}},
    {"demo_session",
     {"demo_session", "sim", "session", "rig", "impulse", "timing", "measure", "stereo", "signal", "audio", "units"}},
    {"engine",
     {"engine", "sim", "session", "rig", "impulse", "timing", "measure", "stereo", "signal", "audio", "units"}},
};

/// The folders in which the compiler looks for the includes of a library, as the build wrote them down.
QStringList rootsOf(const std::string& library)
{
    QFile file(QStringLiteral(GRISTLE_INCLUDE_ROOTS) + "/" + QString::fromStdString(library) + ".txt");
    if (!file.open(QIODevice::ReadOnly)) return {};
    return QString::fromUtf8(file.readAll()).trimmed().split(';', Qt::SkipEmptyParts);
}

} // namespace

class TestArrows : public QObject {
    Q_OBJECT
private slots:
    void aLibrarySeesWhatItStandsOn_data();
    void aLibrarySeesWhatItStandsOn();
    void anIncludeAgainstTheArrowsFails();
};

void TestArrows::aLibrarySeesWhatItStandsOn_data()
{
    QTest::addColumn<QString>("library");
    for (const auto& [library, seen] : kMaySee) QTest::newRow(library.c_str()) << QString::fromStdString(library);
}

void TestArrows::aLibrarySeesWhatItStandsOn()
{
    QFETCH(QString, library);
    const QStringList roots = rootsOf(library.toStdString());
    QVERIFY(!roots.isEmpty());
    Names seen;
    for (const QString& root : roots)
        for (const auto& [other, ignored] : kMaySee) {
            const fs::path folder = fs::path(root.toStdString()) / (other == "engine" ? other : "core/" + other);
            if (fs::is_directory(folder)) seen.insert(other);
        }
    QCOMPARE(seen, kMaySee.at(library.toStdString()));
    for (const char* above : {"app", "cli"})
        for (const QString& root : roots) QVERIFY(!fs::is_directory(fs::path(root.toStdString()) / above));
}

void TestArrows::anIncludeAgainstTheArrowsFails()
{
    QTemporaryDir dir;
    const auto compiles = [&](const std::string& library, const QByteArray& include) {
        QFile source(dir.filePath("try.cpp"));
        if (!source.open(QIODevice::WriteOnly)) return false;
        source.write("#include \"" + include + "\"\nint main() {}\n");
        source.close();
        QStringList call{"-std=c++20", "-fsyntax-only", source.fileName()};
        for (const QString& root : rootsOf(library)) call << "-I" + root;
        QProcess compiler;
        compiler.start(QStringLiteral(GRISTLE_COMPILER), call);
        compiler.waitForFinished(120000);
        return compiler.exitCode() == 0;
    };
    QVERIFY(compiles("signal", "core/units/result.h"));
    QVERIFY(!compiles("signal", "core/measure/loudness.h"));
    QVERIFY(!compiles("rig", "core/mix/render/render.h"));
    QVERIFY(!compiles("session", "core/advice/finding.h"));
    QVERIFY(!compiles("actions", "engine/devices/audio_device.h"));
    QVERIFY(!compiles("engine", "app/models/audition.h"));
}

QTEST_GUILESS_MAIN(TestArrows)
#include "test_arrows.moc"
