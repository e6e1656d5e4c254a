#include "core/advice/clean_findings.h"
#include "core/measure/measure_file.h"
#include "core/mix/figures/clean_judge.h"
#include "core/mix/render/render.h"
#include "support/sampled_guitar.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;
using namespace gristle::test;

namespace {

constexpr double kRate = 48000.0;
constexpr double kMainsHz = 50.02;

/// A series of 15 harmonics whose power sum is at `dbfs`, AES17; its frequency may drift linearly.
std::vector<float> series(double dbfs, double seconds, double driftHzPerS = 0.0)
{
    double power = 0.0;
    for (int h = 1; h <= 15; ++h) power += 1.0 / double(h * h);
    const double scale = dbToAmplitude(dbfs) / std::sqrt(power);
    std::vector<float> x(std::size_t(seconds * kRate));
    for (std::size_t i = 0; i < x.size(); ++i) {
        const double t = double(i) / kRate, turns = (kMainsHz + 0.5 * driftHzPerS * t) * t;
        for (int h = 1; h <= 15; ++h) x[i] += float(scale / h * std::sin(2.0 * std::numbers::pi * h * turns + h));
    }
    return x;
}

std::vector<float> through(const RigChain& chain, const std::vector<float>& x, std::size_t block = 512)
{
    RigDocument rig;
    rig.chain = chain;
    CompileOptions options;
    options.context.rateHz = kRate;
    options.maxBlock = block;
    auto compiled = CompiledRig::compile(rig, options);
    if (!compiled) qFatal("%s", compiled.error().message.c_str());
    const std::size_t late = compiled->latency();
    std::vector<float> in = x, other(block), out;
    in.resize(x.size() + late, 0.0f);
    for (std::size_t at = 0; at < in.size(); at += block) {
        AudioBlock b{{in.data() + at, other.data()}, 1, std::min(block, in.size() - at)};
        compiled->process(b);
    }
    return {in.begin() + long(late), in.end()};
}

double levelDb(const std::vector<float>& x, double fromS, double toS)
{
    double sum = 0.0;
    const auto from = std::size_t(fromS * kRate), to = std::min(x.size(), std::size_t(toS * kRate));
    for (std::size_t i = from; i < to; ++i) sum += double(x[i]) * double(x[i]);
    return powerToDb(2.0 * sum / double(to - from)); // AES17
}

RigChain one(const char* type, const ParameterValues& values)
{
    RigNode node;
    node.type = type;
    node.values = values;
    return {node};
}

RigChain comb(double mains = kMainsHz, const char* hear = "cleaned")
{
    return one("humcomb", {{"mains", mains}, {"hear", std::string(hear)}});
}

} // namespace

/// Hum comb and hiss reduction against signals whose parts are known.
class TestClean : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;

private slots:
    void theSeriesGoes_data()
    {
        QTest::addColumn<double>("set");
        QTest::addColumn<double>("drift");
        QTest::addRow("at its frequency") << kMainsHz << 0.0;
        QTest::addRow("set 0.02 Hz off") << kMainsHz + 0.02 << 0.0;
        QTest::addRow("set 0.1 Hz off") << kMainsHz - 0.1 << 0.0;
    }
    void theSeriesGoes()
    {
        QFETCH(double, set);
        QFETCH(double, drift);
        const auto hum = series(-50.0, 12.0, drift);
        QVERIFY(std::abs(levelDb(hum, 4.0, 12.0) + 50.0) < 0.1);
        const auto out = through(comb(set), hum);
        const double left = levelDb(out, 6.0, 12.0);
        QVERIFY2(left < -95.0, qPrintable(QString::number(left)));
    }

    void aDriftingSeriesIsFollowed()
    {
        // Mains wander by some millihertz a second.
        const auto out = through(comb(), series(-50.0, 30.0, 0.002));
        const double left = levelDb(out, 10.0, 30.0);
        QVERIFY2(left < -80.0, qPrintable(QString::number(left)));
    }

    // The guitar's partials 3 Hz and more away from the series.
    void partialsStay_data()
    {
        QTest::addColumn<double>("hz");
        for (const double hz : {53.1, 97.0, 103.1, 196.0, 247.0, 253.2, 329.6, 440.0, 997.0})
            QTest::addRow("%.1f", hz) << hz;
    }
    void partialsStay()
    {
        QFETCH(double, hz);
        auto x = series(-50.0, 10.0);
        const auto note = sine(hz, 0.1, kRate, 10.0);
        std::vector<float> both = x;
        for (std::size_t i = std::size_t(1.0 * kRate); i < both.size(); ++i) both[i] += note[i];
        const auto out = through(comb(), both);
        // Amplitude over a whole number of seconds: hum harmonics that are left count too, and are far below.
        const std::vector<float> part(out.begin() + long(4.0 * kRate), out.begin() + long(9.0 * kRate));
        const double loss = amplitudeToDb(0.1 / amplitudeAt(part, hz, kRate));
        QVERIFY2(std::abs(loss) < 0.2, qPrintable(QString::number(loss)));
    }

    void removedAndCleanedAddUpToTheInput()
    {
        auto x = series(-50.0, 3.0);
        add(x, whiteNoise(0.01, x.size()));
        const auto cleaned = through(comb(), x), removed = through(comb(kMainsHz, "removed"), x);
        for (std::size_t i = 0; i < x.size(); ++i)
            QVERIFY2(std::abs(cleaned[i] + removed[i] - x[i]) < 1e-6f,
                     qPrintable(QString("%1: %2 %3 %4").arg(i).arg(cleaned[i]).arg(removed[i]).arg(x[i])));
    }

    void anyBlockSizeIsTheSame()
    {
        auto x = series(-50.0, 2.0);
        QVERIFY(through(comb(), x, 512) == through(comb(), x, 37));
    }

    void hissGoesAndTheToneStays()
    {
        const auto rest = whiteNoise(0.001, std::size_t(4.0 * kRate), 1);
        const auto profile = writeWav(dir_, "the noise.wav", {rest}, int(kRate));
        const RigChain chain = one("hiss", {{"profile", profile.string()}, {"reduce", 12.0}});
        auto x = whiteNoise(0.001, std::size_t(6.0 * kRate), 2); // another stretch of the same noise
        for (std::size_t i = std::size_t(3.0 * kRate); i < x.size(); ++i)
            x[i] += float(0.1 * std::sin(2.0 * std::numbers::pi * 440.0 * double(i) / kRate));
        const auto out = through(chain, x);
        const double before = levelDb(x, 0.5, 2.5), after = levelDb(out, 0.5, 2.5);
        QVERIFY2(before - after > 9.0 && before - after < 12.5, qPrintable(QString::number(before - after)));
        const std::vector<float> tone(out.begin() + long(4.0 * kRate), out.begin() + long(5.5 * kRate));
        QVERIFY(std::abs(amplitudeToDb(amplitudeAt(tone, 440.0, kRate) / 0.1)) < 0.1);
        // Nothing is reduced where it is told to reduce by nothing: windows add up to the input.
        const auto same = through(one("hiss", {{"profile", profile.string()}, {"reduce", 0.0}}), x);
        double worst = 0.0;
        for (std::size_t i = std::size_t(0.1 * kRate); i < x.size() - std::size_t(0.1 * kRate); ++i)
            worst = std::max(worst, double(std::abs(same[i] - x[i])));
        QVERIFY2(worst < 1e-6, qPrintable(QString::number(worst)));
    }

    void badProfilesAreNamed()
    {
        const auto compile = [](const ParameterValues& values) {
            RigDocument rig;
            rig.chain = one("hiss", values);
            CompileOptions options;
            return CompiledRig::compile(rig, options);
        };
        QVERIFY(!compile({}));
        QVERIFY(!compile({{"profile", std::string("nowhere.wav")}}));
        const auto brief = writeWav(dir_, "brief.wav", {whiteNoise(0.01, 1000)}, int(kRate));
        const auto refused = compile({{"profile", brief.string()}});
        QVERIFY(!refused && refused.error().message.find("short") != std::string::npos);
    }

    void theDamageIsMeasured()
    {
        // Two seconds of rest, then chords of partials; what is "cleaned" is turned down by a known amount.
        auto x = whiteNoise(0.0005, std::size_t(10.0 * kRate), 3);
        for (std::size_t i = std::size_t(2.0 * kRate); i < x.size(); ++i)
            for (const double hz : {110.0, 220.0, 330.0, 440.0})
                x[i] += float(0.05 * std::sin(2.0 * std::numbers::pi * hz * double(i) / kRate));
        auto y = x;
        for (std::size_t i = std::size_t(2.0 * kRate); i < y.size(); ++i)
            y[i] -=
                float(0.05 * 0.5 * std::sin(2.0 * std::numbers::pi * 330.0 * double(i) / kRate)); // half of one partial
        const auto before = writeWav(dir_, "before.wav", {x}, int(kRate)),
                   after = writeWav(dir_, "after.wav", {y}, int(kRate));
        const auto judged = judgeCleaning(before, 0, after);
        QVERIFY(bool(judged) && judged->has_value());
        const CleanJudgement& j = **judged;
        QVERIFY2(std::abs(j.worstLossDb - 6.02) < 0.1, qPrintable(QString::number(j.worstLossDb)));
        QVERIFY(std::abs(j.worstHz - 330.0) < 60.0);
        QVERIFY(std::abs(j.lossDb - powerToDb(4.0 / 3.25)) < 0.05);
        QVERIFY(j.costsMore); // no noise went
        QCOMPARE(cleanFindings(j).front().code, std::string("clean.costs_more"));
        QVERIFY(std::abs(*j.restBeforeDbfs - *j.restAfterDbfs) < 0.01);
    }

    // On a sampled guitar over hum: the hum goes, and the judgement says that it was worth it.
    void aGuitarOverHum()
    {
        std::vector<SampledNote> notes;
        for (int i = 0; i < 20; ++i) notes.push_back({3.0 + 0.4 * i, 0.35, 40 + (i * 5) % 12, 100});
        auto x = playSampled(notes, SampledGuitar::Clean, int(kRate), 12.0, 0.3);
        if (x.empty()) QSKIP("fluidsynth and a sound font are not installed");
        add(x, series(-45.0, 12.0));
        const auto in = writeWav(dir_, "hum.wav", {x}, int(kRate));
        LayerRecipe recipe;
        recipe.file = in;
        recipe.rig.chain = comb();
        recipe.tailS = 0.0;
        const auto out = std::filesystem::path(dir_.path().toStdString()) / "clean.wav";
        QVERIFY(bool(renderToFile(out, recipe, SampleFormat::Float32)));
        const auto judged = judgeCleaning(in, 0, out);
        QVERIFY(bool(judged) && judged->has_value());
        const double gained = *(*judged)->restBeforeDbfs - *(*judged)->restAfterDbfs;
        // Over all rests: the first 40 ms, before the series is known, and what the last note moved, count in.
        QVERIFY2(gained > 20.0, qPrintable(QString::number(gained)));
        QVERIFY2(!(*judged)->costsMore,
                 qPrintable(QString("%1 %2").arg((*judged)->lossDb).arg((*judged)->worstLossDb)));
        const auto m = measureFile(out, {});
        QVERIFY(!m->channels[0].noise.hum || m->channels[0].noise.hum->levelDbfs < -80.0);
    }
};

QTEST_APPLESS_MAIN(TestClean)
#include "test_clean.moc"
