#include "core/units/calibration.h"
#include "core/units/musical_time.h"
#include "core/units/no_denormals.h"
#include "core/units/number_text.h"

#include <QtTest/QtTest>

using namespace gristle::core;

class TestUnits : public QObject {
    Q_OBJECT
private slots:
    void numbersWithoutAllDigitsAreNoneForAWhile();
    void decibelsAreTwentyLg();
    void silenceHasNoLevel();
    void fullScaleInVolts_data();
    void fullScaleInVolts();
    void times_data();
    void times();
    void badTimesAreRefused_data();
    void badTimesAreRefused();
    void numbersReadBack();
};

void TestUnits::decibelsAreTwentyLg()
{
    QCOMPARE(amplitudeToDb(10.0), 20.0);
    QCOMPARE(dbToAmplitude(-20.0), 0.1);
    QVERIFY(Decibels::fromAmplitude(0.0).isSilence());
}

void TestUnits::silenceHasNoLevel()
{
    QVERIFY(!aes17Dbfs(0.0));
    QVERIFY(std::abs(*aes17Dbfs(0.5)) < 1e-12); // a full-scale sine has a mean square of 1/2
}

void TestUnits::fullScaleInVolts_data()
{
    QTest::addColumn<double>("dbu");
    QTest::addColumn<double>("volts");
    // DESIGN.md: a peak of 0.7746 sqrt(2) 10^(dBu / 20) volts.
    QTest::newRow("0 dBu") << 0.0 << 1.095450;
    QTest::newRow("12 dBu") << 12.0 << 4.361086;
    QTest::newRow("-20 dBu") << -20.0 << 0.109545;
}

void TestUnits::fullScaleInVolts()
{
    QFETCH(double, dbu);
    QFETCH(double, volts);
    QVERIFY(std::abs(Calibration{dbu, false}.fullScaleVolts() - volts) < 1e-5 * volts + 1e-6);
}

void TestUnits::times_data()
{
    QTest::addColumn<QString>("text");
    QTest::addColumn<double>("seconds"); // at 104 BPM
    QTest::newRow("ms") << "433ms" << 0.433;
    QTest::newRow("s") << "0.433s" << 0.433;
    QTest::newRow("quarter") << "1/4" << 60.0 / 104.0;
    QTest::newRow("dotted eighth") << "1/8d" << 0.75 * 60.0 / 104.0;
    QTest::newRow("eighth triplet") << "1/8t" << 60.0 / 104.0 / 3.0;
    QTest::newRow("sixteenth") << "1/16" << 15.0 / 104.0;
}

void TestUnits::times()
{
    QFETCH(QString, text);
    QFETCH(double, seconds);
    const auto time = MusicalTime::parse(text.toStdString());
    QVERIFY(bool(time));
    QVERIFY(std::abs(time->seconds(104.0) - seconds) < 1e-12);
}

void TestUnits::badTimesAreRefused_data()
{
    QTest::addColumn<QString>("text");
    for (const char* text : {"", "ms", "12", "-3ms", "1/", "1/0", "x/4", "1/8x", "nan s", "0ms"})
        QTest::newRow(text) << text;
}

void TestUnits::badTimesAreRefused()
{
    QFETCH(QString, text);
    const auto time = MusicalTime::parse(text.toStdString());
    QVERIFY(!time);
    QCOMPARE(time.error().code, ErrorCode::Usage);
}

void TestUnits::numbersReadBack()
{
    for (const double v : {0.1, -1e-9, 1e300, 12345.678901234567, 0.0}) QCOMPARE(*parseNumber(numberText(v)), v);
    QVERIFY(!parseNumber("nan"));
    QVERIFY(!parseNumber("1,5"));
    QCOMPARE(*parseNumber("+3"), 3.0);
}

void TestUnits::numbersWithoutAllDigitsAreNoneForAWhile()
{
    volatile float small = 1e-30f, smaller = 1e-10f;
    {
        const NoDenormals scope;
#if defined(__x86_64__)
        QVERIFY(small * smaller == 0.0f);
#endif
        QVERIFY(small * 1e-5f > 0.0f);
    }
    QVERIFY(small * smaller > 0.0f);
}

QTEST_APPLESS_MAIN(TestUnits)
#include "test_units.moc"
