#include "core/signal/fft.h"
#include "support/rig_run.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <cmath>
#include <numbers>

using namespace gristle;

namespace {

/// Both sides of what an impulse leaves, at 48 kHz or another rate.
std::vector<std::vector<float>> responseOf(const QString& line, double seconds, double rate = 48000.0)
{
    std::vector<float> x(std::size_t(seconds * rate), 0.0f);
    x[0] = 1.0f;
    return test::run(line.toStdString(), x, rate);
}
QString openReverb(const QString& kind, double decay)
{
    return QString("reverb kind=%1 decay=%2 high=1 mix=1 pre=0 low_cut=20 high_cut=20000").arg(kind).arg(decay);
}

/// Powers of a stretch's bins, a Hann window over it, the decay of 60 dB in `decayS` taken out.
std::vector<double> powersOf(std::span<const float> x, double rate, double decayS)
{
    core::RealFft fft(core::fastFftSize(x.size()));
    std::ranges::fill(fft.time(), 0.0f);
    for (std::size_t i = 0; i < x.size(); ++i)
        fft.time()[i] = float(double(x[i]) * std::pow(10.0, 3.0 * double(i) / rate / decayS) *
                              (0.5 - 0.5 * std::cos(2.0 * std::numbers::pi * double(i) / double(x.size()))));
    fft.forward();
    std::vector<double> out;
    for (const auto& bin : fft.spectrum()) out.push_back(double(std::norm(bin)));
    return out;
}

/// Geometric over arithmetic mean of the powers from 0.5 to 2.5 kHz; of Gaussian noise exp(-0.5772) = 0.56.
double flatness(const std::vector<double>& powers, double rate)
{
    const auto binOf = [&](double hz) { return std::size_t(hz * 2.0 * double(powers.size() - 1) / rate); };
    double logs = 0.0, sum = 0.0;
    for (std::size_t k = binOf(500.0); k < binOf(2500.0); ++k) logs += std::log(powers[k] + 1e-40), sum += powers[k];
    const auto n = double(binOf(2500.0) - binOf(500.0));
    return std::exp(logs / n) / (sum / n);
}

/// How many of the samples within 10 ms of a place stand over their standard deviation, 1 as many as of Gaussian noise.
/// Source: Abel and Huang 2006, A simple, robust measure of reverberation echo density.
double echoDensity(std::span<const float> x, double rate, double atS)
{
    const auto from = std::size_t(std::max(0.0, atS - 0.01) * rate), to = std::size_t((atS + 0.01) * rate);
    double squares = 0.0;
    for (std::size_t i = from; i < to; ++i) squares += double(x[i]) * double(x[i]);
    const double sd = std::sqrt(squares / double(to - from));
    double over = 0.0;
    for (std::size_t i = from; i < to; ++i) over += std::abs(double(x[i])) > sd;
    return over / double(to - from) / std::erfc(1.0 / std::numbers::sqrt2);
}

} // namespace

/// Tails of the reverb against the statistics of noise.
class TestReverb : public QObject {
    Q_OBJECT
private slots:
    void tailIsAsEvenAsNoise_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<double>("decay");
        for (const char* kind : {"room", "hall", "plate"})
            for (const double s : {0.5, 1.2, 4.0, 12.0})
                QTest::newRow(qPrintable(QString("%1, %2 s").arg(kind).arg(s))) << QString(kind) << s;
    }
    // Wanted: 80 % of noise's flatness, a second of the tail from 0.3 of the decay on.
    void tailIsAsEvenAsNoise()
    {
        QFETCH(QString, kind);
        QFETCH(double, decay);
        const auto y = responseOf(openReverb(kind, decay), 0.3 * decay + 1.2);
        for (const auto& side : y) {
            const auto tail = std::span(side).subspan(std::size_t(0.3 * decay * 48000.0), 48000);
            const double flat = flatness(powersOf(tail, 48000.0, decay), 48000.0);
            QVERIFY2(flat > 0.45, qPrintable(QString::number(flat)));
        }
    }
    void plateIsDenseFromTheFirstMoment()
    {
        for (const double decay : {0.1, 0.5, 4.0, 12.0})
            for (const auto& side : responseOf(openReverb("plate", decay), 0.2)) {
                const double dense = echoDensity(side, 48000.0, 0.010);
                QVERIFY2(dense > 0.9, qPrintable(QString::number(dense)));
            }
    }
    void preIsBeforeTheFirstOfIt()
    {
        for (const char* kind : {"room", "hall", "plate"})
            for (const int pre : {0, 40, 250}) {
                const auto y =
                    responseOf(QString("reverb kind=%1 mix=1 high_cut=20000 pre=%2").arg(kind).arg(pre), 1.0);
                for (const auto& side : y) {
                    const auto first = std::ranges::find_if(side, [](float v) { return std::abs(v) > 1e-4f; });
                    QCOMPARE(std::size_t(first - side.begin()), std::size_t(48 * pre));
                }
            }
    }
    // Wanted: thirds of octaves within 1 dB between rates.
    void isTheSameAtEachRate()
    {
        const auto thirds = [](double rate) {
            const auto y = responseOf(openReverb("room", 1.2), 3.0, rate)[0];
            core::RealFft fft(core::fastFftSize(y.size()));
            std::ranges::fill(fft.time(), 0.0f);
            std::ranges::copy(y, fft.time().begin());
            fft.forward();
            std::vector<double> out;
            for (double hz = 100.0; hz < 8000.0; hz *= std::cbrt(2.0)) {
                double sum = 0.0;
                const double perHz = double(fft.size()) / rate;
                for (auto k = std::size_t(hz * perHz); k < std::size_t(hz * std::cbrt(2.0) * perHz); ++k)
                    sum += double(std::norm(fft.spectrum()[k]));
                out.push_back(10.0 * std::log10(sum / perHz));
            }
            return out;
        };
        const auto at48 = thirds(48000.0);
        for (const double rate : {44100.0, 96000.0}) {
            const auto there = thirds(rate);
            for (std::size_t i = 0; i < at48.size(); ++i)
                QVERIFY2(std::abs(there[i] - at48[i]) < 1.2,
                         qPrintable(QString("third %1: %2 dB").arg(i).arg(there[i] - at48[i])));
        }
    }
    // What stands in opposite phase on both sides has as much of it as what stands in the middle.
    void oppositeSidesHaveIt()
    {
        const auto noise = test::whiteNoise(0.1, 96000, 5);
        const auto wet = [&](double right) {
            core::RigDocument rig;
            rig.chain = core::parseRecallLine("reverb mix=1").value();
            core::CompileOptions options;
            options.channels = 2;
            auto compiled = core::CompiledRig::compile(rig, options).value();
            auto l = noise, r = noise;
            for (float& v : r) v *= float(right);
            for (std::size_t at = 0; at < l.size(); at += 500) {
                core::AudioBlock block{{l.data() + at, r.data() + at}, 2, 500};
                compiled.process(block);
            }
            double sum = 0.0;
            for (std::size_t i = 48000; i < l.size(); ++i)
                sum += double(l[i]) * double(l[i]) + double(r[i]) * double(r[i]);
            return 10.0 * std::log10(sum);
        };
        QVERIFY2(std::abs(wet(-1.0) - wet(1.0)) < 1.0, qPrintable(QString::number(wet(-1.0) - wet(1.0))));
    }
    void mixingKeepsTheLoudness()
    {
        const auto x = test::whiteNoise(0.1, 240000, 7);
        const auto loudness = [&](const char* line) {
            const auto y = test::run(line, x);
            double sum = 0.0;
            for (std::size_t i = 96000; i < x.size(); ++i) sum += double(y[0][i]) * double(y[0][i]);
            return 10.0 * std::log10(sum);
        };
        const double dry = loudness("gain");
        for (const char* mix : {"0.05", "0.2", "0.5"}) {
            const double by =
                loudness(qPrintable(QString("reverb mix=%1 low_cut=20 high_cut=20000 high=1").arg(mix))) - dry;
            QVERIFY2(std::abs(by) < 0.5, qPrintable(QString("%1: %2 dB").arg(mix).arg(by)));
        }
    }
};

QTEST_APPLESS_MAIN(TestReverb)
#include "test_reverb.moc"
