#include "core/advice/align_findings.h"
#include "core/audio/resampler.h"
#include "core/mix/render/render.h"
#include "core/signal/biquad.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "core/timing/align_files.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle::core;
using namespace gristle::test;

namespace {

constexpr double kRate = 48000.0, kPi = std::numbers::pi;

std::vector<float> guitar(unsigned seed, const std::vector<WrittenNote>& part)
{
    PlayingStyle style;
    style.seed = seed;
    style.leadInS = 0.2;
    auto out = perform(part, 110.0, standardTuning(), style, kRate).volts;
    out.resize(std::size_t(5.0 * kRate));
    return out;
}

/// Bursts whose formula is delayed, so that any part of a sample is exact.
std::vector<float> bursts(double laterSamples, double sign = 1.0)
{
    std::mt19937 random(11);
    std::uniform_real_distribution<double> hz(90.0, 6000.0), at(0.1, 1.9), width(0.0005, 0.03), phase(0.0, 2.0 * kPi);
    std::vector<float> out(std::size_t(2.0 * kRate));
    for (int k = 0; k < 400; ++k) {
        const double f = hz(random), t0 = at(random) + laterSamples / kRate, w = width(random), p = phase(random);
        const auto from = std::size_t(std::max(0.0, (t0 - 6.0 * w) * kRate)),
                   to = std::min(out.size(), std::size_t((t0 + 6.0 * w) * kRate));
        for (std::size_t i = from; i < to; ++i) {
            const double t = double(i) / kRate - t0;
            out[i] += float(sign * 0.05 * std::exp(-t * t / (2.0 * w * w)) * std::cos(2.0 * kPi * f * t + p));
        }
    }
    return out;
}

std::vector<float> wholeLater(const std::vector<float>& x, std::size_t samples)
{
    std::vector<float> out(x.size());
    std::copy(x.begin(), x.end() - long(samples), out.begin() + long(samples));
    return out;
}

std::vector<float> plus(std::vector<float> x, const std::vector<float>& y, float gain)
{
    for (std::size_t i = 0; i < x.size(); ++i) x[i] += gain * y[i];
    return x;
}

} // namespace

class TestAlignment : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    std::filesystem::path path(const char* name) const { return dir_.filePath(name).toStdString(); }

private slots:
    /// Delays that a formula made, with either polarity, at other gains.
    void exactDelays_data()
    {
        QTest::addColumn<double>("later");
        QTest::addColumn<double>("sign");
        for (const double later : {0.0, 0.25, 17.5, -3.37, 812.125, -2200.75})
            for (const double sign : {1.0, -1.0})
                QTest::addRow("%g %s", later, sign > 0.0 ? "normal" : "inverted") << later << sign;
    }
    void exactDelays()
    {
        QFETCH(double, later);
        QFETCH(double, sign);
        const auto r = alignTo(bursts(0.0), bursts(later, 0.3 * sign), kRate).value();
        QVERIFY2(std::abs(r.delaySamples - later) < 0.02, qPrintable(QString::number(r.delaySamples, 'f', 5)));
        QCOMPARE(r.isInverted, sign < 0.0);
        QVERIFY(r.confidence > 0.9);
        QVERIFY(r.isAlike);
    }

    /// What sums lose, by their definition.
    void lossesByDefinition()
    {
        const auto x = guitar(2, rhythmRiff(4));
        auto turned = x;
        for (float& v : turned) v = -v;
        const auto same = alignTo(x, x, kRate).value(), over = alignTo(x, turned, kRate).value();
        QVERIFY(std::abs(same.lossBeforeDb + 3.0103) < 0.001);
        QVERIFY(std::abs(same.lossAfterDb + 3.0103) < 0.01);
        QVERIFY(over.lossBeforeDb > 60.0);
        QVERIFY(std::abs(over.lossAfterDb + 3.0103) < 0.01);
        // Late by 40 samples: the sum by definition, in the time domain.
        const auto late = wholeLater(x, 40);
        double both = 0.0, sum = 0.0;
        for (std::size_t i = 0; i < x.size(); ++i) {
            both += double(x[i]) * x[i] + double(late[i]) * late[i];
            sum += std::pow(double(x[i]) + double(late[i]), 2);
        }
        const auto r = alignTo(x, late, kRate).value();
        QVERIFY(std::abs(r.lossBeforeDb - 10.0 * std::log10(both / sum)) < 0.001);
        QVERIFY(std::abs(r.lossAfterDb + 3.0103) < 0.02);
        QVERIFY(std::abs(metresOf(r.delaySamples, kRate) - 343.0 * 40.0 / kRate) < 0.001);
        QVERIFY(std::abs(lossTurnedOverDb(r.lossBeforeDb) - 10.0 * std::log10(both / (2.0 * both - sum))) < 0.001);
    }

    /// Other responses, a reflection that is as loud as the direct sound, noise: the first arrival is meant.
    void unlikeMicrophones_data()
    {
        QTest::addColumn<int>("later");
        QTest::addColumn<double>("sign");
        QTest::addColumn<double>("reflection");
        QTest::addRow("close") << 6 << 1.0 << 0.0;
        QTest::addRow("second, inverted") << 31 << -1.0 << 0.3;
        QTest::addRow("room") << 420 << 1.0 << 0.8;
        QTest::addRow("room, inverted") << 420 << -1.0 << 0.6;
    }
    void unlikeMicrophones()
    {
        QFETCH(int, later);
        QFETCH(double, sign);
        QFETCH(double, reflection);
        const auto x = guitar(5, rhythmRiff(5));
        auto y = wholeLater(x, std::size_t(later));
        for (float& v : y) v *= float(sign);
        y = plus(y, wholeLater(y, 131), float(reflection));
        Biquad(bell(3100.0, 6.0, 1.1, kRate)).process(y);
        Biquad(lowShelf(180.0, 5.0, kRate)).process(y);
        Biquad(lowPass(8000.0, 0.75, kRate)).process(y);
        y = plus(y, whiteNoise(0.0005, y.size()), 1.0f);
        const auto r = alignTo(x, y, kRate).value();
        QVERIFY2(std::abs(r.delaySamples - later) < 3.0, qPrintable(QString::number(r.delaySamples)));
        QCOMPARE(r.isInverted, sign < 0.0);
        QVERIFY2(r.confidence > 0.5, qPrintable(QString::number(r.confidence)));
        QVERIFY(!r.isAlike);
        QVERIFY(r.lossAfterDb < r.lossBeforeDb + 0.3);
    }
    void strangers_data()
    {
        QTest::addColumn<int>("which");
        QTest::newRow("the same part again") << 0;
        QTest::newRow("another part") << 1;
        QTest::newRow("noise") << 2;
    }
    void strangers()
    {
        QFETCH(int, which);
        const auto x = guitar(7, rhythmRiff(5));
        const auto y = which == 0   ? guitar(8, rhythmRiff(5))
                       : which == 1 ? guitar(9, brokenChords(5, 4.0))
                                    : whiteNoise(0.05, x.size());
        const auto r = alignTo(x, y, kRate).value();
        QVERIFY2(r.confidence < 0.5, qPrintable(QString::number(r.confidence)));
    }
    /// One passes all, the other is an all-pass of second order besides: no delay brings that together, and it is said.
    void phaseThatNoDelayMends()
    {
        const auto x = guitar(5, rhythmRiff(5));
        auto y = x;
        BiquadCoefficients c = lowPass(500.0, 0.7, kRate);
        c.b0 = c.a2, c.b1 = c.a1, c.b2 = 1.0; // the poles, mirrored
        Biquad(c).process(y);
        AlignedFiles files;
        files.reference = "a.wav";
        files.rateHz = int(kRate);
        files.others.emplace_back().file = "b.wav";
        files.others[0].alignment = alignTo(x, y, kRate).value();
        const Alignment& a = files.others[0].alignment;
        QVERIFY(a.lossAfterDb > a.leastLossDb + 0.5);
        QVERIFY(std::abs(a.leastLossDb + 3.01) < 0.3);
        const auto findings = alignFindings(files, 50.0);
        QVERIFY(std::ranges::any_of(findings, [](const Finding& f) { return f.code == "align.phase"; }));
    }
    void whatCannotBeAligned()
    {
        const auto x = bursts(0.0);
        const std::vector<float> silence(x.size()), brief(x.begin(), x.begin() + 4000);
        QCOMPARE(alignTo(x, silence, kRate).error().code, ErrorCode::OutOfRange);
        QCOMPARE(alignTo(x, brief, kRate).error().code, ErrorCode::OutOfRange);
        QCOMPARE(alignTo(x, x, kRate, 5000.0).error().code, ErrorCode::Usage);
        QVERIFY(alignTo(x, brief, kRate, 5.0)); // short, and short delays
    }

    /// A part of a sample, by the formula again; -90 dB to 18 kHz is world class.
    void movesByParts()
    {
        for (const double by : {0.5, 3.25, -7.6}) {
            double off = 0.0, all = 0.0;
            for (const double hz : {100.0, 3000.0, 12000.0, 18000.0}) {
                const auto x = sine(hz, 0.5, kRate, 0.2);
                const auto y = movedEarlier(x, by, true);
                for (std::size_t i = 300; i + 300 < x.size(); ++i) {
                    const double truth = -0.5 * std::sin(2.0 * kPi * hz * (double(i) + by) / kRate);
                    off += std::pow(double(y[i]) - truth, 2);
                    all += truth * truth;
                }
            }
            QVERIFY2(10.0 * std::log10(off / all) < -100.0, qPrintable(QString::number(10.0 * std::log10(off / all))));
        }
        const auto x = bursts(0.0);
        QVERIFY(movedEarlier(x, 0.0, false) == x);
    }

    /// Files at other rates and depths; the copies agree, are as long, and are cut nowhere.
    void files()
    {
        const auto x = guitar(5, rhythmRiff(5));
        auto y = wholeLater(x, 96);
        for (float& v : y) v = -v;
        const auto at44 = resampled(recording({y}, 48000), 44100);
        QVERIFY(writeRecording(path("close mic.wav"), recording({x}, 48000), SampleFormat::Int24));
        QVERIFY(writeRecording(path("second.wav"), at44, SampleFormat::Float32));
        QVERIFY(writeRecording(path("room.wav"), recording({wholeLater(x, 500)}, 48000), SampleFormat::Int16));
        auto r = alignFiles({path("close mic.wav")}, {{path("second.wav")}, {path("room.wav"), 0, true}}).value();
        QVERIFY(writeAligned(r, path("moved")));
        QVERIFY(std::abs(r.others[0].alignment.delaySamples - 96.0) < 0.05);
        QVERIFY(r.others[0].alignment.isInverted);
        QVERIFY(std::abs(r.others[1].alignment.delaySamples - 500.0) < 0.05);
        QVERIFY(r.others[1].isKeptLate);
        QCOMPARE(r.others[0].written.filename().string(), std::string("second.aligned.wav"));
        const auto again = alignFiles({r.referenceWritten}, {{r.others[0].written}, {r.others[1].written}}).value();
        QVERIFY(std::abs(again.others[0].alignment.delaySamples) < 0.05);
        QVERIFY(!again.others[0].alignment.isInverted);
        QVERIFY(std::abs(again.others[1].alignment.delaySamples - 500.0) < 0.05); // it was to stay
        const auto info = AudioReader::open(r.others[0].written)->info();
        QCOMPARE(info.sampleRateHz, 44100);
        QCOMPARE(info.frames, std::int64_t(at44.audio.frames()));
        QVERIFY(info.isFloat);
        QCOMPARE(AudioReader::open(r.others[1].written)->info().bits, 16);
        // The reference is as it was, to the bit.
        QVERIFY(readRecording(r.referenceWritten)->audio.channel(0)[1000] ==
                readRecording(path("close mic.wav"))->audio.channel(0)[1000]);

        auto twins = alignFiles({path("close mic.wav")}, {{path("close mic.wav")}}).value();
        QCOMPARE(writeAligned(twins, path("moved")).error().code, ErrorCode::Usage);
        QCOMPARE(alignFiles({path("close mic.wav")}, {{path("none.wav")}}).error().code, ErrorCode::FileMissing);
    }

    /// A layer that is moved in a mix, earlier or later, from its start or from a place within.
    void movedLayers_data()
    {
        QTest::addColumn<double>("earlier");
        QTest::addColumn<double>("fromS");
        for (const double earlier : {0.0, 30.0, 12.35, -7.6, -480.5})
            for (const double from : {0.0, 1.3}) QTest::addRow("%g from %g s", earlier, from) << earlier << from;
    }
    void movedLayers()
    {
        QFETCH(double, earlier);
        QFETCH(double, fromS);
        const auto x = guitar(5, rhythmRiff(5));
        QVERIFY(writeRecording(path("layer.wav"), recording({x}, 48000), SampleFormat::Float32));
        LayerRecipe recipe;
        recipe.file = path("layer.wav");
        recipe.earlierS = earlier / kRate;
        recipe.isInverted = true;
        recipe.startS = fromS;
        recipe.endS = fromS + 2.0;
        RenderReport report;
        const auto out = renderToMemory(recipe, report).value();
        const auto truth = movedEarlier(x, earlier, true);
        const auto from = std::size_t(fromS * kRate);
        double off = 0.0, all = 0.0;
        for (std::size_t i = 0; i < std::size_t(1.9 * kRate); ++i) {
            off += std::pow(double(out.audio.channel(0)[i]) - double(truth[from + i]), 2);
            all += std::pow(double(truth[from + i]), 2);
        }
        QVERIFY2(10.0 * std::log10(off / all + 1e-30) < -85.0,
                 qPrintable(QString::number(10.0 * std::log10(off / all))));
    }
};

QTEST_APPLESS_MAIN(TestAlignment)
#include "test_alignment.moc"
