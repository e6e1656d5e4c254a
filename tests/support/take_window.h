#pragma once

#include "core/mix/render/render.h"
#include "core/mix/render/session_mix.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "support/capture_bench.h"

namespace gristle::test {

using namespace gristle::app;
using namespace gristle::core;

inline constexpr double kTempo = 112.0;
inline constexpr int kBars = 8;

/// An empty session with two layers of one part, one a side.
inline QString freshSession(const QString& folder)
{
    SessionDocument d;
    d.name = "Take";
    d.sampleRateHz = 48000;
    Song song;
    song.name = "Tide Table";
    song.tempoBpm = kTempo;
    Layer left, right;
    left.name = "Left", left.place = -100.0;
    right.name = "Right", right.place = 100.0;
    song.parts = {{"Rhythm", {left, right}}};
    d.songs = {song};
    static int n = 0;
    const QString path = QString("%1/take %2.gristle").arg(folder).arg(++n);
    auto made = SessionFolder::create(path.toStdString(), d, "2026-11-27T10:00:00");
    return made ? path : QString();
}

/// A window with the Take bench, before which the simulated player plays what he was taught.
class TakeWindow : public CaptureBench {
protected:
    /// He plays the riff from bar 1 on, his way.
    static void teach(WindowBench& b, const PlayingStyle& hand,
                      const std::vector<WrittenNote>& part = rhythmRiff(kBars))
    {
        PlayingStyle style = hand;
        style.leadInS = 0.0;
        style.pickupHz = 0.0;
        auto volts = perform(part, kTempo, standardTuning(), style, 48000.0).volts;
        volts.resize(std::size_t(60.0 * 48000.0)); // and then he rests
        room(b).setPerformance(std::move(volts));
    }
    static PlayingStyle hand(unsigned seed, double lateBar = 0.0)
    {
        PlayingStyle out;
        out.seed = seed;
        out.timingSdMs = 4.0;
        if (lateBar > 0.0) out.lateFromBeat = 4.0 * (lateBar - 1.0), out.lateToBeat = 4.0 * lateBar, out.lateMs = 24.0;
        return out;
    }
    static double bars(WindowBench& b, double count) { return count * b.window.session().loop().barSeconds(); }
    static void openFresh(WindowBench& b, const QString& folder)
    {
        b.window.openPaths({freshSession(folder)});
        b.settle();
        b.window.capture().useTestClock();
        b.window.showBench("Take");
        b.settle();
    }
    static void choose(WindowBench& b, std::size_t layer)
    {
        b.window.session().setPath({0, 0, layer});
        b.settle();
    }
    /// By the key, with a bar counted in.
    static void recordThrough(WindowBench& b)
    {
        b.window.capture().setCountIn(1);
        QTest::keyClick(&b.window, Qt::Key_R);
        b.settle();
        b.window.capture().player().runFor(bars(b, kBars + 1.5));
        QTest::keyClick(&b.window, Qt::Key_R);
        b.settle();
    }
    static void recordBoth(WindowBench& b, const PlayingStyle& left, const PlayingStyle& right,
                           const std::vector<WrittenNote>& part = rhythmRiff(kBars))
    {
        teach(b, left, part);
        recordThrough(b);
        choose(b, 1);
        teach(b, right, part);
        recordThrough(b);
    }
    static std::vector<float> heard(WindowBench& b, std::size_t layer)
    {
        const auto& l = b.window.session().document().songs[0].parts[0].layers[layer];
        LayerRecipe recipe = layerRecipe(b.window.session().folder(), l, RigDocument{});
        RenderReport report;
        const auto out = renderToMemory(recipe, report);
        const auto x = std::as_const(out->audio).channel(0);
        return {x.begin(), x.end()};
    }
};

} // namespace gristle::test
