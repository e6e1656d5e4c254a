// What an equaliser does is the same at each rate, up to the top of hearing, wherever its controls stand.

#include "core/rig/compiled_rig.h"
#include "core/signal/fft.h"
#include "support/chain.h"

#include <QtTest/QtTest>
#include <random>

using namespace gristle::core;

namespace {

constexpr double kTopHz = 18000.0;
constexpr double kLengthS = 0.32; // whole samples at each rate, so that all have the same frequencies

/// A node with its controls anywhere.
std::string drawn(const NodeType& type, std::mt19937& random)
{
    std::uniform_real_distribution<double> part(0.0, 1.0);
    std::string line = type.type;
    for (const ParameterSpec& p : type.parameters) {
        line += " " + p.key + "=";
        if (p.kind == ParameterKind::Choice) {
            line += p.choices[random() % p.choices.size()];
            continue;
        }
        const bool isOff = p.min == 0.0 && part(random) < 0.3; // cuts
        const double x = isOff                           ? 0.0
                         : p.scale == Scale::Logarithmic ? p.min * std::pow(p.max / p.min, part(random))
                                                         : p.min + (p.max - p.min) * part(random);
        line += valueText(x);
    }
    return line;
}

/// In dB, at multiples of 1 / kLengthS up to the top.
std::vector<double> responseOf(const std::string& line, double rate)
{
    std::vector<float> x(std::size_t(std::lround(kLengthS * rate)), 0.0f);
    x[0] = 1.0f;
    const auto y = gristle::test::throughChain(line, x, rate)[0];
    RealFft fft(x.size());
    std::ranges::copy_n(y.begin(), long(x.size()), fft.time().begin());
    fft.forward();
    std::vector<double> out;
    for (std::size_t k = std::size_t(20.0 * kLengthS) + 1; double(k) / kLengthS <= kTopHz; ++k)
        out.push_back(10.0 * std::log10(std::norm(std::complex<double>(fft.spectrum()[k])) + 1e-14));
    return out;
}

} // namespace

class TestRates : public QObject {
    Q_OBJECT
private slots:
    void equalisersAreTheSameAtEachRate_data();
    void equalisersAreTheSameAtEachRate();
    void bellsFollowTheirPrototype();
};

void TestRates::equalisersAreTheSameAtEachRate_data()
{
    QTest::addColumn<QString>("type");
    for (const char* type : {"eq", "graphic"}) QTest::newRow(type) << type;
}

// Wanted: 0.5 dB between 44.1, 48 and 96 kHz. What lies more than 40 dB under the most is not heard.
void TestRates::equalisersAreTheSameAtEachRate()
{
    QFETCH(QString, type);
    const NodeType& node = *findNodeType(type.toStdString());
    std::mt19937 random(11);
    double worst = 0.0;
    bool isOk = false;
    const int asked = qEnvironmentVariableIntValue("GRISTLE_DRAWS", &isOk), draws = isOk ? asked : 50;
    for (int draw = 0; draw < draws; ++draw) {
        const std::string line = drawn(node, random);
        const auto at96 = responseOf(line, 96000.0);
        const double most = std::ranges::max(at96);
        for (const double rate : {44100.0, 48000.0}) {
            const auto here = responseOf(line, rate);
            for (std::size_t k = 0; k < here.size(); ++k) {
                if (at96[k] < most - 40.0) continue;
                worst = std::max(worst, std::abs(here[k] - at96[k]));
                QVERIFY2(std::abs(here[k] - at96[k]) < 0.5, qPrintable(QString("%1 at %2: %3 dB off at %4 Hz")
                                                                           .arg(QString::fromStdString(line))
                                                                           .arg(rate)
                                                                           .arg(here[k] - at96[k])
                                                                           .arg(20.0 + double(k) / kLengthS)));
            }
        }
    }
    qInfo("%s: %.2f dB at worst", qPrintable(type), worst);
}

// A bell of 12 dB at 16 kHz against (s^2 + s A / Q + 1) / (s^2 + s / (A Q) + 1), not against another rate.
void TestRates::bellsFollowTheirPrototype()
{
    const double a = std::pow(10.0, 12.0 / 40.0), q = 1.2;
    const auto found = responseOf("eq hz3=16000 db3=12 q3=1.2", 48000.0);
    for (std::size_t k = 0; k < found.size(); ++k) {
        const std::complex<double> s(0.0, (double(k) + std::floor(20.0 * kLengthS) + 1.0) / kLengthS / 16000.0);
        const double wanted = 20.0 * std::log10(std::abs((s * s + s * a / q + 1.0) / (s * s + s / (a * q) + 1.0)));
        QVERIFY2(std::abs(found[k] - wanted) < 0.15, qPrintable(QString("%1: %2").arg(wanted).arg(found[k])));
    }
}

QTEST_APPLESS_MAIN(TestRates)
#include "test_rates.moc"
