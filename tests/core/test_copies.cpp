// One performance heard several times in a mix: predicted from the recipe, measured on what is rendered.

#include "core/advice/stereo_findings.h"
#include "core/audio/audio_reader.h"
#include "core/measure/stereo_measure.h"
#include "core/mix/figures/copies.h"
#include "core/sim/performance.h"
#include "core/sim/repertoire.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <complex>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr int kRate = 48000;
constexpr double kPi = std::numbers::pi;

double powerAt(std::span<const float> x, double hz)
{
    // Hann windows of 0.34 s at one frequency, by the transform's definition.
    constexpr std::size_t n = 16384;
    double power = 0.0;
    for (std::size_t from = 0; from + n <= x.size(); from += 4 * n) {
        std::complex<double> sum = 0.0;
        const auto turn = std::polar(1.0, -2.0 * kPi * hz / kRate);
        std::complex<double> z = 1.0;
        for (std::size_t i = 0; i < n; ++i, z *= turn)
            sum += double(x[from + i]) * (0.5 - 0.5 * std::cos(2.0 * kPi * double(i) / n)) * z;
        power += std::norm(sum);
    }
    return power;
}

} // namespace

class TestCopies : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    std::filesystem::path take_, noise_;

    MixLayer layer(const std::filesystem::path& file, double place, double earlierMs, bool isInverted = false,
                   double gainDb = 0.0, const char* chain = "") const
    {
        MixLayer out;
        out.recipe.file = file;
        out.recipe.rig.chain = *parseRecallLine(chain);
        out.recipe.earlierS = 0.001 * earlierMs;
        out.recipe.isInverted = isInverted;
        out.place = place, out.gainDb = gainDb;
        return out;
    }

private slots:
    void initTestCase()
    {
        PlayingStyle style;
        style.leadInS = 0.2;
        take_ = test::writeWav(dir_, "riff.wav", {perform(rhythmRiff(4), 120.0, standardTuning(), style, kRate).volts},
                               kRate);
        noise_ = test::writeWav(dir_, "noise.wav", {test::whiteNoise(0.05, 6 * kRate)}, kRate);
    }

    /// Goals: what mono loses to 0.1 dB, dips to half a per cent.
    void predictedAndMeasured_data()
    {
        QTest::addColumn<bool>("isGuitar");
        QTest::addColumn<double>("first");
        QTest::addColumn<double>("second");
        QTest::addColumn<double>("laterMs");
        QTest::addColumn<bool>("isInverted");
        QTest::addColumn<double>("gainDb");
        QTest::addColumn<QString>("chain");
        QTest::newRow("hard left and right") << true << -100.0 << 100.0 << 1.3 << false << 0.0 << "";
        QTest::newRow("part of a sample") << false << -100.0 << 100.0 << 0.71357 << false << 0.0 << "";
        QTest::newRow("inverted") << false << -100.0 << 100.0 << 2.0 << true << 0.0 << "";
        QTest::newRow("not as loud") << true << -60.0 << 40.0 << 0.9 << false << -4.0 << "";
        QTest::newRow("both in the middle") << true << 0.0 << 0.0 << 0.5 << false << 0.0 << "";
        QTest::newRow("through a rig") << true << -100.0 << 100.0 << 1.1 << false << 0.0 << "softclip | gain db=-6";
        QTest::newRow("long") << true << -100.0 << 100.0 << 18.0 << false << 0.0 << "";
        QTest::newRow("at one moment") << true << -100.0 << 100.0 << 0.0 << false << 0.0 << "";
    }
    void predictedAndMeasured()
    {
        QFETCH(bool, isGuitar);
        QFETCH(double, first);
        QFETCH(double, second);
        QFETCH(double, laterMs);
        QFETCH(bool, isInverted);
        QFETCH(double, gainDb);
        QFETCH(QString, chain);
        const QByteArray line = chain.toUtf8();
        const auto& file = isGuitar ? take_ : noise_;
        const std::vector<MixLayer> layers{layer(file, first, 0.0, false, 0.0, line),
                                           layer(file, second, -laterMs, isInverted, gainDb, line)};
        const auto copies = predictCopies(layers, {}).value();
        QCOMPARE(copies.size(), std::size_t(1));
        QCOMPARE(copies[0].layers, (std::vector<std::size_t>{0, 1}));

        const double lengthS = AudioReader::open(file)->info().durationS();
        const auto mix = mixToMemory(layers, {}, 0.0, lengthS).value();
        const auto l = mix.audio.channel(0), r = mix.audio.channel(1);
        StereoMeter meter(kRate);
        meter.push(l, r);
        const double measured = *meter.result().monoLossDb;
        QVERIFY2(std::abs(copies[0].monoLossDb - measured) < 0.1,
                 qPrintable(QString("%1 for %2").arg(copies[0].monoLossDb).arg(measured)));

        // Dips of the sum against one of them by itself.
        const auto alone = mixToMemory({layers[0]}, {}, 0.0, lengthS).value();
        std::vector<float> mono(l.size()), one(l.size());
        for (std::size_t i = 0; i < l.size(); ++i)
            mono[i] = l[i] + r[i], one[i] = alone.audio.channel(0)[i] + alone.audio.channel(1)[i];
        if (laterMs == 0.0) QVERIFY(copies[0].notches.empty());
        if (isGuitar && laterMs > 5.0) return; // dips as near as its partials: a window of 0.34 s cannot tell them
        for (std::size_t i = 0; i < std::min<std::size_t>(3, copies[0].notches.size()); ++i) {
            const double expected = copies[0].notches[i].hz;
            // Closed form: odd halves of 1 / t, inverted whole ones.
            const double formula = (double(i) + (isInverted ? 1.0 : 0.5)) / (0.001 * laterMs);
            QVERIFY2(std::abs(expected / formula - 1.0) < 1e-4,
                     qPrintable(QString("%1 for %2").arg(expected).arg(formula)));
            if (isGuitar) continue; // of noise, as a string has nothing between its partials
            double lowest = 0.0, least = 1e99;
            for (double hz = 0.9 * expected; hz < 1.1 * expected; hz += 0.002 * expected) {
                const double ratio = powerAt(mono, hz) / powerAt(one, hz);
                if (ratio < least) least = ratio, lowest = hz;
            }
            QVERIFY2(std::abs(lowest / expected - 1.0) < 0.005,
                     qPrintable(QString("%1 for %2").arg(lowest).arg(expected)));
        }
    }

    /// Alike at one moment: -3.01 dB; what is no copy is not taken for one.
    void whatIsACopy()
    {
        const auto same = predictCopies({layer(take_, -100, 0.0), layer(take_, 100, 0.0)}, {}).value();
        QVERIFY(std::abs(same[0].monoLossDb + 3.0103) < 1e-3);
        QVERIFY(predictCopies({layer(take_, -100, 0.0), layer(noise_, 100, 0.0)}, {})->empty());
        QVERIFY(predictCopies({layer(take_, -100, 0.0), layer(take_, 100, 0.0, false, 0.0, "gain db=3")}, {})->empty());
        const auto three =
            predictCopies(
                {layer(take_, -100, 0.0), layer(noise_, 0, 0.0), layer(take_, 100, -1.0), layer(take_, 0, -2.0)}, {})
                .value();
        QCOMPARE(three.size(), std::size_t(1));
        QCOMPARE(three[0].layers, (std::vector<std::size_t>{0, 2, 3}));
        const auto found = copyFindings(same, {"Left", "Right"});
        QCOMPARE(found.size(), std::size_t(1));
        QCOMPARE(found[0].code, std::string("stereo.copies"));
        QVERIFY(found[0].message.find("Left and Right") != std::string::npos);
    }

    void everyCombByItsFormula()
    {
        const std::vector<double> flat(2000, 1.0);
        // Over a whole number of turns the cross terms vanish.
        const std::vector<HeardCopy> two{{1.0, 0.0, 0.0, false}, {0.0, 1.0, 0.01, false}};
        QVERIFY(std::abs(predictedMonoLossDb(flat, 1.0, two)) < 0.01);
        const std::vector<HeardCopy> turned{{1.0, 0.0, 0.0, false}, {0.0, 1.0, 0.0, true}};
        QVERIFY(predictedMonoLossDb(flat, 1.0, turned) > 100.0);
        QVERIFY(predictedNotches(turned, 10000.0).empty());
    }
};

QTEST_APPLESS_MAIN(TestCopies)
#include "test_copies.moc"
