// The longest time for which the window's event loop stands still while the demo is opened, every bench is visited,
// controls are moved, the loop is heard and the mix is written: `event-loop SESSION FOLDER`.

#include "app/benches/log/log_bench.h"
#include "app/shell/exporter.h"
#include "app/shell/main_window.h"
#include "app/theme/theme.h"

#include <QApplication>
#include <QElapsedTimer>
#include <QLineEdit>
#include <QPushButton>
#include <cstdio>
#include <ctime>
#include <map>

using namespace gristle::app;

namespace {

double threadMs()
{
    timespec t{};
    clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t);
    return double(t.tv_sec) * 1e3 + double(t.tv_nsec) / 1e6;
}

} // namespace

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    if (argc < 3) return 2;
    MainWindow window;
    window.show();
    QElapsedTimer clock;
    clock.start();
    // Beside the clock, the processor time of this thread: on a shared machine the clock also counts what others took.
    struct Longest {
        double wallMs = 0.0, busyMs = 0.0;
    };
    double lastWall = 0.0, lastBusy = 0.0;
    QString step = "start";
    std::map<QString, Longest> longest;
    QTimer tick; // a timer of 1 ms is late by what the loop was held up
    tick.setInterval(1);
    QObject::connect(&tick, &QTimer::timeout, &application, [&] {
        const double wall = double(clock.nsecsElapsed()) / 1e6, busy = threadMs();
        Longest& l = longest[step];
        if (lastWall > 0.0) l.wallMs = std::max(l.wallMs, wall - lastWall);
        if (lastWall > 0.0) l.busyMs = std::max(l.busyMs, busy - lastBusy);
        lastWall = wall, lastBusy = busy;
    });
    tick.start();
    const QString folder = argv[2];
    std::vector<std::pair<QString, std::function<void()>>> steps = {
        {"open", [&] { window.openPaths({argv[1]}); }},
        {"rig", [&] { window.showBench("Rig"); }},
        {"control",
         [&] {
             auto* edit = window.findChild<QLineEdit*>("control.drive");
             edit->setText("17");
             emit edit->editingFinished();
         }},
        {"hear", [&] { window.audition().setPlaying(true); }},
        {"blend", [&] { window.showBench("Blend"); }},
        {"match", [&] { window.findChild<QPushButton*>("matchLoudness")->click(); }},
        {"cab", [&] { window.showBench("Cab"); }},
        {"take", [&] { window.showBench("Take"); }},
        {"double", [&] { window.showBench("Double"); }},
        {"log", [&] { window.showBench("Log"); }},
        {"undo", [&] { window.session().undoStack().undo(); }},
        {"export", [&] { window.exporter().writeMix(folder + "/loop.wav", false); }},
        {"level", [&] { window.showBench("Level"); }},
    };
    std::size_t next = 0;
    int calm = 0;
    QTimer driver;
    driver.setInterval(30);
    QObject::connect(&driver, &QTimer::timeout, &application, [&] {
        calm = window.isIdle() ? calm + 1 : 0;
        if (calm < 6) return;
        calm = 0;
        if (next == steps.size()) return application.quit();
        step = steps[next].first;
        steps[next++].second();
    });
    driver.start();
    application.exec();
    Longest all;
    for (const auto& [name, l] : longest) {
        std::printf("  %-8s %6.1f ms, of these %6.1f by this thread\n", qPrintable(name), l.wallMs, l.busyMs);
        all = {std::max(all.wallMs, l.wallMs), std::max(all.busyMs, l.busyMs)};
    }
    std::printf("longest block of the event loop: %.1f ms by the clock, %.1f ms of this thread's work (reach 50)\n",
                all.wallMs, all.busyMs);
    return 0;
}
