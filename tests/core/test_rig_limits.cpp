#include "core/mix/figures/rig_limits.h"

#include "core/mix/figures/stage_run.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr double kRate = 48000.0;

CompileOptions options()
{
    CompileOptions out;
    out.context.rateHz = kRate;
    out.effort = Effort::Draft;
    return out;
}
RigNode node(const char* line) { return parseRecallLine(line)->front(); }

/// Harmonics of a held sine of 220 Hz at a level, dB, and its own level, dBu: measured once more, plainly.
struct Bent {
    double harmonicsDb, outDbu;
};
Bent bentAt(const RigNode& stage, double dbu)
{
    const auto x = test::sine(220.0, kDbuVoltsRms * std::numbers::sqrt2 * dbToAmplitude(dbu), kRate, 1.0);
    const AudioBuffer in = test::recording({x}, int(kRate)).audio;
    const auto played = playChain({stage}, options(), in, in.channel(0), {});
    const std::vector<float> y(played->channel(0).begin() + long(kRate / 2), played->channel(0).end());
    const double first = test::amplitudeAt(y, 220.0, kRate);
    double others = 0.0;
    for (int h = 2; h <= 10; ++h) others += std::pow(test::amplitudeAt(y, 220.0 * h, kRate), 2.0);
    return {powerToDb(others / (first * first)), voltsRmsToDbu(first / std::numbers::sqrt2)};
}

Result<RigLimits> limitsOf(const LayerRecipe& recipe, double restFromS, double restToS, const Progress& progress = {})
{
    KnownCeilings known;
    return rigLimits(recipe, restFromS, restToS, known, progress);
}

} // namespace

class TestRigLimits : public QObject {
    Q_OBJECT
private slots:
    void whatBendsNothingHasNoCeiling_data();
    void whatBendsNothingHasNoCeiling();
    void aLimiterHoldsItsCeiling_data();
    void aLimiterHoldsItsCeiling();
    void aStageBendsAtItsCeiling_data();
    void aStageBendsAtItsCeiling();
    void roomFollowsTheLevel();
    void noiseIsWhatGatesAndCompressorsLetBy();
    void aSplitPassesItsNoise();
    void withoutRestNoNoiseIsTold();
    void itStops();
    void whatIsKnownIsNotLookedForAgain();

private:
    LayerRecipe recipe(const char* chain, bool isNoisy = true) const
    {
        auto x = test::whiteNoise(1e-4, 48000 * 2);
        auto playing = test::sine(400.0, 0.1, 48000.0, 2.0);
        if (isNoisy) test::add(playing, test::whiteNoise(1e-4, playing.size(), 2));
        test::append(x, playing);
        LayerRecipe r;
        r.file = test::writeWav(dir_, "take.wav", {x}, 48000);
        r.rig.chain = *parseRecallLine(chain);
        r.startS = 2.2, r.endS = 3.8;
        return r;
    }
    QTemporaryDir dir_;
};

void TestRigLimits::whatBendsNothingHasNoCeiling_data()
{
    QTest::addColumn<QString>("stage");
    for (const char* stage : {"gain db=20", "eq", "delay mix=0.5", "reverb mix=0.4", "chorus", "gate threshold=-50",
                              "compressor threshold=-20 ratio=4", "polarity"})
        QTest::newRow(stage) << stage;
}

void TestRigLimits::whatBendsNothingHasNoCeiling()
{
    QFETCH(QString, stage);
    const auto found = findCeiling(node(stage.toUtf8()), options());
    QVERIFY(bool(found));
    QVERIFY2(!*found, qPrintable(*found ? QString::number((*found)->outDbu) : QString()));
}

void TestRigLimits::aLimiterHoldsItsCeiling_data()
{
    QTest::addColumn<double>("dbu");
    for (const double dbu : {-20.0, -3.5, 12.0}) QTest::addRow("%.1f dBu", dbu) << dbu;
}

void TestRigLimits::aLimiterHoldsItsCeiling()
{
    QFETCH(double, dbu);
    const auto found = findCeiling(node(("limiter ceiling=" + std::to_string(dbu)).c_str()), options());
    QVERIFY(found && *found);
    QVERIFY2(std::abs((*found)->outDbu - dbu) < 0.2, qPrintable(QString::number((*found)->outDbu)));
    QVERIFY2(std::abs((*found)->inDbu - dbu) < 0.2, qPrintable(QString::number((*found)->inDbu)));
}

void TestRigLimits::aStageBendsAtItsCeiling_data()
{
    QTest::addColumn<QString>("stage");
    for (const char* stage : {"boost gain=20", "hardclip drive=5", "drive drive=12", "amplifier drive=3",
                              "circuit voice=clean drive=4", "circuit voice=tight drive=3"})
        QTest::newRow(stage) << stage;
}

void TestRigLimits::aStageBendsAtItsCeiling()
{
    QFETCH(QString, stage);
    const RigNode one = node(stage.toUtf8());
    const auto found = findCeiling(one, options());
    QVERIFY(found && *found);
    const Bent under = bentAt(one, (*found)->inDbu - 1.5), at = bentAt(one, (*found)->inDbu),
               over = bentAt(one, (*found)->inDbu + 1.5);
    const bool bends = under.harmonicsDb < -20.0 && over.harmonicsDb > -20.0,
               holds = std::abs(bentAt(one, (*found)->inDbu + 12.0).outDbu - (*found)->outDbu) < 0.5; // no louder
    QVERIFY2(bends || holds,
             qPrintable(QString("%1 dBu: %2, %3").arg((*found)->inDbu).arg(under.harmonicsDb).arg(over.harmonicsDb)));
    // Where it is held softly, two straight lines meet over the curve.
    QVERIFY2(std::abs(at.outDbu - (*found)->outDbu) < (bends ? 0.5 : 2.5), qPrintable(QString::number(at.outDbu)));
}

void TestRigLimits::roomFollowsTheLevel()
{
    const auto plain = limitsOf(recipe("boost gain=6 | gain db=0", false), 0.0, 0.0),
               pushed = limitsOf(recipe("gain db=14 | boost gain=6", false), 0.0, 0.0);
    QVERIFY(plain && pushed && plain->stages.size() == 3);
    // A sine of 0.1 stands 20 dB under full scale, which is 12 dBu.
    QVERIFY(std::abs(*plain->stages[0].roomDb - 20.0) < 0.01 && std::abs(*plain->stages[0].ceilingDbu - 12.0) < 1e-9);
    QVERIFY(std::abs(*plain->stages[1].roomDb - *pushed->stages[2].roomDb - 14.0) < 0.01);
    QVERIFY(std::abs(*plain->stages[1].ceilingDbu - *pushed->stages[2].ceilingDbu) < 1e-9);
    QVERIFY(!plain->stages[2].ceilingDbu && !plain->stages[2].roomDb && !plain->stages[2].noiseDbu);
}

void TestRigLimits::noiseIsWhatGatesAndCompressorsLetBy()
{
    const auto limits = limitsOf(
        recipe("gate threshold=-50 depth=40 | compressor threshold=-20 ratio=4 knee=0 attack=5 release=500 gain=0"),
        0.5, 1.8);
    QVERIFY(limits && limits->stages.size() == 3);
    const double in = 12.0 + 20.0 * std::log10(1e-4 * std::numbers::sqrt2);
    QVERIFY(std::abs(*limits->stages[0].noiseDbu - in) < 0.2);
    QVERIFY(std::abs(*limits->stages[1].noiseDbu - in) < 0.2); // open while somebody plays
    // 12 dB over the threshold become 3: what lies under the note is turned down with it.
    QVERIFY2(std::abs(*limits->stages[2].noiseDbu - (in - 9.0)) < 0.4,
             qPrintable(QString::number(*limits->stages[2].noiseDbu - in)));
}

void TestRigLimits::aSplitPassesItsNoise()
{
    const auto limits = limitsOf(recipe("{ gain db=0 ; gain db=-60 | polarity } gain=0"), 0.5, 1.8);
    QVERIFY(limits && limits->stages.size() == 2);
    QVERIFY(!limits->stages[1].ceilingDbu); // its lanes have their own
    QVERIFY(std::abs(*limits->stages[1].noiseDbu - *limits->stages[0].noiseDbu - 20.0 * std::log10(0.999)) < 0.02);
}

void TestRigLimits::withoutRestNoNoiseIsTold()
{
    const auto limits = limitsOf(recipe("gain db=3"), 0.0, 0.0);
    QVERIFY(bool(limits));
    for (const StageLimit& stage : limits->stages) QVERIFY(!stage.noiseDbu);
}

void TestRigLimits::itStops()
{
    std::stop_source stop;
    stop.request_stop();
    const auto limits = limitsOf(recipe("gain db=3"), 0.5, 1.8, {stop.get_token(), nullptr});
    QCOMPARE(limits.error().code, ErrorCode::Cancelled);
}

/// One who may not work any more can tell what he knows, and nothing else.
void TestRigLimits::whatIsKnownIsNotLookedForAgain()
{
    KnownCeilings known;
    std::stop_source stop;
    stop.request_stop();
    const Progress stopped{stop.get_token(), nullptr};
    const RigNode boost = node("boost gain=6");
    QVERIFY(!known.find(boost, options(), stopped));
    const auto found = known.find(boost, options()), again = known.find(boost, options(), stopped),
               truth = findCeiling(boost, options());
    QVERIFY(found && again && truth && *truth);
    QCOMPARE((*found)->inDbu, (*truth)->inDbu);
    QCOMPARE((*again)->outDbu, (*truth)->outDbu);
    QVERIFY(!known.find(node("boost gain=7"), options(), stopped));
    CompileOptions otherRate = options();
    otherRate.context.rateHz = 44100.0;
    QVERIFY(!known.find(boost, otherRate, stopped));
    QVERIFY(known.find(node("gain db=1"), options()) && !*known.find(node("gain db=1"), options(), stopped));
}

QTEST_APPLESS_MAIN(TestRigLimits)
#include "test_rig_limits.moc"
