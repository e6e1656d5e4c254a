#include "core/impulse/impulse_info.h"
#include "core/impulse/placement.h"
#include "core/timing/alignment.h"

#include <QtTest/QtTest>
#include <algorithm>
#include <numbers>

using namespace gristle::core;

namespace {

using Complex = std::complex<double>;
constexpr double kPi = std::numbers::pi;
constexpr int kRate = 48000;
const Room kNoRoom{.floorM = 0.0, .wallM = 0.0, .reverberationS = 0.0};

/// A piston in an endless baffle.
Cabinet piston(double radius)
{
    Cabinet out;
    out.cone.radiusM = radius, out.cone.breakUpHz = 0.0;
    out.widthM = 0.0;
    return out;
}

double db(Complex z) { return 20.0 * std::log10(std::abs(z)); }
double waveNumber(double hz) { return 2.0 * kPi * hz / kSpeedOfSound; }
std::span<const float> taps(const Recording& r) { return r.audio.channel(0); }

/// Where the first sample passes a thousandth of the highest: nothing may come earlier than sound can.
double firstSound(const Recording& r)
{
    const auto x = taps(r);
    const float peak = std::abs(*std::ranges::max_element(x, {}, [](float v) { return std::abs(v); }));
    return double(std::ranges::find_if(x, [&](float v) { return std::abs(v) > 0.003f * peak; }) - x.begin());
}

double powerDb(std::span<const float> x)
{
    double sum = 0.0;
    for (const float v : x) sum += double(v) * double(v);
    return 10.0 * std::log10(sum);
}

} // namespace

class TestCabinet : public QObject {
    Q_OBJECT

private slots:
    /// Far away a piston falls to the side by 2 J1(x) / x, x = ka sin(theta).
    void pistonToTheSide_data()
    {
        QTest::addColumn<double>("radius");
        QTest::addColumn<double>("hz");
        for (const double radius : {0.05, 0.13})
            for (const double hz : {200.0, 1000.0, 3000.0, 6000.0, 12000.0})
                QTest::addRow("%g m, %g Hz", radius, hz) << radius << hz;
    }
    void pistonToTheSide()
    {
        QFETCH(double, radius);
        QFETCH(double, hz);
        const SoundField field(piston(radius), kNoRoom, hz);
        constexpr double kFar = 60.0;
        const Complex ahead = field.at({0, 0, kFar});
        for (double degrees = 0.0; degrees <= 80.0; degrees += 5.0) {
            const double s = std::sin(degrees * kPi / 180.0), x = waveNumber(hz) * radius * s;
            const double expected = x < 1e-9 ? 1.0 : std::abs(2.0 * std::cyl_bessel_j(1.0, x) / x);
            if (expected < 0.05) continue; // beside a dip, where a decibel is nothing
            const Complex aside = field.at({kFar * s, 0, kFar * std::sqrt(1.0 - s * s)});
            const double off = db(aside / ahead) - 20.0 * std::log10(expected);
            QVERIFY2(std::abs(off) < 0.1, qPrintable(QString("%1 degrees: %2 dB off").arg(degrees).arg(off)));
        }
    }

    /// On its axis at any distance: the difference of two waves, from the middle and from the rim.
    void pistonOnItsAxis()
    {
        for (const double z : {0.005, 0.03, 0.2, 1.0, 5.0})
            for (const double hz : {50.0, 500.0, 2000.0, 9000.0, 18000.0}) {
                constexpr double b = 0.13;
                const double k = waveNumber(hz);
                const Complex expected =
                    (std::polar(1.0, -k * z) - std::polar(1.0, -k * std::hypot(z, b))) / Complex(0.0, k);
                const Complex found = discPressure(b, 0.0, z, k);
                QVERIFY2(std::abs(found - expected) < 1e-6 * std::abs(expected) + 1e-12,
                         qPrintable(QString("%1 m %2 Hz").arg(z).arg(hz)));
            }
    }

    /// Off its axis, near the cone, against the double integral over its surface (Rayleigh).
    void pistonNearby()
    {
        for (const double r : {0.04, 0.12, 0.13, 0.14, 0.3})
            for (const double hz : {300.0, 3000.0, 10000.0}) {
                constexpr double b = 0.13, z = 0.03;
                const double k = waveNumber(hz);
                Complex expected = 0.0;
                constexpr int kAcross = 400, kAround = 720;
                for (int i = 0; i < kAcross; ++i)
                    for (int j = 0; j < kAround; ++j) {
                        const double at = b * (i + 0.5) / kAcross, phi = 2.0 * kPi * (j + 0.5) / kAround;
                        const double away = std::sqrt(z * z + r * r + at * at - 2.0 * r * at * std::cos(phi));
                        expected += std::polar(1.0, -k * away) / away * at;
                    }
                expected *= b / kAcross * 2.0 * kPi / kAround / (2.0 * kPi);
                const Complex found = discPressure(b, r, z, k);
                QVERIFY2(std::abs(found - expected) < 0.003 * std::abs(expected),
                         qPrintable(QString("%1 m %2 Hz: %3").arg(r).arg(hz).arg(std::abs(found / expected - 1.0))));
            }
    }

    /// Near a small source a gradient rises by |1 + 1 / (jkr)|; patterns by their formula.
    void proximityAndPatterns()
    {
        Microphone m;
        for (const double share : {0.0, 0.25, 0.5, 1.0})
            for (const double r : {0.03, 0.1, 0.5})
                for (const double hz : {50.0, 100.0, 400.0, 2000.0, 8000.0}) {
                    m.pressureShare = share;
                    const double k = waveNumber(hz);
                    const auto sphere = [&](const Place& p) {
                        const double away = std::sqrt(p.x * p.x + p.y * p.y + p.z * p.z);
                        return std::polar(r / away, -k * (away - r));
                    };
                    const Complex found = received(m, sphere, {0, 0, r}, {0, 0, -1}, k);
                    const Complex expected = share + (1.0 - share) * (1.0 + 1.0 / Complex(0.0, k * r));
                    QVERIFY2(
                        std::abs(db(found / expected)) < 0.02,
                        qPrintable(QString("%1 %2 m %3 Hz: %4").arg(share).arg(r).arg(hz).arg(db(found / expected))));
                    // A plane wave under 60 degrees.
                    const auto plane = [&](const Place& p) { return std::polar(1.0, k * p.z); };
                    const double c = 0.5;
                    const Complex turned = received(m, plane, {}, {-std::sqrt(1.0 - c * c), 0, c}, k);
                    QVERIFY(std::abs(std::abs(turned) - (share + (1.0 - share) * c)) < 0.001);
                }
    }

    /// Nothing arrives before sound can, and two distances lie apart by geometry, to a sample.
    void arrivalByGeometry_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<double>("near");
        QTest::addColumn<double>("far");
        QTest::newRow("ribbon") << "ribbon" << 0.2 << 0.8;
        QTest::newRow("coil") << "coil-presence" << 0.3 << 1.5;
        QTest::newRow("all around") << "pressure" << 0.4 << 2.0;
        QTest::newRow("behind") << "ribbon" << -0.4 << -1.2;
    }
    void arrivalByGeometry()
    {
        QFETCH(QString, kind);
        QFETCH(double, near);
        QFETCH(double, far);
        Setting setting{cabinetOf("one-open").value(), kNoRoom};
        PlacedMicrophone a{kind.toStdString(), {near, 0.0, 0.0}}, b{kind.toStdString(), {far, 0.0, 0.0}};
        const auto first = placementImpulse(setting, a, kRate, 0.1).value(),
                   second = placementImpulse(setting, b, kRate, 0.1).value();
        const double expected = (std::abs(far) - std::abs(near)) / kSpeedOfSound * kRate;
        const double apart = firstSound(second) - firstSound(first);
        QVERIFY2(std::abs(apart - expected) <= 1.0, qPrintable(QString("%1 for %2").arg(apart).arg(expected)));
        QVERIFY2(firstSound(first) >= travelM(setting, a.place) / kSpeedOfSound * kRate - 2.0,
                 qPrintable(QString::number(firstSound(first))));
        QVERIFY2(firstSound(first) <= travelM(setting, a.place) / kSpeedOfSound * kRate + 6.0,
                 qPrintable(QString::number(firstSound(first))));
    }

    /// Behind an open back sound is late, dull and inverted.
    void behindAnOpenBack()
    {
        Setting setting{cabinetOf("one-open").value(), kNoRoom};
        const PlacedMicrophone front{"pressure", {0.3, 0.0, 0.0}}, rear{"pressure", {-0.3, 0.0, 0.0}};
        const auto a = placementImpulse(setting, front, kRate, 0.1).value(),
                   b = placementImpulse(setting, rear, kRate, 0.1).value();
        const auto low = [&](const MicrophonePlace& p, double hz) {
            return responseAt(setting, microphoneOf("pressure").value(), p, hz);
        };
        // Inverted at low frequency, where both stand in the near field of their side.
        const Complex ratio = low({-0.1, 0, 0}, 80.0) / low({0.1, 0, 0}, 80.0);
        QVERIFY2(ratio.real() < 0.0 && std::abs(ratio.imag()) < std::abs(ratio.real()),
                 qPrintable(QString("%1 %2").arg(ratio.real()).arg(ratio.imag())));
        QVERIFY(firstSound(b) > firstSound(a));
        QVERIFY(db(low(rear.place, 6000.0) / low(front.place, 6000.0)) < -9.0);
        // Far away to the front, closed goes on where open cancels: 6 dB an octave between them.
        Cabinet closed = setting.cabinet;
        closed.isOpenBack = false;
        const auto lost = [&](double hz) {
            return db(SoundField(setting.cabinet, kNoRoom, hz).at({0, 0, 8.0}) /
                      SoundField(closed, kNoRoom, hz).at({0, 0, 8.0}));
        };
        const double slope = lost(50.0) - lost(25.0);
        QVERIFY2(std::abs(slope - 6.0) < 0.7, qPrintable(QString::number(slope)));
    }

    /// A closed box: at high frequency as in an endless baffle, at low frequency 6 dB less, and as loud behind as
    /// before.
    void aroundTheBox()
    {
        Cabinet box = cabinetOf("one-closed").value(), endless = box;
        endless.widthM = 0.0;
        const auto step = [&](double hz) {
            return db(SoundField(box, kNoRoom, hz).at({0, 0, 10.0}) /
                      SoundField(endless, kNoRoom, hz).at({0, 0, 10.0}));
        };
        QVERIFY2(std::abs(step(25.0) + 6.02) < 0.3, qPrintable(QString::number(step(25.0))));
        double high = 0.0; // what little comes from the edges adds here and takes away there
        for (double hz = 5000.0; hz < 7000.0; hz += 100.0) high += step(hz) / 20.0;
        QVERIFY2(std::abs(high) < 0.2, qPrintable(QString::number(high)));
        const SoundField low(box, kNoRoom, 25.0);
        QVERIFY(std::abs(db(low.at({0, 0, 10.0}) / low.at({0, 0, -10.0}))) < 0.7);
        const SoundField at4k(box, kNoRoom, 4000.0);
        QVERIFY(db(at4k.at({0, 0, -3.0}) / at4k.at({0, 0, 3.0})) < -20.0);
    }

    /// The radiating part shrinks: above break-up a soft cone beams less than a rigid one.
    void breakUpWidens()
    {
        Cabinet soft = cabinetOf("one-closed").value(), rigid = soft;
        rigid.cone.breakUpHz = 0.0;
        const auto beam = [&](const Cabinet& c, double hz) {
            const SoundField field(c, kNoRoom, hz);
            double aside = 0.0, ahead = std::norm(field.at({0, 0, 3.0}));
            for (double degrees = 30.0; degrees <= 60.0; degrees += 3.0) {
                const double t = degrees * kPi / 180.0;
                aside += std::norm(field.at({3.0 * std::sin(t), 0, 3.0 * std::cos(t)})) / 11.0;
            }
            return 10.0 * std::log10(aside / ahead);
        };
        QVERIFY(beam(soft, 5000.0) > beam(rigid, 5000.0) + 6.0);
        QVERIFY(std::abs(beam(soft, 200.0) - beam(rigid, 200.0)) < 0.3);
    }

    /// Dips by the floor where its way is longer by odd halves of a wave.
    void floorCombs()
    {
        Setting setting{piston(0.02), kNoRoom};
        setting.room.floorM = 0.5, setting.room.floorReturns = 1.0;
        const double straight = 1.0, over = std::hypot(1.0, 1.0);
        const auto at = [&](double hz) {
            return db(responseAt(setting, microphoneOf("pressure").value(), {straight, 0, 0}, hz) /
                      responseAt({piston(0.02), kNoRoom}, microphoneOf("pressure").value(), {straight, 0, 0}, hz));
        };
        for (const int n : {0, 1, 2}) {
            const double dip = (n + 0.5) * kSpeedOfSound / (over - straight);
            double lowest = 0.0, least = 99.0;
            for (double hz = 0.8 * dip; hz < 1.2 * dip; hz *= 1.002)
                if (at(hz) < least) least = at(hz), lowest = hz;
            // The floor itself is a first-order low pass of 6 kHz, late by 27 us.
            const double late = kSpeedOfSound / (2.0 * kPi * 6000.0);
            const double expected = (n + 0.5) * kSpeedOfSound / (over - straight + late);
            QVERIFY2(std::abs(lowest / expected - 1.0) < 0.02, qPrintable(QString("%1 %2").arg(lowest).arg(expected)));
            QVERIFY(least < -8.0);
        }
    }

    /// Reverberation falls by 60 dB in its time, and is as strong as Sabine's formula says.
    void reverberation()
    {
        Setting setting{piston(0.003), kNoRoom};
        setting.room.reverberationS = 0.5, setting.room.volumeM3 = 60.0;
        PlacedMicrophone m{"pressure", {1.0, 0.0, 0.0}};
        const auto wet = placementImpulse(setting, m, kRate, 1.5).value();
        setting.room.reverberationS = 0.0;
        const auto dry = placementImpulse(setting, m, kRate, 1.5).value();
        std::vector<float> tail(taps(wet).begin(), taps(wet).end());
        for (std::size_t i = 0; i < tail.size(); ++i) tail[i] -= taps(dry)[i];
        const std::span<const float> x(tail);
        const double fall = powerDb(x.subspan(4800, 4800)) - powerDb(x.subspan(4800 + 9600, 4800));
        QVERIFY2(std::abs(fall - 24.0) < 1.0, qPrintable(QString::number(fall))); // 0.2 s of 0.5 s
        // Half of all directions, as the baffle has no end: 8 pi / A.
        const double expected = 10.0 * std::log10(8.0 * kPi * 0.5 / (0.161 * 60.0));
        const double ratio = powerDb(x) - powerDb(taps(dry));
        QVERIFY2(std::abs(ratio - expected) < 1.0, qPrintable(QString("%1 for %2").arg(ratio).arg(expected)));
    }

    /// The map's row at the chosen place is that place's response; others are those of theirs.
    void mapIsTheModel()
    {
        const Setting setting{cabinetOf("one-closed").value(), Room{}};
        const PlacedMicrophone m{"coil-presence", {0.03, 0.02, 0.0}};
        const auto map = placementMap(setting, m, MapLine::Offset, 0.0, 0.12, 7, 30).value();
        QCOMPARE(map.db.size(), std::size_t(7 * 30));
        const auto at = [&](double offset, double hz) {
            return db(responseAt(setting, microphoneOf(m.kind).value(), {0.03, offset, 0.0}, hz));
        };
        for (std::size_t i = 0; i < 7; ++i) {
            const double first = at(map.positions[i], map.hz[4]) - double(map.db[i * 30 + 4]);
            for (const std::size_t b : {3u, 12u, 25u})
                QVERIFY(std::abs(at(map.positions[i], map.hz[b]) - double(map.db[i * 30 + b]) - first) < 0.01);
            // As loud everywhere: by thirds of an octave from 200 Hz to 2 kHz.
            double sum = 0.0;
            int count = 0;
            for (double hz = 200.0; hz <= 2000.0; hz *= std::exp2(1.0 / 3.0), ++count)
                sum += std::pow(10.0, at(map.positions[i], hz) / 10.0);
            QVERIFY(std::abs(10.0 * std::log10(sum / count) - first) < 0.01);
        }
        // Towards the rim the top goes: the reason why anybody moves it.
        const auto top = [&](std::size_t row) { return map.db[row * 30 + 26] - map.db[row * 30 + 10]; };
        QVERIFY2(top(0) > top(6) + 3.0, qPrintable(QString("%1 %2").arg(top(0)).arg(top(6))));
    }

    /// Two small sources, microphones that hear all around: three times as far is a third.
    void threeToOne()
    {
        const Setting setting{piston(0.01), kNoRoom};
        const PlacedMicrophone m{"pressure", {0.2, 0.0, 0.0}};
        const double apart = std::sqrt(9.0 * 0.04 - 0.04);
        const auto s = spillBetween(setting, m, apart);
        QVERIFY2(std::abs(s.ratio - 3.0) < 1e-6, qPrintable(QString::number(s.ratio)));
        QVERIFY2(std::abs(s.spillDb + 9.54) < 0.2, qPrintable(QString::number(s.spillDb)));
        QVERIFY(std::abs(s.ruleDb - s.spillDb) < 1e-6);
        QVERIFY2(std::abs(s.neededM - apart) < 0.02, qPrintable(QString::number(s.neededM)));
        QVERIFY(std::abs(s.rippleDb - 20.0 * std::log10(4.0 / 2.0)) < 0.3);
        // One that looks away from the other hears less of it.
        const auto less = spillBetween(setting, {"coil-level", {0.2, 0.0, 0.0}}, apart);
        QVERIFY(less.spillDb < s.spillDb - 2.0);
    }

    /// A small flat source of 98 dB at 1 m with 1 W, by the table of A weights in IEC 61672-1; half as far 6 dB more,
    /// ten times the watts 10 dB more.
    void soundPressureByTheTable()
    {
        Setting setting{piston(0.005), kNoRoom};
        setting.cabinet.cone.resonanceHz = 5.0, setting.cabinet.cone.resonanceQ = 0.7;
        const double weights[] = {-22.5, -19.1, -16.1, -13.4, -10.9, -8.6, -6.6, -4.8, -3.2, -1.9,
                                  -0.8,  0.0,   0.6,   1.0,   1.2,   1.3,  1.2,  1.0,  0.5,  -0.1}; // 80 Hz to 6.3 kHz
        double mean = 0.0;
        for (const double w : weights) mean += std::pow(10.0, w / 10.0) / std::size(weights);
        const double expected = 98.0 + 10.0 * std::log10(mean), found = soundPressureDb(setting, {1.0, 0.0, 0.0}, 1.0);
        QVERIFY2(std::abs(found - expected) < 0.3, qPrintable(QString("%1 for %2").arg(found).arg(expected)));
        QVERIFY(std::abs(soundPressureDb(setting, {0.5, 0.0, 0.0}, 1.0) - found - 6.02) < 0.05);
        QVERIFY(std::abs(soundPressureDb(setting, {1.0, 0.0, 0.0}, 10.0) - found - 10.0) < 1e-9);
    }

    /// Polarity, gain and delay of a row are what they say.
    void rowsOfATable()
    {
        const Setting setting{cabinetOf("four-closed").value(), Room{}};
        PlacedMicrophone m{"coil-level", {0.05, 0.03, 10.0}};
        const auto plain = placementImpulse(setting, m, kRate, 0.1).value();
        m.invert = true, m.gainDb = -6.0206, m.delayMs = 1.0;
        const auto moved = placementImpulse(setting, m, kRate, 0.1).value();
        double off = 0.0, all = 0.0;
        for (std::size_t i = 48; i < 2400; ++i) {
            off += std::pow(taps(moved)[i] + 0.5 * taps(plain)[i - 48], 2.0);
            all += std::pow(0.5 * taps(plain)[i - 48], 2.0);
        }
        QVERIFY2(off < 1e-6 * all, qPrintable(QString::number(off / all)));
    }

    /// What those who place microphones agree on, at each cabinet, for each microphone that hears a gradient, close up.
    void whatIsAgreedOn_data()
    {
        QTest::addColumn<QString>("cabinet");
        QTest::addColumn<QString>("kind");
        QTest::addColumn<double>("near");
        for (const CabinetKind& c : cabinetKinds())
            for (const Microphone& m : microphoneKinds())
                for (const double near : {0.015, 0.025, 0.04})
                    if (m.pressureShare < 1.0)
                        QTest::addRow("%s, %s, %g cm", c.key.c_str(), m.key.c_str(), 100.0 * near)
                            << QString::fromStdString(c.key) << QString::fromStdString(m.key) << near;
    }
    void whatIsAgreedOn()
    {
        QFETCH(QString, cabinet);
        QFETCH(QString, kind);
        QFETCH(double, near);
        const Setting setting{cabinetOf(cabinet.toStdString()).value(), kNoRoom};
        const Microphone m = microphoneOf(kind.toStdString()).value();
        const auto level = [&](const MicrophonePlace& place, double fromHz, double toHz) {
            double sum = 0.0;
            int count = 0;
            for (double hz = fromHz; hz <= toHz; hz *= 1.06, ++count)
                sum += std::norm(responseAt(setting, m, place, hz));
            return 10.0 * std::log10(sum / count);
        };
        const auto presence = [&](const MicrophonePlace& place) { return level(place, 2500.0, 5000.0); };
        const auto bright = [&](const MicrophonePlace& place) { // against the low middle
            return level(place, 2500.0, 10000.0) - level(place, 200.0, 600.0);
        };
        const auto inside = [](double value, double low, double high, const char* what) {
            const bool good = value >= low && value <= high;
            return good ? true : (qWarning("%s: %.2f dB", what, value), false);
        };
        const double edge = setting.cabinet.cone.radiusM;
        for (const double aside : {0.03, 0.05, 0.06, 0.08, edge - 0.01, edge})
            QVERIFY(inside(bright({near, aside, 0.0}), -99.0, bright({near, 0.0, 0.0}) - 0.5, "the cap is brightest"));
        for (const double aside : {0.05, 0.055, 0.06}) {
            QVERIFY(inside(presence({near, 0.0, 0.0}) - presence({near, aside, 0.0}), 3.0, 8.0, "towards the edge"));
            const auto lowMiddle = [&](double at) { // of what is heard at all
                return level({near, at, 0.0}, 200.0, 600.0) - level({near, at, 0.0}, 200.0, 5000.0);
            };
            QVERIFY(inside(lowMiddle(aside) - lowMiddle(0.0), 1.0, 9.0, "the low middle is fuller there"));
        }
        for (const double aside : {edge - 0.015, edge - 0.005})
            QVERIFY(inside(level({near, 0.0, 0.0}, 4460.0, 5610.0) - level({near, aside, 0.0}, 4460.0, 5610.0), 8.0,
                           15.0, "the edge is dull, not dead"));
        QVERIFY(inside(level({near, 0.0, 0.0}, 3560.0, 4490.0) - level({near, 0.0, 45.0}, 3560.0, 4490.0), 2.0, 5.0,
                       "turned by 45 degrees"));
        const auto full = [&](double distance) { // the lowest notes against the low middle
            return level({distance, 0.0, 0.0}, 80.0, 120.0) - level({distance, 0.0, 0.0}, 400.0, 600.0);
        };
        QVERIFY(full(near) > full(0.15) + 3.0 && full(0.15) > full(0.6) + 1.5);
        if (!setting.cabinet.isOpenBack) return;
        const MicrophonePlace behind{-0.1, 0.0, 0.0}, before{0.1, 0.0, 0.0};
        QVERIFY(inside(bright(before) - bright(behind), 10.0, 99.0, "behind it is hollow"));
        const Complex turned = responseAt(setting, m, behind, 120.0) / responseAt(setting, m, before, 120.0);
        QVERIFY2(turned.real() < 0.0, "behind it is inverted");
    }

    /// Every kind of cabinet and microphone gives an impulse, at every rate, everywhere.
    void everyKind()
    {
        for (const CabinetKind& c : cabinetKinds())
            for (const Microphone& m : microphoneKinds())
                for (const double distance : {0.01, 1.0, -0.3}) {
                    const auto made =
                        placementImpulse({c.cabinet, Room{}}, {m.key, {distance, 0.05, 20.0}}, 12000, 0.05);
                    QVERIFY(made);
                    QVERIFY(std::ranges::all_of(taps(*made), [](float x) { return std::isfinite(x); }));
                    QVERIFY(impulseInfo(*made));
                }
    }

    void badPlaces()
    {
        const Setting setting{cabinetOf("one-open").value(), Room{}};
        const auto refused = [&](PlacedMicrophone m) { return !placementImpulse(setting, m, kRate, 0.1); };
        QVERIFY(refused({"tin can", {}}));
        QVERIFY(refused({"ribbon", {0.0, 0.0, 0.0}}));
        QVERIFY(refused({"ribbon", {9.0, 0.0, 0.0}}));
        QVERIFY(refused({"ribbon", {0.1, std::nan(""), 0.0}}));
        QVERIFY(refused({"ribbon", {0.1, 0.0, 100.0}}));
        QVERIFY(!placementImpulse(setting, {}, 4000, 0.1));
        QVERIFY(!placementImpulse(setting, {}, kRate, 0.0));
        QVERIFY(!cabinetOf("nine-open"));
        std::stop_source stop;
        stop.request_stop();
        const auto stopped = placementImpulse(setting, {}, kRate, 0.1, {stop.get_token(), {}});
        QVERIFY(!stopped && stopped.error().code == ErrorCode::Cancelled);
    }
};

QTEST_APPLESS_MAIN(TestCabinet)
#include "test_cabinet.moc"
