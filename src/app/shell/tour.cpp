#include "app/shell/tour.h"
#include "app/benches/blend/blend_bench.h"
#include "app/benches/cab/cab_bench.h"
#include "app/benches/cab/make_page.h"
#include "app/benches/level/check_page.h"
#include "app/benches/level/level_bench.h"
#include "app/benches/level/loading_page.h"
#include "app/benches/log/log_bench.h"
#include "app/benches/rig/rig_bench.h"
#include "app/benches/take/take_bench.h"
#include "app/shell/exporter.h"

#include "app/shell/main_window.h"
#include "app/theme/theme.h"
#include "engine/simulated/simulated_device.h"

#include <QMenu>
#include <QPushButton>
#include <QTableView>

namespace gristle::app {

Tour::Tour(MainWindow& window, const QString& folder) : QObject(&window), window_(window), folder_(folder)
{
    const auto bench = [this](int index, const QString& name) {
        steps_.push_back([this, index] { window_.showBench(index); });
        steps_.push_back([this, name] { shoot(name); });
    };
    steps_.push_back([this] {
        window_.exporter().writeMix(folder_ + "/Night Ferry mix.wav", false);
        window_.audition().setPlaying(true);
    });
    for (std::size_t i = 0; i < window_.benches().size(); ++i) {
        const bool isCab = qobject_cast<CabBench*>(window_.benches()[i]) != nullptr;
        if (isCab) steps_.push_back([this] { window_.session().setPath(microphones()); });
        if (qobject_cast<TakeBench*>(window_.benches()[i])) {
            steps_.push_back([this] {
                window_.audition().setPlaying(false);
                window_.capture().useTestClock(); // recording for the pictures does not wait for it
            });
            steps_.push_back([this, i] {
                window_.showBench(int(i));
                recordTake(31, 5);
            });
            steps_.push_back([this] { recordTake(36, 0); });
        }
        bench(int(i), window_.benches()[i]->name().toLower());
        if (isCab) steps_.push_back([this] { window_.session().setPath({}); });
    }
    const auto cabPage = [this](const QString& page, std::function<void()> then) {
        steps_.push_back([this, page, then] {
            window_.showBench("Cab");
            window_.bench<CabBench>()->showPage(page);
            then();
        });
    };
    for (const char* page : {"sums", "song"}) {
        steps_.push_back([this, page] {
            window_.session().setPath({});
            window_.showBench("Blend");
            window_.bench<BlendBench>()->showPage(page);
        });
        steps_.push_back([this, page] { shoot(page); });
    }
    steps_.push_back([this] { window_.bench<TakeBench>()->book().useTake(0); });
    cabPage("impulses", [] {});
    steps_.push_back([this] {
        auto* table = window_.findChild<QTableView*>("impulseTable");
        table->model()->setData(table->model()->index(2, 0), Qt::Checked, Qt::CheckStateRole);
        table->setCurrentIndex(table->model()->index(1, 0));
    });
    steps_.push_back([this] { shoot("impulses"); });
    cabPage("place", [] {});
    steps_.push_back([this] { shoot("place"); });
    cabPage("capture", [] {});
    steps_.push_back([this] { window_.findChild<QPushButton*>("sweepQuiet")->click(); });
    steps_.push_back([this] { window_.findChild<QPushButton*>("sweepGo")->click(); });
    steps_.push_back([this] { shoot("capture"); });
    cabPage("make", [this] {
        for (const char* name : {"open back, ribbon.wav", "open back, room.wav"})
            window_.bench<CabBench>()->page<MakePage>()->addPart(
                QString::fromStdString((window_.session().folder().path() / "impulses" / name).string()));
    });
    steps_.push_back([this] {
        shoot("make");
        window_.bench<CabBench>()->showPage("align");
        window_.showBench("Level");
        window_.bench<LevelBench>()->showPage("check");
        window_.capture().player().turnPreamp(14.0);
        checkStep(5.5);
    });
    steps_.push_back([this] { checkStep(14.0, false); });
    steps_.push_back([this] { window_.bench<LevelBench>()->page<CheckPage>()->check().press(); });
    steps_.push_back([this] { checkStep(12.0); });
    steps_.push_back([this] { checkStep(8.0); });
    steps_.push_back([this] { shoot("check"); });
    steps_.push_back([this] { keepGains(); });
    steps_.push_back([this] { shoot("gains"); });
    steps_.push_back([this] {
        window_.bench<LevelBench>()->showPage("record");
        window_.capture().player().turnPreamp(3.0);
        window_.capture().player().runFor(12.0);
    });
    steps_.push_back([this] { shoot("record"); });
    steps_.push_back([this] {
        window_.session().edit(QStringLiteral("Loading set-ups"), "loading", [](core::SessionDocument& d) {
            d.loadings = {"pickup=narrow", "pickup=narrow input=68", "pickup=narrow cable=12 input=68 buffer=guitar"};
        });
        window_.bench<LevelBench>()->showPage("loading");
        window_.bench<LevelBench>()->page<LoadingPage>()->findChild<QPushButton*>("setup.2")->click();
    });
    steps_.push_back([this] { shoot("loading"); });
    steps_.push_back([this] { window_.bench<LevelBench>()->showPage("ledger"); });
    steps_.push_back([this] { shoot("ledger"); });
    steps_.push_back([this] {
        window_.bench<LevelBench>()->showPage("take");
        window_.showBench("Rig");
        for (QAction* action : window_.findChild<QPushButton*>("startFrom")->menu()->actions())
            if (action->text().startsWith(QStringLiteral("singing lead"))) action->trigger();
        window_.bench<RigBench>()->chooseStage(1);
        window_.findChild<QPushButton*>("viewTransfer")->click();
    });
    steps_.push_back([this] {
        Theme::instance().setLamp(Lamp::Off);
        window_.findChild<QPushButton*>("viewTravel")->click();
    });
    steps_.push_back([this] {
        shoot("rig-lamp-off");
        Theme::instance().setLamp(Lamp::Paper);
        good_ = window_.exporter().writeSheet(folder_ + "/Night Ferry recall sheet.html",
                                              window_.bench<LogBench>()->sheetHtml()) &&
                good_;
    });
    timer_.setInterval(60);
    connect(&timer_, &QTimer::timeout, this, &Tour::look);
}

/// The next step when nothing has been under way for a while.
void Tour::look()
{
    calm_ = window_.isIdle() ? calm_ + 1 : 0;
    if (calm_ < 8) return;
    calm_ = 0;
    if (next_ < steps_.size()) return steps_[next_++]();
    timer_.stop();
    window_.audition().setPlaying(false);
    emit finished(good_);
}

/// The part that was recorded by several microphones, its second layer.
core::LayerPath Tour::microphones() const
{
    const auto& songs = window_.session().document().songs;
    for (std::size_t s = 0; s < songs.size(); ++s)
        for (std::size_t p = 0; p < songs[s].parts.size(); ++p)
            if (songs[s].parts[p].name.find("microphones") != std::string::npos) return {s, p, 1};
    return {};
}

/// One step of the check, played by the simulated interface: still where the strings rest, around where the player
/// turns.
void Tour::checkStep(double seconds, bool toItsEnd)
{
    using Step = GuidedCheck::Step;
    GuidedCheck& check = window_.bench<LevelBench>()->page<CheckPage>()->check();
    auto* device = dynamic_cast<engine::SimulatedDevice*>(window_.audition().device());
    const Step step = check.step();
    device->room()->setPlaying(step != Step::Rest && step != Step::Turn);
    check.press();
    for (double at = 0.0; at < seconds; at += 0.1) {
        if (step == Step::Turn) device->room()->setAngleDeg(360.0 * at / seconds);
        window_.capture().player().runFor(0.1);
    }
    if (toItsEnd && check.isRunning() && check.step() == step) check.press();
}

/// A take of the layer in hand by the simulated player, a bar counted in.
void Tour::recordTake(std::uint32_t seed, int lateBar)
{
    Capture& capture = window_.capture();
    capture.player().setDrag(lateBar);
    capture.player().room()->setPerformance(capture.player().part(seed)());
    capture.setCountIn(1);
    constexpr double kUpDb = 12.0; // to where the takes of the demo are
    capture.player().turnPreamp(kUpDb);
    capture.record();
    capture.player().runFor(11.0 * window_.session().loop().barSeconds());
    capture.stop();
    capture.setCountIn(0);
    capture.player().turnPreamp(-kUpDb);
    capture.player().setDrag(0);
}

/// A few entries of the gain book, as some weeks of playing leave them.
void Tour::keepGains()
{
    using core::GainEntry;
    GuidedCheck& check = window_.bench<LevelBench>()->page<CheckPage>()->check();
    struct Kept {
        const char *when, *guitar, *pickup, *gain, *why;
        double average, peak, floor;
        core::PlayedWith with;
    };
    const Kept all[] = {{"2026-10-03T19:31:00",
                         "the short one",
                         "bridge",
                         "31",
                         "",
                         -18.2,
                         -5.1,
                         -84.0,
                         {"E standard", "ten to forty-six, new", "none", "pick", "10", "10", "headphones"}},
                        {"2026-10-03T19:58:00",
                         "the long one",
                         "middle",
                         "38",
                         "",
                         -17.8,
                         -6.4,
                         -71.5,
                         {"E standard", "nine to forty-two, a month", "none", "pick", "10", "8", "headphones"}},
                        {"2026-10-04T10:05:00",
                         "the short one",
                         "neck",
                         "28",
                         "",
                         -18.4,
                         -4.9,
                         -85.2,
                         {"E standard", "ten to forty-six, new", "none", "pick", "10", "10", "loudspeakers"}},
                        {"2026-11-08T16:20:00",
                         "the short one",
                         "bridge",
                         "31",
                         "new strings",
                         -15.7,
                         -2.6,
                         -84.3,
                         {"E standard", "ten to forty-six, a month", "none", "pick", "10", "10", "headphones"}}};
    for (const Kept& k : all) {
        GainEntry e = check.entry(k.gain);
        e.when = k.when, e.guitar = k.guitar, e.pickup = k.pickup, e.why = k.why, e.with = k.with;
        e.averageDbfs = k.average, e.peakDbtp = k.peak, e.floorDbfs = k.floor;
        check.keep(std::move(e));
    }
    window_.bench<LevelBench>()->showPage("gains");
}

void Tour::shoot(const QString& name)
{
    const QString file = folder_ + "/" + name + ".png";
    good_ = window_.grab().save(file) && good_;
}

} // namespace gristle::app
