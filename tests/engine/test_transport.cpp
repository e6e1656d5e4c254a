// What sounds while a take is recorded, in step with the recorder to the sample; and the plan of a run.

#include "engine/rt/live_chain.h"
#include "engine/runs/run_plan.h"
#include "support/allocation_watch.h"

#include <QTemporaryDir>
#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::engine;

namespace {

constexpr double kRate = 48000.0;

/// Runs a transport by itself, block by block.
std::vector<float> heard(TakeTransport& transport, std::size_t frames, std::size_t block = 256,
                         std::int64_t recorded = 0)
{
    std::vector<float> out;
    while (out.size() < frames) {
        std::vector<float> left(block, 0.0f), right(block, 0.0f);
        transport.begin(recorded);
        transport.add(left.data(), right.data(), block);
        recorded += std::int64_t(block);
        out.insert(out.end(), left.begin(), left.end());
    }
    return out;
}

/// Where sound begins after at least 20 ms of silence.
std::vector<std::size_t> beginnings(const std::vector<float>& x)
{
    std::vector<std::size_t> out;
    std::size_t silent = 10000;
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (std::abs(x[i]) > 1e-5f) {
            if (silent > 960) out.push_back(i);
            silent = 0;
        } else {
            ++silent;
        }
    }
    return out;
}

} // namespace

class TestTransport : public QObject {
    Q_OBJECT
private slots:
    void clicksLieWhereTheyAreMeant()
    {
        TakeTransport transport(kRate);
        TransportPlan plan;
        plan.startFrame = -4000;
        plan.clicks = {{-1000, true}, {11000, false}, {23000, false}};
        transport.start(std::move(plan));
        const auto found = beginnings(heard(transport, 48000, 100, 777));
        QCOMPARE(found.size(), std::size_t(3));
        for (std::size_t i = 0; i < 3; ++i) // a click's first samples are soft
            QVERIFY(found[i] >= 3000 + 12000 * i && found[i] < 3000 + 12000 * i + 40);
        QCOMPARE(transport.recordedAt(), std::int64_t(777));
        QCOMPARE(transport.position(), transport.elapsed() - 4000);
    }

    void aLoopGoesOnFromItsBeginningWithoutASeam()
    {
        TakeTransport transport(kRate);
        auto layers = std::make_shared<core::Recording>();
        layers->audio = core::AudioBuffer(2, 48000);
        for (std::size_t i = 0; i < 48000; ++i)
            layers->audio.channel(0)[i] = layers->audio.channel(1)[i] = float(0.5 * std::sin(0.05 * double(i)));
        TransportPlan plan;
        plan.startFrame = 9600, plan.loopFrom = 9600, plan.loopTo = 33600;
        plan.backing = layers;
        transport.start(std::move(plan));
        const auto x = heard(transport, 100000);
        QCOMPARE(transport.position(), 9600 + (transport.elapsed() % 24000));
        float step = 0.0f;
        for (std::size_t i = 10000; i < x.size(); ++i) step = std::max(step, std::abs(x[i] - x[i - 1]));
        QVERIFY2(step < 0.5f * 0.05f * 1.6f, qPrintable(QString::number(step)));
        // The second pass is the first, after its opening.
        for (std::size_t i = 12000; i < 20000; ++i) QCOMPARE(x[i + 24000], x[i]);
        transport.stop();
        const auto end = heard(transport, 4800);
        QCOMPARE(end.back(), 0.0f);
        QVERIFY(!transport.isRolling());
    }

    void aNewRunBeginsAnew()
    {
        TakeTransport transport(kRate);
        auto follower = std::make_shared<std::atomic<std::int64_t>>(TakeTransport::kResting);
        for (int round = 0; round < 3; ++round) {
            TransportPlan plan;
            plan.startFrame = 100 * round;
            plan.follower = follower;
            plan.followerLate = 64;
            transport.start(std::move(plan));
            heard(transport, 5120);
            QCOMPARE(transport.position(), transport.elapsed() + 100 * round);
            QCOMPARE(follower->load(), transport.position() - 64);
            transport.stop();
            heard(transport, 5120);
            QCOMPARE(follower->load(), TakeTransport::kResting);
        }
    }

    // A device may be taken away in the block after the run was stopped.
    void whoFollowedRestsWhenItGoes()
    {
        auto follower = std::make_shared<std::atomic<std::int64_t>>(TakeTransport::kResting);
        {
            TakeTransport transport(kRate);
            TransportPlan plan;
            plan.follower = follower;
            transport.start(std::move(plan));
            heard(transport, 512);
            QVERIFY(follower->load() != TakeTransport::kResting);
            transport.stop();
        }
        QCOMPARE(follower->load(), TakeTransport::kResting);
    }

    void nothingIsAllocatedWhileItRuns()
    {
        TakeTransport transport(kRate);
        TransportPlan plan;
        plan.clicks = {{0, true}, {2000, false}};
        plan.loopTo = 4000;
        transport.start(std::move(plan));
        std::vector<float> left(256), right(256);
        const test::AllocationWatch watch;
        for (int i = 0; i < 200; ++i) {
            transport.begin(i * 256);
            transport.add(left.data(), right.data(), 256);
        }
        QCOMPARE(watch.allocations(), 0L);
        QCOMPARE(watch.locks(), 0L);
    }

    void planOfARun()
    {
        const core::BarGrid grid(120.0, "4/4");
        const RunPlan through = planRun(grid, {RunKind::Through, 2, 1.0, 5.0, false}, kRate);
        QCOMPARE(through.startFrame, std::int64_t(-4 * 48000));
        QCOMPARE(through.clicks.size(), std::size_t(8)); // counted in only
        QVERIFY(!through.overAfter(0));
        // A beat before bar 1 is kept; what is later by the round trip lies where it was played along to.
        auto cut = through.cut(0, 1000, 1000 + 10 * 48000, 400);
        QVERIFY(cut && cut->first == 1000 + 4 * 48000 + 400 - 24000);
        QVERIFY(std::abs(cut->atS + 0.5) < 1e-9 && cut->spanToS == cut->spanFromS);

        const RunPlan punch = planRun(grid, {RunKind::Punch, 1, 3.0, 4.0, true}, kRate);
        QCOMPARE(*punch.overAfter(400), std::int64_t(2 * 48000 + 2 * 48000 + 24000 + 400));
        cut = punch.cut(0, 0, 10 * 48000, 400);
        QVERIFY(cut && cut->spanFromS == 4.0 && std::abs(cut->spanToS - 6.0) < 1e-9);
        QVERIFY(!punch.cut(0, 0, 2 * 48000, 400)); // stopped while it was counted in

        const RunPlan loop = planRun(grid, {RunKind::Loop, 1, 1.0, 3.0, true}, kRate);
        for (std::int64_t pass = 0; pass < 3; ++pass) {
            cut = loop.cut(pass, 0, 100 * 48000, 0);
            QVERIFY(cut);
            QCOMPARE(cut->first, (2 + 4 * pass) * 48000 - 24000);
            QCOMPARE(cut->frames, std::int64_t(5 * 48000));
            QVERIFY(cut->spanFromS == 0.0 && cut->spanToS == 4.0 && std::abs(cut->atS + 0.5) < 1e-9);
            QCOMPARE(loop.passOverAfter(pass, 0), cut->first + cut->frames);
        }
        // Less than a bar of a pass is none, a bar is.
        QVERIFY(!loop.cut(0, 0, 3 * 48000, 0));
        QVERIFY(loop.cut(0, 0, 4 * 48000 + 100, 0));
    }
};

QTEST_APPLESS_MAIN(TestTransport)
#include "test_transport.moc"
