// The longest time for which the window's event loop stands still while the demo is opened, every bench is visited,
// controls are moved, the loop is heard and the mix is written: `event-loop SESSION FOLDER`.

#include "app/shell/main_window.h"
#include "app/theme/theme.h"

#include <QApplication>
#include <QElapsedTimer>
#include <QLineEdit>
#include <QPushButton>
#include <cstdio>

using namespace gristle::app;

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    if (argc < 3) return 2;
    MainWindow window;
    window.show();
    QElapsedTimer clock;
    clock.start();
    qint64 last = 0, longest = 0;
    QString step = "start", worst;
    QTimer tick; // a timer of 1 ms is late by what the loop was held up
    tick.setInterval(1);
    QObject::connect(&tick, &QTimer::timeout, &application, [&] {
        const qint64 now = clock.nsecsElapsed();
        if (last > 0 && now - last > longest) longest = now - last, worst = step;
        last = now;
    });
    tick.start();
    const QString folder = argv[2];
    std::vector<std::pair<QString, std::function<void()>>> steps = {
        {"open", [&] { window.openPaths({argv[1]}); }},
        {"rig", [&] { window.showBench(1); }},
        {"control",
         [&] {
             auto* edit = window.findChild<QLineEdit*>("control.drive");
             edit->setText("17");
             emit edit->editingFinished();
         }},
        {"hear", [&] { window.audition().setPlaying(true); }},
        {"blend", [&] { window.showBench(2); }},
        {"match", [&] { window.findChild<QPushButton*>("matchLoudness")->click(); }},
        {"log", [&] { window.showBench(3); }},
        {"undo", [&] { window.session().undoStack().undo(); }},
        {"export", [&] { window.exportMix(folder + "/loop.wav", false); }},
        {"level", [&] { window.showBench(0); }},
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
    std::printf("longest block of the event loop: %.1f ms, at \"%s\" (reach 50)\n", double(longest) / 1e6,
                qPrintable(worst));
    return 0;
}
