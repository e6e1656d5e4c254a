// How soon a changed rig is heard: a part of four layers with solved rigs is looped in the Blend bench, the rig of one
// is changed, and the time goes until the changed sum plays; beside it, the same with nothing kept, as it was before
// there was a cache. On the Rig bench: until the changed rig plays live. `first-sound SESSION [TIMES]`, a demo session.

#include "app/shell/main_window.h"
#include "app/theme/theme.h"
#include "engine/simulated/simulated_device.h"

#include <QApplication>
#include <QElapsedTimer>
#include <QThread>
#include <cstdio>

using namespace gristle;
using namespace gristle::app;

namespace {

double median(std::vector<double> v)
{
    std::ranges::sort(v);
    return v[v.size() / 2];
}

void settle(MainWindow& window)
{
    for (int calm = 0; calm < 6; calm = window.isIdle() ? calm + 1 : 0) {
        QCoreApplication::processEvents(QEventLoop::AllEvents, 10);
        QThread::msleep(2);
    }
}

} // namespace

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    if (argc < 2) return 2;
    const int times = argc > 2 ? std::atoi(argv[2]) : 7;
    MainWindow window;
    window.show();
    window.audition().setDevice(
        std::make_unique<engine::SimulatedDevice>(48000.0, 512, engine::SimulatedDevice::Clock::Manual));
    window.openPaths({argv[1]});
    SessionModel& session = window.session();
    settle(window);
    // Four layers through one solved rig each, versions of their own.
    const auto rig = core::parseRecallLine("circuit voice=tight drive=5 | reverb");
    if (!rig) return 1;
    session.editPart("Four layers", "rig", [](core::Part& part) {
        while (part.layers.size() < 4) {
            core::Layer copy = part.layers[part.layers.size() % 2];
            copy.name += " again";
            copy.earlierMs += 7.0;
            part.layers.push_back(copy);
        }
    });
    const auto set = [&](std::size_t layer, double drive) {
        session.setPath({session.path().song, session.path().part, layer});
        core::RigDocument document;
        document.chain = *rig;
        document.chain[0].values["drive"] = drive;
        session.rigs().set(document, "Drive");
    };
    for (std::size_t layer = 0; layer < 4; ++layer) set(layer, 5.0);
    window.showBench("Blend");
    window.audition().setPlaying(true);
    settle(window);
    double drive = 5.0;
    const auto timed = [&](bool keeps) {
        if (!keeps) session.renders()->clear();
        drive += 0.1;
        QElapsedTimer clock;
        clock.start();
        set(1, drive);
        bool begun = false;
        while (!begun || window.audition().task().isBusy()) {
            QCoreApplication::processEvents(QEventLoop::AllEvents, 2);
            begun = begun || window.audition().task().isBusy();
        }
        const double ms = double(clock.nsecsElapsed()) / 1e6;
        settle(window);
        return ms;
    };
    std::vector<double> kept, anew, live;
    for (int i = 0; i < times; ++i) kept.push_back(timed(true)), anew.push_back(timed(false));
    window.showBench("Rig");
    settle(window);
    for (int i = 0; i < times; ++i) {
        QElapsedTimer clock;
        clock.start();
        set(1, drive += 0.1);
        bool begun = false;
        while (!begun || window.audition().isChangingLive()) {
            QCoreApplication::processEvents(QEventLoop::AllEvents, 1);
            begun = begun || window.audition().isChangingLive();
        }
        live.push_back(double(clock.nsecsElapsed()) / 1e6);
        settle(window);
    }
    std::printf("a control turned on the Rig bench, four layers with solved rigs: heard after %.0f ms (reach 300)\n",
                median(live));
    std::printf("the same in the sum of the four, on the Blend bench: %.0f ms; all rendered anew, as before: %.0f ms; "
                "ratio %.2f\n",
                median(kept), median(anew), median(kept) / median(anew));
    const auto cache = session.renders()->figures();
    std::printf("kept: %zu layers, %.0f MB of %.0f\n", cache.layers, double(cache.bytes) / 1e6,
                double(cache.limitBytes) / 1e6);
    window.audition().setPlaying(false);
    return 0;
}
