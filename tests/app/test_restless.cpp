// A restless user on every bench: nobody dies, nothing hangs, no edit is lost. `./run soak` does the same for long.

#include "app/theme/theme.h"
#include "support/demo_copy.h"
#include "support/restless.h"
#include "support/signals.h"

#include <QApplication>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::app;
using namespace gristle::core;

class TestRestless : public QObject {
    Q_OBJECT
private slots:
    void nothingFalls_data();
    void nothingFalls();
    void closingWhileEachBenchMeasures_data();
    void closingWhileEachBenchMeasures();

private:
    QString copyOfDemo(const QString& name);
    QTemporaryDir dir_;
};

QString TestRestless::copyOfDemo(const QString& name)
{
    const QString demo = dir_.filePath("demo.gristle"), copy = dir_.filePath(name);
    if (!QFileInfo::exists(demo) && !test::copyDemo(demo.toStdString())) qFatal("the demo session cannot be made");
    std::filesystem::copy(demo.toStdString(), copy.toStdString(), std::filesystem::copy_options::recursive);
    return copy;
}

void TestRestless::nothingFalls_data()
{
    QTest::addColumn<int>("seed");
    const int first = qEnvironmentVariableIntValue("GRISTLE_RESTLESS_SEED");
    const int seeds = std::max(1, qEnvironmentVariableIntValue("GRISTLE_RESTLESS_SEEDS"));
    for (int seed = std::max(1, first); seed < std::max(1, first) + seeds; ++seed)
        QTest::addRow("seed %d", seed) << seed;
}

void TestRestless::nothingFalls()
{
    QFETCH(int, seed);
    constexpr int kShort = 700;
    const int asked = qEnvironmentVariableIntValue("GRISTLE_RESTLESS_ACTIONS"), actions = asked > 0 ? asked : kShort;
    const QString first = copyOfDemo(QStringLiteral("first %1.gristle").arg(seed)),
                  second = copyOfDemo(QStringLiteral("second %1.gristle").arg(seed));
    test::writeWav(dir_, "dropped one.wav", {test::whiteNoise(0.1, 48000)}, 48000, SampleFormat::Int24);
    test::writeWav(dir_, "dropped \u6e21\u3057 two.wav", {test::whiteNoise(0.2, 30000), test::whiteNoise(0.2, 30000)},
                   44100);
    QFile broken(dir_.filePath("broken.wav"));
    QVERIFY(broken.open(QIODevice::WriteOnly) && broken.write("RIFF and nothing") > 0);
    broken.close();
    const QString log = qEnvironmentVariable("GRISTLE_RESTLESS_LOG", dir_.filePath("restless.log"));
    qInfo("seed %d, %d actions, what is done: %s", seed, actions, qPrintable(log));
    double longest = 0.0;
    {
        MainWindow window;
        int made = 0;
        window.dialogs().openAudio = [this] { return QStringList{dir_.filePath("dropped one.wav")}; };
        window.dialogs().openSession = [&] { return made++ % 2 ? first : second; };
        window.dialogs().openMidi = [] { return QString(); };
        window.dialogs().newSession = [&] { return dir_.filePath(QStringLiteral("new %1 %2").arg(seed).arg(made++)); };
        window.dialogs().saveFile = [this](const QString&, const QString& name, const QString&, QString*) {
            return dir_.filePath(name);
        };
        window.dialogs().folder = [this](const QString&) { return dir_.filePath("exports"); };
        window.dialogs().importRows = [](std::vector<ImportRow> rows) { return rows; };
        window.show();
        window.openPaths({first});
        test::RestlessUser user(window, std::uint32_t(seed), {first, second},
                                {dir_.filePath("dropped one.wav"), dir_.filePath("dropped \u6e21\u3057 two.wav"),
                                 dir_.filePath("broken.wav"), dir_.filePath("is not there.wav")},
                                log);
        for (int i = 0; i < actions; ++i) user.act();
        window.session().close();
        user.openAgain();
        QVERIFY2(user.lostEdits().isEmpty(), qPrintable(user.lostEdits().join("; ")));
        longest = user.longestWorkS();
        if (qEnvironmentVariableIsSet("GRISTLE_RESTLESS_HANG"))
            QVERIFY2(longest < 1.0, qPrintable(user.slowestAction()));
        qInfo("longest work of the window's thread %.2f s (%.2f s by the clock), at: %s", longest, user.longestWallS(),
              qPrintable(user.slowestAction()));
    }
    for (const QString& folder : {first, second}) { // and what is on disk is whole
        const auto session = SessionFolder::open(folder.toStdString(), Access::Read);
        QVERIFY(bool(session));
        QVERIFY(session->check(true).empty() && session->warnings().empty());
    }
}

void TestRestless::closingWhileEachBenchMeasures_data()
{
    QTest::addColumn<int>("wait");
    QTest::newRow("at once") << 0;
    QTest::newRow("while it measures") << 60;
    QTest::newRow("when it has measured") << -1;
}

/// Closes on each bench and page while answers are on their way, then opens again.
void TestRestless::closingWhileEachBenchMeasures()
{
    QFETCH(int, wait);
    const QString folder = copyOfDemo(QStringLiteral("closed %1.gristle").arg(wait));
    MainWindow window;
    window.show();
    for (int bench = 0; bench < int(window.benches().size()); ++bench) {
        window.openPaths({folder});
        QVERIFY(window.session().isOpen());
        window.showBench(bench);
        if (wait < 0)
            QTRY_VERIFY_WITH_TIMEOUT(window.isIdle(), 240000);
        else
            QTest::qWait(wait);
        window.session().close();
        QTest::qWait(30); // what was on its way arrives
        Theme::instance().setLamp(Theme::instance().lamp() == Lamp::Paper ? Lamp::Off : Lamp::Paper);
        window.showBench(bench); // as nothing forbids it
        QTest::qWait(1);
    }
}

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    TestRestless test;
    return QTest::qExec(&test, argc, argv);
}

#include "test_restless.moc"
