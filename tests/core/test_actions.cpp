// What one does, as functions: a stop in the middle spoils nothing, and what was measured before is not measured again.

#include "core/actions/capture_files.h"
#include "core/actions/compare_pairs.h"
#include "core/actions/judge_takes.h"
#include "core/actions/place_microphones.h"
#include "support/demo_copy.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <chrono>
#include <thread>

using namespace gristle;
using namespace gristle::core;

class TestActions : public QObject {
    Q_OBJECT
private slots:
    void initTestCase()
    {
        QVERIFY(dir_.isValid());
        const auto at = std::filesystem::path(dir_.path().toStdString()) / "demo.gristle";
        QVERIFY(test::copyDemo(at));
        session_.emplace(SessionFolder::open(at, Access::Read).value());
    }
    void aStopSpoilsNoVerdict();
    void whatIsKnownIsNotMeasuredAgain();
    void unlikeChannelsAreMicrophones();
    void badFilesAreTold();

private:
    const Song& song() const { return session_->document().songs[0]; }

    QTemporaryDir dir_;
    std::optional<SessionFolder> session_;
};

// Stopped after some milliseconds, many times: what it gives then is judged as if nothing had been.
void TestActions::aStopSpoilsNoVerdict()
{
    const Part& part = song().parts[0];
    const auto wanted = takesToJudge(*session_, song(), part, 1);
    const auto whole = judgeTakes(wanted, {});
    QVERIFY(!whole.each.empty() && whole.each[0].measure);
    TakeMemory memory;
    PairMemory pairs;
    for (int ms = 1; ms < 200; ms += 17) {
        std::stop_source stop;
        std::jthread clock([&] {
            std::this_thread::sleep_for(std::chrono::milliseconds(ms));
            stop.request_stop();
        });
        memory = judgeTakes(wanted, memory, {stop.get_token(), {}}).memory;
        pairs = comparePairs(takesOf(*session_, song(), part), pairs, {stop.get_token(), {}});
    }
    const auto after = judgeTakes(wanted, memory);
    QCOMPARE(after.each.size(), whole.each.size());
    QVERIFY(after.each[0].measure);
    QCOMPARE(after.each[0].judgement.cost, whole.each[0].judgement.cost);
    const auto takes = takesOf(*session_, song(), part);
    const auto first = choosePairs(takes, comparePairs(takes, {}), {}),
               second = choosePairs(takes, comparePairs(takes, pairs), {});
    QVERIFY(first.isWhole && second.isWhole && first.two && second.two);
    QCOMPARE(second.two->cost, first.two->cost);
}

void TestActions::whatIsKnownIsNotMeasuredAgain()
{
    const auto wanted = takesToJudge(*session_, song(), song().parts[0], 0);
    const auto once = judgeTakes(wanted, {}), again = judgeTakes(wanted, once.memory);
    QCOMPARE(again.each[0].measure.get(), once.each[0].measure.get()); // the same, not one like it
    Song faster = song();                                              // where the bars lie has changed, so it is
    faster.tempoBpm += 7.0;
    const auto other = judgeTakes(takesToJudge(*session_, faster, song().parts[0], 0), once.memory);
    QVERIFY(other.each[0].measure != once.each[0].measure);
}

// A recording of two microphones on two channels; where one channel is asked for, that one.
void TestActions::unlikeChannelsAreMicrophones()
{
    SweepSettings settings;
    settings.seconds = 1.0;
    const auto played = sweep(settings).value();
    std::vector<float> near(played.begin(), played.end()), far(near.size() + 24000, 0.0f);
    near.resize(far.size(), 0.0f);
    for (float& v : near) v *= 0.4f;
    for (std::size_t i = 0; i < played.size(); ++i) far[i + 240] = 0.2f * played[i];
    const auto sweepFile = test::writeWav(dir_, "sweep.wav", {played}, 48000);
    const auto both = test::writeWav(dir_, "two of them.wav", {near, far}, 48000);
    const auto all = captureFiles({sweepFile, {both}, 0, {}});
    QVERIFY(all);
    QCOMPARE(all->each.size(), std::size_t(2));
    QCOMPARE(all->each[1].name, std::string("two of them, channel 2"));
    QVERIFY(all->set.each[0] && all->set.each[1]);
    QVERIFY(std::abs(all->set.each[1]->arrivalSamples - all->set.each[0]->arrivalSamples - 240.0) < 1.0);
    const auto one = captureFiles({sweepFile, {both}, 2, {}});
    QVERIFY(one && one->each.size() == 1);
    QVERIFY(!captureFiles({sweepFile, {both}, 3, {}}));
}

void TestActions::badFilesAreTold()
{
    const auto none = captureFiles({"nowhere.wav", {"nor here.wav"}, 0, {}});
    QVERIFY(!none && none.error().line().find("nowhere.wav") != std::string::npos);
    CabPlan plan;
    plan.cabinet = "nine-open";
    QVERIFY(!placeMicrophones(plan));
    plan = {};
    plan.microphones[0].place.distanceM = 9.0;
    QVERIFY(!placeMicrophones(plan));
}

QTEST_APPLESS_MAIN(TestActions)
#include "test_actions.moc"
