#include "core/advice/stereo_findings.h"
#include "core/mix/figures/control_travel.h"
#include "core/mix/figures/rig_ledger.h"
#include "core/mix/render/mixdown.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;

class TestMix : public QObject {
    Q_OBJECT
private slots:
    void linearChainIsTransparent_data();
    void linearChainIsTransparent();
    void manyBlocksAreOneFile();
    void renderIsTheSameTwice();
    void otherRatesLineUp();
    void excerptEqualsTheWhole();
    void voltsDecideNotTheInterface();
    void mixIsTheSumByDefinition();
    void matchBringsToTheFirst();
    void clippingIsTold();
    void thinAndThickLayers();
    void cancelLeavesNothing();
    void ledgerMeasuresGain();
    void ledgerMeasuresLanes();
    void ledgerSeesGateAndCompressor();
    void travelKnowsLevel();
    void travelKnowsBrightnessAndBody();

private:
    LayerRecipe recipe(const std::filesystem::path& file, const char* chain = "") const
    {
        LayerRecipe r;
        r.file = file;
        r.rig.chain = *parseRecallLine(chain);
        return r;
    }
    QTemporaryDir dir_;
};

void TestMix::linearChainIsTransparent_data()
{
    QTest::addColumn<QString>("chain");
    for (const char* chain :
         {"", "gain db=0", "gain db=6 | gain db=-6", "{ gain db=-6.0206 ; gain db=-6.0206 }", "delay mix=0 time=10ms"})
        QTest::newRow(chain) << chain;
}

void TestMix::linearChainIsTransparent()
{
    QFETCH(QString, chain);
    const auto x = test::whiteNoise(0.1, 30000);
    RenderReport report;
    auto r = recipe(test::writeWav(dir_, "t.wav", {x}, 44100), chain.toUtf8());
    r.tailS = 0.0;
    const auto out = renderToMemory(r, report);
    QVERIFY(bool(out));
    QCOMPARE(out->sampleRateHz, 44100);
    QCOMPARE(out->audio.frames(), x.size());
    for (std::size_t i = 0; i < x.size(); ++i) QVERIFY(std::abs(out->audio.channel(0)[i] - x[i]) < 2e-6f);
}

// Blocks hand over what was read too far: at its own rate it is the file, at another one a sine goes on as it
// should.
void TestMix::manyBlocksAreOneFile()
{
    RenderReport report;
    const auto x = test::whiteNoise(0.1, 700001);
    auto plain = recipe(test::writeWav(dir_, "long.wav", {x}, 48000), "gain db=0");
    plain.tailS = 0.0;
    const auto same = renderToMemory(plain, report);
    QVERIFY(bool(same));
    QCOMPARE(same->audio.frames(), x.size());
    for (std::size_t i = 0; i < x.size(); ++i) QVERIFY(std::abs(same->audio.channel(0)[i] - x[i]) < 2e-6f);

    auto other = recipe(test::writeWav(dir_, "long sine.wav", {test::sine(700.0, 0.4, 44100.0, 10.0)}, 44100), "gain");
    other.rateHz = 48000;
    other.tailS = 0.0;
    const auto out = renderToMemory(other, report);
    QVERIFY(bool(out));
    QCOMPARE(out->audio.frames(), std::size_t(480000));
    const auto expected = test::sine(700.0, 0.4, 48000.0, 10.0);
    for (std::size_t i = 3000; i < 477000; ++i) QVERIFY(std::abs(out->audio.channel(0)[i] - expected[i]) < 1e-4f);
}

void TestMix::renderIsTheSameTwice()
{
    const auto file = test::writeWav(dir_, "same.wav", {test::whiteNoise(0.1, 30000)}, 48000);
    const std::filesystem::path a = dir_.filePath("a.wav").toStdString(), b = dir_.filePath("b.wav").toStdString();
    for (const auto& out : {a, b})
        QVERIFY(bool(renderToFile(out, recipe(file, "drive | amplifier | delay"), SampleFormat::Int24)));
    QFile fa(a.c_str()), fb(b.c_str());
    QVERIFY(fa.open(QIODevice::ReadOnly) && fb.open(QIODevice::ReadOnly));
    QVERIFY(fa.readAll() == fb.readAll());
}

void TestMix::otherRatesLineUp()
{
    // The same wave at 44.1 and 96 kHz, mixed at 48: they fall on each other.
    MixLayer a, b;
    a.recipe = recipe(test::writeWav(dir_, "44.wav", {test::sine(700.0, 0.2, 44100.0, 1.0)}, 44100));
    b.recipe = recipe(test::writeWav(dir_, "96.wav", {test::sine(700.0, 0.2, 96000.0, 1.0)}, 96000));
    a.place = b.place = -100.0;
    b.gainDb = 0.0;
    MixOptions options;
    options.rateHz = 48000;
    std::vector<float> left;
    QVERIFY(bool(mixDown({a, b}, options, [&](const AudioBuffer& block) -> Outcome {
        left.insert(left.end(), block.channel(0).begin(), block.channel(0).end());
        return Done{};
    })));
    const auto expected = test::sine(700.0, 0.4, 48000.0, 1.0);
    for (std::size_t i = 3000; i < 45000; ++i) QVERIFY(std::abs(left[i] - expected[i]) < 1e-4f);
}

void TestMix::excerptEqualsTheWhole()
{
    const auto file = test::writeWav(dir_, "ex.wav", {test::whiteNoise(0.1, 48000 * 6)}, 48000);
    RenderReport report;
    auto whole = recipe(file, "drive | delay time=50ms feedback=0.2");
    auto part = whole;
    part.startS = 3.0;
    part.endS = 4.0;
    const auto a = renderToMemory(whole, report), b = renderToMemory(part, report);
    QVERIFY(a && b);
    QCOMPARE(b->audio.frames(), std::size_t(48000));
    for (std::size_t i = 0; i < 48000; ++i)
        QVERIFY(std::abs(a->audio.channel(0)[144000 + i] - b->audio.channel(0)[i]) <
                1e-5f); // the pre-roll brings the memory
}

void TestMix::voltsDecideNotTheInterface()
{
    // The same volts taken in by two interfaces, 10 dB apart, leave alike.
    const auto x = test::sine(300.0, 0.3, 48000.0, 0.5);
    auto y = x;
    for (float& v : y) v *= float(std::pow(10.0, -0.5));
    auto a = recipe(test::writeWav(dir_, "va.wav", {x}, 48000), "drive drive=20"),
         b = recipe(test::writeWav(dir_, "vb.wav", {y}, 48000), "drive drive=20");
    a.input = {8.0, false};
    b.input = {18.0, false};
    a.output = b.output = {12.0, false};
    RenderReport report;
    const auto ra = renderToMemory(a, report), rb = renderToMemory(b, report);
    for (std::size_t i = 0; i < x.size(); ++i)
        QVERIFY(std::abs(ra->audio.channel(0)[i] - rb->audio.channel(0)[i]) < 1e-5f);
}

void TestMix::mixIsTheSumByDefinition()
{
    const auto x = test::whiteNoise(0.1, 24000, 1), y = test::whiteNoise(0.1, 24000, 2);
    MixLayer a, b;
    a.recipe = recipe(test::writeWav(dir_, "x.wav", {x}, 48000));
    b.recipe = recipe(test::writeWav(dir_, "y.wav", {y}, 48000));
    a.place = -50.0, b.place = 30.0, b.gainDb = -4.0;
    std::vector<float> left, right;
    const auto report = mixDown({a, b}, {}, [&](const AudioBuffer& block) -> Outcome {
        left.insert(left.end(), block.channel(0).begin(), block.channel(0).end());
        right.insert(right.end(), block.channel(1).begin(), block.channel(1).end());
        return Done{};
    });
    QVERIFY(bool(report));
    const double pi = std::numbers::pi, gb = std::pow(10.0, -0.2);
    const double la = std::cos(0.25 * pi / 2), ra = std::sin(0.25 * pi / 2), lb = gb * std::cos(0.65 * pi / 2),
                 rb = gb * std::sin(0.65 * pi / 2);
    for (std::size_t i = 0; i < x.size(); ++i) {
        QVERIFY(std::abs(double(left[i]) - (la * double(x[i]) + lb * double(y[i]))) < 1e-6);
        QVERIFY(std::abs(double(right[i]) - (ra * double(x[i]) + rb * double(y[i]))) < 1e-6);
    }
    StereoMeter meter(48000.0);
    meter.push(left, right);
    QVERIFY(std::abs(*meter.result().monoLossDb - *report->stereo.monoLossDb) < 1e-6);
}

void TestMix::matchBringsToTheFirst()
{
    std::vector<MixLayer> layers(3);
    const double levels[] = {0.1, 0.02, 0.3};
    for (std::size_t i = 0; i < 3; ++i)
        layers[i].recipe = recipe(test::writeWav(dir_, std::to_string(i).append("m.wav").c_str(),
                                                 {test::whiteNoise(levels[i], 48000 * 3, unsigned(i))}, 48000));
    layers[0].gainDb = -2.0;
    MixOptions options;
    options.match = true;
    const auto report = mixDown(layers, options, [](const AudioBuffer&) -> Outcome { return Done{}; });
    QVERIFY(bool(report));
    for (const auto& l : report->layers)
        QVERIFY(std::abs(*l.integratedLufs - *report->layers[0].integratedLufs) < 0.02); // goals: 0.05 LU
    QCOMPARE(report->layers[0].gainDb, -2.0);
}

/// Two tones of one power: half of it is around 250 Hz, so the body is -3.01 dB.
void TestMix::thinAndThickLayers()
{
    const auto low = test::sine(250.0, 0.1, 48000.0, 2.0), high = test::sine(2000.0, 0.1, 48000.0, 2.0);
    std::vector<float> both = low;
    for (std::size_t i = 0; i < both.size(); ++i) both[i] += high[i];
    const auto layer = [&](const char* name, const std::vector<float>& x, double place) {
        return MixLayer{recipe(test::writeWav(dir_, name, {x}, 48000)), place, 0.0};
    };
    const auto reported = [](const std::vector<MixLayer>& layers) {
        return mixDown(layers, {}, [](const AudioBuffer&) -> Outcome { return Done{}; }).value();
    };
    const auto has = [](const std::vector<Finding>& all, const char* code) {
        return std::ranges::any_of(all, [&](const Finding& f) { return f.code == code; });
    };
    const auto pair = reported({layer("low.wav", low, -100.0), layer("both.wav", both, 100.0)});
    QVERIFY(std::abs(*pair.layers[0].bodyDb) < 0.05);
    QVERIFY(std::abs(*pair.layers[1].bodyDb + 3.01) < 0.05);
    const double usual = *usualBody(pair.layers);
    QVERIFY(bodyOf(*pair.layers[0].bodyDb, usual) == Body::Thick &&
            bodyOf(*pair.layers[1].bodyDb, usual) == Body::Thin);
    const auto told = bodyFindings(pair.layers, {"Left", "Right"});
    QVERIFY(has(told, "mix.sides_differ") && told[0].title == "Left is thick, right thin");
    // Alike sides are not told; three thick layers are mud; one alone is nothing.
    QVERIFY(bodyFindings(reported({layer("l.wav", both, -80.0), layer("r.wav", both, 80.0)}).layers, {}).empty());
    const auto thick = reported({layer("1.wav", low, -100.0), layer("2.wav", low, 100.0), layer("3.wav", low, 0.0)});
    QVERIFY(has(bodyFindings(thick.layers, {}), "mix.all_thick"));
    QVERIFY(!usualBody(reported({layer("1.wav", low, 0.0)}).layers));
}

void TestMix::clippingIsTold()
{
    MixLayer a;
    a.recipe = recipe(test::writeWav(dir_, "loud.wav", {test::sine(500.0, 0.9, 48000.0, 0.5)}, 48000));
    a.place = -100.0;
    a.gainDb = 6.0;
    const std::filesystem::path out = dir_.filePath("mixed.wav").toStdString();
    QVERIFY(mixToFile(out, {a}, {}, SampleFormat::Int24)->clippedSamples > 1000);
    QCOMPARE(mixToFile(out, {a}, {}, SampleFormat::Float32)->clippedSamples, std::int64_t(0)); // float does not clip
    QVERIFY(std::abs(*mixToFile(out, {a}, {}, SampleFormat::Float32)->truePeakDbtp - 5.085) < 0.02);
}

void TestMix::cancelLeavesNothing()
{
    QTemporaryDir own;
    std::stop_source stop;
    stop.request_stop();
    const auto file = test::writeWav(dir_, "c.wav", {test::whiteNoise(0.1, 48000)}, 48000);
    const auto result = renderToFile(own.filePath("out.wav").toStdString(), recipe(file, "drive"), SampleFormat::Int24,
                                     {stop.get_token(), nullptr});
    QCOMPARE(result.error().code, ErrorCode::Cancelled);
    QVERIFY(QDir(own.path()).entryList(QDir::AllEntries | QDir::Hidden | QDir::NoDotAndDotDot).isEmpty());
}

void TestMix::ledgerMeasuresGain()
{
    auto x = test::whiteNoise(1e-4, 48000 * 2);
    test::append(x, test::sine(400.0, 0.1, 48000.0, 2.0));
    auto r = recipe(test::writeWav(dir_, "ledger.wav", {x}, 48000), "gain db=12 | gain db=-5");
    r.startS = 2.2;
    r.endS = 3.8;
    RenderReport report;
    const auto rungs = rigLedger(r, 0.2, 1.8, report);
    QVERIFY(rungs && rungs->size() == 3);
    // A sine of 0.1 at +12 dBu full scale is -8 dBu; the noise has a plain RMS of 1e-4.
    QVERIFY(std::abs((*rungs)[0].playingDbu + 8.0) < 0.01);
    QVERIFY(std::abs((*rungs)[1].playingDbu - 4.0) < 0.01 && std::abs((*rungs)[2].playingDbu + 1.0) < 0.01);
    QVERIFY(std::abs(*(*rungs)[0].restDbu - (12.0 + 20.0 * std::log10(1e-4 * std::numbers::sqrt2))) < 0.1);
    QVERIFY(std::abs(*(*rungs)[2].restDbu - *(*rungs)[0].restDbu - 7.0) < 0.01);
}

void TestMix::ledgerMeasuresLanes()
{
    auto r = recipe(test::writeWav(dir_, "lanes.wav", {test::sine(400.0, 0.1, 48000.0, 2.0)}, 48000),
                    "gain db=2 | { gain db=-6 ; polarity | gain db=-12 ; gain db=-60 } gain=-3 | gain db=1");
    r.startS = 0.5;
    r.endS = 1.5;
    RenderReport report;
    const auto rungs = rigLedger(r, 0.0, 0.0, report);
    QVERIFY(rungs && rungs->size() == 4);
    const Rung& split = (*rungs)[2];
    QCOMPARE(split.lanesDbu.size(), std::size_t(3));
    // -8 dBu come in, -6 behind the first stage: each lane by its own gain, the sum with the second lane upside down.
    for (const auto& [lane, wanted] : {std::pair(0, -12.0), {1, -18.0}, {2, -66.0}})
        QVERIFY2(std::abs(split.lanesDbu[std::size_t(lane)] - wanted) < 0.01,
                 qPrintable(QString::number(split.lanesDbu[std::size_t(lane)])));
    const double sum = std::pow(10.0, -6.0 / 20.0) - std::pow(10.0, -12.0 / 20.0) + 1e-3;
    QVERIFY(std::abs(split.playingDbu - (-6.0 + 20.0 * std::log10(sum) - 3.0)) < 0.01);
    QVERIFY(std::abs((*rungs)[3].playingDbu - split.playingDbu - 1.0) < 0.01);
    QVERIFY((*rungs)[1].lanesDbu.empty() && !split.restDbu);
}

void TestMix::ledgerSeesGateAndCompressor()
{
    auto x = test::whiteNoise(1e-4, 48000 * 2);
    test::append(x, test::sine(400.0, 0.1, 48000.0, 2.0));
    auto r =
        recipe(test::writeWav(dir_, "gated.wav", {x}, 48000),
               "gate threshold=-50 depth=40 | compressor threshold=-20 ratio=4 knee=0 attack=5 release=500 gain=0");
    r.startS = 2.2;
    r.endS = 3.8;
    RenderReport report;
    const auto rungs = rigLedger(r, 0.5, 1.8, report);
    QVERIFY(rungs && rungs->size() == 3);
    QVERIFY(std::abs((*rungs)[1].playingDbu + 8.0) < 0.01);                      // the gate lets the playing by
    QVERIFY(std::abs(*(*rungs)[1].restDbu - *(*rungs)[0].restDbu + 40.0) < 0.1); // and turns the rest down
    // 12 dB over the threshold become 3; the peak's hold lets go by a little in each half period.
    QVERIFY2(std::abs((*rungs)[2].playingDbu + 17.0) < 0.15, qPrintable(QString::number((*rungs)[2].playingDbu)));
    QVERIFY(std::abs(*(*rungs)[2].restDbu - *(*rungs)[1].restDbu) < 0.01); // what is soft stays as it is
}

void TestMix::travelKnowsLevel()
{
    auto r = recipe(test::writeWav(dir_, "travel.wav", {test::whiteNoise(0.05, 48000 * 2)}, 48000), "gain db=0");
    r.endS = 2.0;
    const auto points = controlTravel(r, 0, "db", 5); // -60 to 60
    QVERIFY(points && points->size() == 5);
    QVERIFY(std::abs((*points)[3].value - 30.0) < 1e-9 && std::abs((*points)[3].loudness - 30.0) < 0.01);
    QVERIFY(std::abs((*points)[3].brightness) < 0.01); // a gain has no colour
}

void TestMix::travelKnowsBrightnessAndBody()
{
    // One echo after 1.25 ms is a comb: |H|^2 = (1 - m)^2 + m^2 + 2 m (1 - m) cos(2 pi f T). White noise through it has
    // in a band the mean of that over the band, in closed form.
    constexpr double kDelayS = 0.00125, kTop = 24000.0;
    const auto mean = [](double m, double low, double high) {
        const double w = 2.0 * std::numbers::pi * kDelayS;
        return (1.0 - m) * (1.0 - m) + m * m +
               2.0 * m * (1.0 - m) * (std::sin(w * high) - std::sin(w * low)) / (w * (high - low));
    };
    auto r = recipe(test::writeWav(dir_, "comb.wav", {test::whiteNoise(0.05, 48000 * 20)}, 48000),
                    "delay time=1.25ms feedback=0 mix=0");
    r.endS = 20.0;
    const auto points = controlTravel(r, 0, "mix", 5); // 0, 0.25 ... 1
    QVERIFY(points && points->size() == 5);
    const auto dB = [](double ratio) { return 10.0 * std::log10(ratio); };
    for (const TravelPoint& p : *points) {
        const double m = p.value;
        const double body = dB(mean(m, 100.0, 400.0) / mean(m, 0.0, kTop)),
                     bright = dB(mean(m, 2000.0, kTop) / mean(m, 0.0, kTop));
        // 20 s of noise in a band of 300 Hz: 6,000 degrees of freedom, 0.08 dB; the present setting has as much.
        QVERIFY2(std::abs(p.body - body) < 0.3, qPrintable(QString("%1: %2, true %3").arg(m).arg(p.body).arg(body)));
        QVERIFY2(std::abs(p.brightness - bright) < 0.05,
                 qPrintable(QString("%1: %2, true %3").arg(m).arg(p.brightness).arg(bright)));
    }
}

QTEST_APPLESS_MAIN(TestMix)
#include "test_mix.moc"
