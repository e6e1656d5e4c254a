#include "core/measure/stereo_measure.h"
#include "core/stereo/pan_law.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;

namespace {

StereoResult measured(const std::vector<float>& l, const std::vector<float>& r)
{
    StereoMeter meter(48000.0);
    for (std::size_t at = 0; at < l.size(); at += 5000) {
        const std::size_t n = std::min<std::size_t>(5000, l.size() - at);
        meter.push(std::span(l).subspan(at, n), std::span(r).subspan(at, n));
    }
    return meter.result();
}

} // namespace

class TestStereo : public QObject {
    Q_OBJECT
private slots:
    void alike();
    void unrelated();
    void turnedOver();
    void oneSideSilent();
    void balanceIsRightMinusLeft();
    void combNotchByBand();
    void laws_data();
    void laws();
    void stereoKeepsItsPicture();
};

void TestStereo::alike()
{
    const auto x = test::whiteNoise(0.1, 48000 * 4);
    const auto s = measured(x, x);
    QVERIFY(std::abs(*s.correlation - 1.0) < 1e-9 && std::abs(*s.monoLossDb + 3.0103) < 1e-3 && *s.width < 1e-9);
    for (const auto& b : s.bands) QVERIFY(std::abs(*b.monoLossDb + 3.0103) < 1e-3);
    QCOMPARE(s.bands.size(), std::size_t(30)); // 25 Hz to 20 kHz
}

void TestStereo::unrelated()
{
    const auto s = measured(test::whiteNoise(0.1, 48000 * 20, 1), test::whiteNoise(0.1, 48000 * 20, 2));
    // One over the square root of a million samples: 0.001; four times that.
    QVERIFY(std::abs(*s.correlation) < 0.004 && std::abs(*s.monoLossDb) < 0.02 && std::abs(*s.width - 0.5) < 0.002);
}

void TestStereo::turnedOver()
{
    const auto x = test::whiteNoise(0.1, 48000 * 2);
    auto y = x;
    for (float& v : y) v = -v;
    const auto s = measured(x, y);
    QVERIFY(*s.correlation < -0.9999 && *s.width > 0.9999);
    QVERIFY(!s.monoLossDb); // nothing is left
}

void TestStereo::oneSideSilent()
{
    const auto s = measured(test::whiteNoise(0.1, 48000), std::vector<float>(48000, 0.0f));
    QVERIFY(!s.correlation && !s.balanceDb);
    QVERIFY(std::abs(*s.monoLossDb) < 1e-9 && std::abs(*s.width - 0.5) < 1e-9);
}

void TestStereo::balanceIsRightMinusLeft()
{
    const auto x = test::whiteNoise(0.1, 48000 * 3);
    auto y = x;
    for (float& v : y) v *= 0.5f;
    QVERIFY(std::abs(*measured(x, y).balanceDb + 6.0206) < 0.001);
}

void TestStereo::combNotchByBand()
{
    // A delay of d makes 2 + 2 cos(2 pi f d) of the power: over a third octave in closed form.
    const std::size_t delay = 24; // 0.5 ms: first notch at 1 kHz
    const auto x = test::whiteNoise(0.1, 48000 * 30);
    std::vector<float> y(x.size(), 0.0f);
    std::copy(x.begin(), x.end() - long(delay), y.begin() + long(delay));
    const auto s = measured(x, y);
    for (const auto& b : s.bands) {
        if (b.hz < 200.0 || b.hz > 5000.0) continue;
        const double exact = 1000.0 * std::pow(10.0, std::round(10.0 * std::log10(b.hz / 1000.0)) / 10.0);
        const double f1 = exact * std::pow(10.0, -0.05), f2 = exact * std::pow(10.0, 0.05),
                     w = 2.0 * std::numbers::pi * double(delay) / 48000.0;
        const double mean = (std::sin(w * f2) - std::sin(w * f1)) / (w * (f2 - f1));
        const double expected = -10.0 * std::log10(1.0 + mean);
        QVERIFY2(std::abs(*b.monoLossDb - expected) < 0.3,
                 qPrintable(QStringLiteral("%1 Hz: %2, %3").arg(b.hz).arg(*b.monoLossDb).arg(expected)));
    }
}

void TestStereo::laws_data()
{
    QTest::addColumn<QString>("name");
    QTest::addColumn<double>("centre");
    QTest::newRow("3") << "3" << -3.0103;
    QTest::newRow("4.5") << "4.5" << -4.5154;
    QTest::newRow("6") << "6" << -6.0206;
}

void TestStereo::laws()
{
    QFETCH(QString, name);
    QFETCH(double, centre);
    const PanLaw law = *parsePanLaw(name.toStdString());
    const auto c = panMono(0.0, law);
    QVERIFY(std::abs(20.0 * std::log10(c.left) - centre) < 1e-3 && std::abs(c.left - c.right) < 1e-12);
    QCOMPARE(panMono(-100.0, law).left, 1.0);
    QCOMPARE(panMono(-100.0, law).right, 0.0);
    QCOMPARE(panMono(100.0, law).left, 0.0);
    for (double p = -100.0; p <= 100.0; p += 7.0) {
        const auto g = panMono(p, law), mirrored = panMono(-p, law);
        QVERIFY(std::abs(g.left - mirrored.right) < 1e-12);
        if (law == PanLaw::Minus3)
            QVERIFY(std::abs(g.left * g.left + g.right * g.right - 1.0) < 1e-12);     // constant power
        if (law == PanLaw::Minus6) QVERIFY(std::abs(g.left + g.right - 1.0) < 1e-12); // constant voltage
    }
}

void TestStereo::stereoKeepsItsPicture()
{
    QCOMPARE(panStereo(0.0, PanLaw::Minus3).left, 1.0);
    QCOMPARE(panStereo(0.0, PanLaw::Minus3).right, 1.0);
    QCOMPARE(panStereo(-100.0, PanLaw::Minus3).right, 0.0);
    QCOMPARE(panStereo(-100.0, PanLaw::Minus3).left, 1.0);
}

QTEST_APPLESS_MAIN(TestStereo)
#include "test_stereo.moc"
