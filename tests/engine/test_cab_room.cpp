#include "core/impulse/capture_set.h"
#include "engine/runs/probe.h"
#include "engine/simulated/simulated_device.h"
#include "support/allocation_watch.h"

#include <QtTest/QtTest>
#include <numbers>

using namespace gristle;
using namespace gristle::core;
using namespace gristle::engine;

namespace {

constexpr double kRate = 48000.0, kPi = std::numbers::pi;
constexpr std::size_t kFirst = 2;

CabRoom::Setup threeMicrophones()
{
    CabRoom::Setup out;
    out.setting.cabinet = cabinetOf("one-open").value();
    out.microphones = {
        {"coil-presence", {0.03, 0.03, 0.0}}, {"ribbon", {-0.15, 0.0, 0.0}}, {"condenser", {1.2, 0.2, 0.0}}};
    return out;
}

/// The simulated interface under a clock of its own, with that cabinet at its output.
struct Bench {
    std::shared_ptr<SimulatedRoom> room;
    SimulatedDevice device;
    explicit Bench(CabRoom::Setup setup, std::size_t block = 256, double gainDb = 12.0)
        : room(std::make_shared<SimulatedRoom>(roomSetup())), device(kRate, block, SimulatedDevice::Clock::Manual, room)
    {
        room->setCab(std::move(CabRoom::make(std::move(setup)).value()), kFirst, gainDb);
    }
    static SimulatedRoom::Setup roomSetup()
    {
        SimulatedRoom::Setup out;
        out.inputs = 6;
        return out;
    }
    ProbeTake play(const std::vector<float>& signal, double restS = 0.8, std::vector<std::size_t> inputs = {2, 3, 4})
    {
        ProbeWish wish;
        wish.signal = signal;
        wish.inputs = std::move(inputs);
        wish.listenFrames = signal.size() + std::size_t(restS * kRate);
        return playAndListen(device, wish).value();
    }
};

std::complex<double> responseAt(std::span<const float> taps, double hz)
{
    std::complex<double> sum = 0.0;
    for (std::size_t i = 0; i < taps.size(); ++i)
        sum += double(taps[i]) * std::polar(1.0, -2.0 * kPi * hz * double(i) / kRate);
    return sum;
}

std::vector<float> repeated(const std::vector<float>& once, std::size_t times, double pauseS)
{
    std::vector<float> out;
    for (std::size_t i = 0; i < times; ++i) {
        out.insert(out.end(), once.begin(), once.end());
        out.resize(out.size() + std::size_t(pauseS * kRate));
    }
    return out;
}

} // namespace

class TestCabRoom : public QObject {
    Q_OBJECT

private slots:
    /// What is captured over the interface is what the room was made of, with its gain, polarity and arrivals.
    void capturesTheRoom()
    {
        auto setup = threeMicrophones();
        setup.second = setup.third = 0.0;
        Bench b(setup);
        const auto once = sweep({20.0, 20000.0, 4.0, int(kRate)}).value();
        const auto take = b.play(repeated(once, 2, 0.6));
        QVERIFY(take.isWhole);
        CaptureOptions options;
        options.lengthS = 0.3, options.repeats = 2, options.periodS = 4.6;
        const auto set = captureSet(once, take.heard, int(kRate), options).value();
        QCOMPARE(set.each.size(), std::size_t(3));
        for (std::size_t m = 0; m < 3; ++m) {
            QVERIFY2(bool(set.each[m]), set.each[m] ? "" : set.each[m].error().message.c_str());
            const Captured& c = *set.each[m];
            QVERIFY(!c.isDriftCorrected);
            QVERIFY(c.distortionPercent < 0.5);
            const auto truth = b.room->cab()->impulse(m).audio.channel(0);
            // The inputs hear what was played one block ago; the set begins 48 samples before the first arrival.
            const double moved = set.firstArrivalSamples - 48.0 - 256.0;
            double off = 0.0, all = 0.0;
            for (double hz = 80.0; hz < 6000.0; hz *= 1.03) { // where the loudspeaker gives something
                const auto expected = b.room->cabGain(m) * responseAt(truth, hz);
                const auto found =
                    responseAt(c.impulse.audio.channel(0), hz) * std::polar(1.0, -2.0 * kPi * hz * moved / kRate);
                off += std::norm(found - expected), all += std::norm(expected);
            }
            QVERIFY2(10.0 * std::log10(off / all) < -34.0,
                     qPrintable(QString("microphone %1: %2 dB").arg(m).arg(10.0 * std::log10(off / all))));
        }
        const auto mix = set.mix();
        for (std::size_t i = 0; i < mix.audio.frames(); i += 37) {
            float sum = 0.0f;
            for (const auto& c : set.each) sum += c->impulse.audio.channel(0)[i];
            QVERIFY(std::abs(mix.audio.channel(0)[i] - sum) < 1e-6f);
        }
        // By geometry: 1.17 m between the close one and the one in the room.
        const double apart = set.each[2]->arrivalSamples - set.each[0]->arrivalSamples;
        QVERIFY2(std::abs(apart - (std::hypot(1.2, 0.07) - 0.03) / 343.0 * kRate) < 4.0,
                 qPrintable(QString::number(apart)));
    }

    /// A loudspeaker that bends by a square and a cube shows them as orders 2 and 3, more as it is driven harder.
    void bendsAsItSays()
    {
        const auto orders = [](double volumeDb) {
            auto setup = threeMicrophones();
            setup.microphones = {{"pressure", {0.02, 0.0, 0.0}}};
            setup.setting.room = {.floorM = 0.0, .wallM = 0.0, .reverberationS = 0.0};
            setup.setting.cabinet.isOpenBack = false;
            setup.setting.cabinet.cone.breakUpHz = 0.0; // as flat as can be
            setup.setting.cabinet.cone.modes.clear();
            setup.volumeDb = volumeDb;
            Bench b(setup, 256, 0.0);
            const auto once = sweep({100.0, 3000.0, 4.0, int(kRate)}).value();
            const auto take = b.play(once, 1.0, {2});
            return capture(once, take.heard[0], int(kRate), {.lengthS = 0.2}).value().orderPercent;
        };
        const auto soft = orders(-12.0), hard = orders(-6.0);
        QVERIFY2(hard[0] > 0.05 && hard[1] > 0.01, qPrintable(QString("%1 %2").arg(hard[0]).arg(hard[1])));
        QVERIFY2(std::abs(hard[0] / soft[0] - 2.0) < 0.3, qPrintable(QString::number(hard[0] / soft[0])));
        QVERIFY2(std::abs(hard[1] / soft[1] - 4.0) < 1.0, qPrintable(QString::number(hard[1] / soft[1])));
    }

    /// Any lengths of blocks give the same; nothing is allocated while it runs.
    void blocksAndAllocation()
    {
        const auto signal = sweep({50.0, 8000.0, 0.3, int(kRate)}).value();
        Bench a(threeMicrophones(), 64), b(threeMicrophones(), 1000);
        const auto first = a.play(signal, 0.2), second = b.play(signal, 0.2);
        // The blocks' length is the delay from output to input.
        double off = 0.0, all = 0.0;
        for (std::size_t i = 0; i + 1000 < first.heard[0].size(); ++i) {
            off += std::pow(first.heard[0][i + 64] - second.heard[0][i + 1000], 2.0);
            all += std::pow(first.heard[0][i + 64], 2.0);
        }
        QVERIFY2(off < 1e-6 * all, qPrintable(QString::number(off / all))); // their noise is another

        std::vector<std::vector<float>> inputs(6, std::vector<float>(512));
        std::vector<float*> pointers;
        for (auto& x : inputs) pointers.push_back(x.data());
        std::vector<float> played(512, 0.1f);
        gristle::test::AllocationWatch watch;
        for (int i = 0; i < 20; ++i) (void)a.room->read(pointers.data(), 512, played.data(), played.data());
        QCOMPARE(watch.allocations(), 0L);
        QCOMPARE(watch.locks(), 0L);
    }

    /// Too quiet or clipped: the microphone says so, the others are kept.
    void oneOfThreeFails()
    {
        auto setup = threeMicrophones();
        setup.volumeDb = 0.0;
        setup.microphones[0].place.distanceM = 0.01;
        Bench b(setup, 256, 50.0);
        const auto once = sweep({30.0, 15000.0, 2.0, int(kRate)}).value();
        auto take = b.play(once);
        take.heard[1].assign(take.heard[1].size(), 0.0f);
        const auto set = captureSet(once, take.heard, int(kRate), {.lengthS = 0.2}).value();
        QVERIFY(!set.each[0] && QString::fromStdString(set.each[0].error().message).contains("clips"));
        QVERIFY(!set.each[1] && QString::fromStdString(set.each[1].error().message).contains("silent"));
    }

    void probeFails()
    {
        Bench b(threeMicrophones());
        ProbeWish wish;
        wish.signal.assign(48000, 0.25f);
        wish.listenFrames = 48000;
        wish.inputs = {17};
        QCOMPARE(playAndListen(b.device, wish).error().code, ErrorCode::OutOfRange);
        wish.inputs = {2};
        b.room->loseOnce();
        QVERIFY(playAndListen(b.device, wish).value().isWhole); // lost before it began
        std::stop_source stop;
        stop.request_stop();
        const auto stopped = playAndListen(b.device, wish, {stop.get_token(), {}});
        QVERIFY(!stopped && stopped.error().code == ErrorCode::Cancelled);
        b.room->unplugDevice();
        QVERIFY(!playAndListen(b.device, wish));
    }

    /// One side only, so that nothing else plays the sweep; stopped in the middle it fades.
    void oneSideAndFading()
    {
        Bench b(threeMicrophones());
        struct Watch {
            int reports = 0;
        } seen;
        std::stop_source stop;
        ProbeWish wish;
        wish.signal.assign(48000, 0.25f);
        wish.listenFrames = 48000;
        wish.inputs = {2};
        wish.side = OutputSide::Right;
        const auto stopped = playAndListen(b.device, wish, {stop.get_token(), [&](double) {
                                                                if (++seen.reports == 6) stop.request_stop();
                                                            }});
        QVERIFY(!stopped);
        QVERIFY(seen.reports < 10); // some blocks of 4096 frames after it
    }
};

QTEST_APPLESS_MAIN(TestCabRoom)
#include "test_cab_room.moc"
