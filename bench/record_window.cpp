// How often the live strip is painted while eight channels are recorded at 96 kHz from the JACK server that
// JACK_DEFAULT_SERVER names: `record-window SECONDS FOLDER`. `WINDOW=1 bench/callback 20` starts a server.

#include "app/benches/level/level_bench.h"
#include "app/shell/main_window.h"
#include "app/theme/theme.h"

#include <QApplication>
#include <QElapsedTimer>
#include <cstdio>

using namespace gristle;
using namespace gristle::app;

namespace {

class PaintCount final : public QObject {
public:
    bool eventFilter(QObject*, QEvent* event) override
    {
        if (event->type() != QEvent::Paint) return false;
        if (count++ > 0) longestMs = std::max(longestMs, double(since.nsecsElapsed()) / 1e6);
        since.start();
        return false;
    }
    int count = 0;
    double longestMs = 0.0;
    QElapsedTimer since;
};

} // namespace

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    Theme::instance().install(application);
    if (argc < 3) return 2;
    const double seconds = std::atof(argv[1]);
    MainWindow window;
    window.resize(1280, 800);
    window.show();
    core::SessionDocument document;
    document.sampleRateHz = 96000;
    core::Part part{"Part 1", {}};
    for (int i = 1; i <= 8; ++i) {
        core::Layer layer;
        layer.name = "Layer " + std::to_string(i);
        part.layers.push_back(layer);
    }
    core::Song song;
    song.name = "Song 1";
    song.parts = {part};
    document.songs = {song};
    const QString folder = QString(argv[2]) + "/window.gristle";
    if (const auto made = core::SessionFolder::create(folder.toStdString(), document, "2026-11-26T12:00:00"); !made)
        return 1;
    window.openPaths({folder});
    window.showBench("Level");
    window.bench<LevelBench>()->showPage("record");
    Capture& capture = window.capture();
    PaintCount paints;
    QElapsedTimer clock;
    QTimer::singleShot(1500, &application, [&] {
        capture.chooseDevice("JACK:system");
        std::vector<AlsoRecord> also;
        for (std::size_t i = 1; i < 8; ++i) also.push_back({"Layer " + std::to_string(i + 1), i});
        capture.setAlso(also);
        capture.record();
        window.findChild<QWidget*>("liveStrip")->installEventFilter(&paints);
        clock.start();
        QTimer::singleShot(int(1000.0 * seconds), &application, [&] {
            const double s = double(clock.nsecsElapsed()) / 1e9;
            std::printf("%zu channels at %.0f Hz: %.1f frames/s over %.0f s (reach 30), longest between two %.0f ms\n",
                        capture.recordedInputs().size(), capture.rateHz(), paints.count / s, s, paints.longestMs);
            capture.stop();
            application.quit();
        });
    });
    application.exec();
    return 0;
}
