// What was rendered is kept by content: what sounds alike is rendered once, what changed is rendered anew, and the sum
// is the same with and without.

#include "core/impulse/loudspeaker_model.h"
#include "core/mix/render/render_cache.h"
#include "core/mix/render/sound.h"
#include "core/mix/render/sound_key.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <chrono>
#include <iomanip>
#include <set>
#include <thread>

using namespace gristle;
using namespace gristle::core;

class TestRenderCache : public QObject {
    Q_OBJECT
private slots:
    void initTestCase()
    {
        QVERIFY(dir_.isValid());
        test::writeWav(dir_, "a.wav", {test::whiteNoise(0.1, kFrames, 1)}, 48000);
        test::writeWav(dir_, "b.wav", {test::whiteNoise(0.1, kFrames, 2)}, 44100);
    }
    void whatSoundsAlikeIsRenderedOnce();
    void whatChangedIsRenderedAnew();
    void aReplacedFileIsAnother();
    void itStaysWithinItsBounds();
    void theOldestGoesFirst();
    void oneRendersTheOtherWaits();
    void aStopLeavesNothingAndNobodyWaiting();
    void mixesAreTheSameBitByBit();
    void anImpulseInPlaceIsThatImpulse();

private:
    static constexpr std::size_t kFrames = 48000;
    LayerRecipe recipe(const char* file, const char* chain = "") const
    {
        LayerRecipe r;
        r.file = std::filesystem::path(dir_.path().toStdString()) / file;
        r.context.folder = dir_.path().toStdString();
        r.rig.chain = *parseRecallLine(chain);
        r.tailS = 0.0;
        return r;
    }
    static bool isSame(const AudioBuffer& a, const AudioBuffer& b)
    {
        if (a.channels() != b.channels() || a.frames() != b.frames()) return false;
        for (std::size_t c = 0; c < a.channels(); ++c)
            if (!std::ranges::equal(a.channel(c), b.channel(c))) return false;
        return true;
    }
    QTemporaryDir dir_;
};

void TestRenderCache::whatSoundsAlikeIsRenderedOnce()
{
    RenderCache cache;
    auto r = recipe("a.wav", "drive drive=12");
    const auto first = cache.layer(r);
    QVERIFY(bool(first));
    r.name = "another name";
    r.rig.name = "crunch", r.rig.version = 7;
    const auto second = cache.layer(r);
    QCOMPARE(first->get(), second->get());
    QCOMPARE(cache.figures().rendered, 1);
    QCOMPARE(cache.figures().found, 1);
    RenderReport report;
    QVERIFY(isSame((*first)->sound.audio, renderToMemory(r, report)->audio));
    QCOMPARE((*first)->report.frames, report.frames);
}

/// Each of these alone.
void TestRenderCache::whatChangedIsRenderedAnew()
{
    const auto plain = recipe("a.wav", "drive drive=12 | { gain db=1 ; gain db=2 }");
    std::vector<LayerRecipe> others(17, plain);
    std::size_t i = 0;
    others[i++].file = recipe("b.wav").file;
    others[i++].channelFromOne = 1;
    others[i++].rig.chain[0].values["drive"] = 12.5;
    others[i++].rig.chain[0].bypass = true;
    others[i++].rig.chain[1].lanes[1][0].values["db"] = 3.0;
    others[i++].rig.outputDb = -1.0;
    others[i++].input.dbuAtFullScale = 13.0;
    others[i++].output.dbuAtFullScale = 13.0;
    others[i++].rateHz = 96000;
    others[i++].startS = 0.1;
    others[i++].endS = 0.9;
    others[i++].earlierS = 0.001;
    others[i++].isInverted = true;
    others[i++].tailS = 0.5;
    others[i++].effort = Effort::Draft;
    others[i++].pieces.push_back({plain.file});
    others[i].impulses.push_back({"x.wav", {}, std::make_shared<const Recording>(test::recording({{1.0f}}, 48000))});
    std::set<std::string> keys{soundKey(plain)};
    for (const auto& o : others) keys.insert(soundKey(o));
    QCOMPARE(keys.size(), others.size() + 1);
    // Rows that run together when their lengths are left out.
    auto one = plain, two = plain;
    one.rig.chain = *parseRecallLine("{ gain db=1 ; gain db=2 | gain db=3 }");
    two.rig.chain = *parseRecallLine("{ gain db=1 | gain db=2 ; gain db=3 }");
    QVERIFY(soundKey(one) != soundKey(two));
}

void TestRenderCache::aReplacedFileIsAnother()
{
    RenderCache cache;
    test::writeWav(dir_, "replaced.wav", {test::whiteNoise(0.1, 4800, 3)}, 48000);
    const auto before = cache.layer(recipe("replaced.wav"));
    std::this_thread::sleep_for(std::chrono::milliseconds(10)); // of file systems that count so
    test::writeWav(dir_, "replaced.wav", {test::whiteNoise(0.1, 4800, 4)}, 48000);
    const auto after = cache.layer(recipe("replaced.wav"));
    QVERIFY(!isSame((*before)->sound.audio, (*after)->sound.audio));
}

void TestRenderCache::itStaysWithinItsBounds()
{
    constexpr std::size_t kLayer = kFrames * sizeof(float);
    RenderCache cache(5 * kLayer / 2);
    for (int i = 0; i < 8; ++i) {
        auto r = recipe("a.wav");
        r.rig.outputDb = -i;
        QVERIFY(bool(cache.layer(r)));
        QVERIFY(cache.figures().bytes <= cache.figures().limitBytes);
    }
    QCOMPARE(cache.figures().layers, std::size_t(2));
    RenderCache small(kLayer); // holds no layer of more than half of it
    const auto rendered = small.layer(recipe("a.wav"));
    QVERIFY(rendered && (*rendered)->sound.audio.frames() == kFrames);
    QCOMPARE(small.figures().layers, std::size_t(0));
    QCOMPARE(small.figures().bytes, std::size_t(0));
    cache.clear();
    QCOMPARE(cache.figures().bytes, std::size_t(0));
}

void TestRenderCache::theOldestGoesFirst()
{
    constexpr std::size_t kLayer = kFrames * sizeof(float);
    RenderCache cache(5 * kLayer / 2); // two
    auto at = [&](double db) {
        auto r = recipe("a.wav");
        r.rig.outputDb = db;
        return r;
    };
    (void)cache.layer(at(0.0));
    (void)cache.layer(at(-1.0));
    (void)cache.layer(at(0.0)); // asked for again
    (void)cache.layer(at(-2.0));
    const auto rendered = cache.figures().rendered;
    (void)cache.layer(at(0.0));
    QCOMPARE(cache.figures().rendered, rendered);
    (void)cache.layer(at(-1.0));
    QCOMPARE(cache.figures().rendered, rendered + 1);
}

void TestRenderCache::oneRendersTheOtherWaits()
{
    RenderCache cache;
    const auto r = recipe("a.wav", "amplifier | reverb");
    std::vector<RenderedPtr> got(4);
    {
        std::vector<std::jthread> askers;
        for (auto& g : got) askers.emplace_back([&] { g = cache.layer(r).value(); });
    }
    QCOMPARE(cache.figures().rendered, 1);
    for (const auto& g : got) QCOMPARE(g.get(), got[0].get());
}

void TestRenderCache::aStopLeavesNothingAndNobodyWaiting()
{
    RenderCache cache;
    const auto r = recipe("a.wav", "amplifier | amplifier");
    for (int ms = 0; ms < 40; ms += 4) {
        std::stop_source first, second;
        Result<RenderedPtr> one = Error{ErrorCode::Usage, "", ""}, two = one, three = one;
        {
            std::jthread a([&] { one = cache.layer(r, {first.get_token(), {}}); });
            std::jthread b([&] { two = cache.layer(r, {second.get_token(), {}}); });
            std::jthread c([&] { three = cache.layer(r); }); // is served whoever gives up
            std::this_thread::sleep_for(std::chrono::milliseconds(ms));
            first.request_stop();
            second.request_stop();
        }
        QVERIFY(one || one.error().code == ErrorCode::Cancelled);
        QVERIFY(two || two.error().code == ErrorCode::Cancelled);
        QVERIFY(bool(three));
        QCOMPARE((*three)->sound.audio.frames(), kFrames);
        cache.clear();
    }
    auto missing = recipe("nothing.wav");
    QVERIFY(!cache.layer(missing));
    QCOMPARE(cache.figures().layers, std::size_t(0));
}

void TestRenderCache::mixesAreTheSameBitByBit()
{
    const std::vector<MixLayer> layers{{recipe("a.wav", "drive drive=20"), -100.0, -3.0},
                                       {recipe("b.wav", "reverb"), 60.0, 2.0},
                                       {recipe("a.wav", "drive drive=20"), 10.0, 0.0}};
    MixOptions options;
    options.rateHz = 48000;
    const auto plain = mixToMemory(layers, options, 0.1, 0.9);
    constexpr std::size_t kNone = 0, kShort = kFrames * sizeof(float), kAll = RenderCache::kUsualBytes;
    for (const std::size_t limit : {kNone, kShort, kAll}) {
        RenderCache cache(limit);
        for (int again = 0; again < 2; ++again) {
            const auto cached = mixToMemory(layers, options, 0.1, 0.9, {}, &cache);
            QVERIFY(cached && isSame(cached->audio, plain->audio));
        }
        if (limit == kAll) QCOMPARE(cache.figures().rendered, 2); // two of the three sound alike
        std::vector<std::optional<double>> lufs[2];
        std::optional<double> loss[2];
        for (const bool isCached : {false, true}) {
            const auto report = mixDown(
                layers, options, [](const AudioBuffer&) -> Outcome { return Done{}; }, {}, isCached ? &cache : nullptr);
            for (const auto& l : report->layers) lufs[isCached].push_back(l.integratedLufs);
            loss[isCached] = report->stereo.monoLossDb;
        }
        QCOMPARE(lufs[0], lufs[1]);
        QCOMPARE(loss[0], loss[1]);
    }
}

/// A file elsewhere and one in memory give what the same file in the rig's folder gives, at its stored gain.
void TestRenderCache::anImpulseInPlaceIsThatImpulse()
{
    std::vector<float> response(400);
    for (std::size_t i = 0; i < response.size(); ++i)
        response[i] = 0.7f * std::exp(-float(i) / 60.0f) * (i % 2 ? -1.0f : 1.0f);
    response[0] = 1.0f;
    QTemporaryDir elsewhere;
    const auto file = test::writeWav(elsewhere, "cab.wav", {response}, 48000);
    const auto recording = test::recording({response}, 48000);
    auto plain = recipe("a.wav", "impulse file=none.wav level=plain");
    QVERIFY(!LayerSource::open(plain));
    plain.impulses = {{"none.wav", file, nullptr}};
    RenderReport report;
    const auto fromFile = renderToMemory(plain, report);
    QVERIFY(bool(fromFile));
    plain.impulses = {{"none.wav", {}, std::make_shared<const Recording>(recording)}};
    QVERIFY(isSame(fromFile->audio, renderToMemory(plain, report)->audio));
    // By definition.
    const auto in = readRecording(plain.file).value();
    const auto x = std::as_const(in.audio).channel(0);
    for (const std::size_t n : {0u, 1u, 399u, 5000u, 47999u}) {
        double sum = 0.0;
        for (std::size_t k = 0; k < response.size() && k <= n; ++k) sum += double(response[k]) * double(x[n - k]);
        QVERIFY(std::abs(double(fromFile->audio.channel(0)[n]) - sum) < 1e-5);
    }
    plain.rig.chain[0].values["level"] = std::string("matched");
    const auto matched = renderToMemory(plain, report);
    auto kept = recipe("a.wav", "impulse file=kept.wav level=matched");
    test::writeWav(dir_, "kept.wav", {response}, 48000);
    std::ofstream(dir_.filePath("kept.wav.json").toStdString())
        << R"({"matched_gain_db": )" << std::setprecision(17) << matchedGainDb(recording) << "}";
    QVERIFY(isSame(matched->audio, renderToMemory(kept, report)->audio));
    QVERIFY(!isSame(matched->audio, fromFile->audio));
}

QTEST_GUILESS_MAIN(TestRenderCache)
#include "test_render_cache.moc"
