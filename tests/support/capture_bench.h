#pragma once

#include "app/benches/level/check_page.h"
#include "app/benches/level/level_bench.h"
#include "engine/simulated/standard_room.h"
#include "support/demo_copy.h"
#include "support/window_bench.h"

#include <QPushButton>

namespace gristle::test {

/// Tests of the Level bench on the real window, with the simulated interface under a clock of its own.
class CaptureBench : public QObject {
protected:
    QTemporaryDir dir_;

    QString freshDemo()
    {
        static int n = 0;
        const QString path = dir_.filePath(QString("demo %1.gristle").arg(++n));
        std::filesystem::copy(dir_.filePath("first.gristle").toStdString(), path.toStdString(),
                              std::filesystem::copy_options::recursive);
        return path;
    }
    static engine::SimulatedRoom& room(WindowBench& b)
    {
        return *dynamic_cast<engine::SimulatedDevice*>(b.window.audition().device())->room();
    }
    static void open(WindowBench& b, const QString& session, const char* page)
    {
        b.window.openPaths({session});
        b.settle();
        b.window.capture().useTestClock();
        b.window.showBench("Level");
        b.window.bench<app::LevelBench>()->showPage(page);
        b.settle();
    }
    /// A step of the check: begun by the key, for a while, ended by the key where it does not end by itself.
    static void step(WindowBench& b, double seconds)
    {
        app::GuidedCheck& check = b.window.bench<app::LevelBench>()->page<app::CheckPage>()->check();
        const auto which = check.step();
        room(b).setPlaying(which != app::GuidedCheck::Step::Rest && which != app::GuidedCheck::Step::Turn);
        QTest::keyClick(b.find<QPushButton>("checkGo"), Qt::Key_Return);
        QVERIFY(check.isRunning());
        for (double at = 0.0; at < seconds; at += 0.1) {
            if (which == app::GuidedCheck::Step::Turn) room(b).setAngleDeg(180.0 * at / seconds);
            b.window.capture().player().runFor(0.1);
        }
        if (check.isRunning() && check.step() == which) QTest::keyClick(b.find<QPushButton>("checkGo"), Qt::Key_Return);
        b.settle();
    }

    void makeDemo()
    {
        qputenv("GRISTLE_HOME", dir_.filePath("home").toUtf8());
        QVERIFY(copyDemo(dir_.filePath("first.gristle").toStdString()));
    }
};

} // namespace gristle::test
