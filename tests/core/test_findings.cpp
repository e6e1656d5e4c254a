#include "core/advice/level_findings.h"
#include "core/advice/level_transfer.h"
#include "core/advice/rig_findings.h"
#include "core/advice/stereo_findings.h"
#include "core/measure/octave_meter.h"
#include "core/rig/rig_difference.h"
#include "support/chain.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <algorithm>

using namespace gristle;
using namespace gristle::core;

namespace {

/// A measured file that is right in every respect; each test spoils one thing.
FileMeasurement rightFile()
{
    FileMeasurement m;
    m.file = "somewhere/take one.wav";
    m.info.sampleRateHz = 48000;
    m.info.channels = 1;
    m.info.frames = m.info.promisedFrames = 480000;
    ChannelMeasurement c;
    c.level.peakDbfs = -6.5;
    c.level.rmsDbfs = -20.0;
    c.truePeakDbtp = -6.0;
    c.vuTypical = 0.3;
    c.noise.floorDbfs = -85.0;
    c.noise.snrDb = 66.0;
    m.channels = {c};
    m.advice.gainChangeDb = -0.3;
    return m;
}

std::vector<Finding> judged(const FileMeasurement& m, const MeasureOptions& options = {})
{
    FileMeasurement copy = m;
    copy.advice = adviseGain(m.channels, options.target);
    return levelFindings(copy, options);
}

const Finding* find(const std::vector<Finding>& findings, const std::string& code)
{
    const auto at = std::ranges::find(findings, code, &Finding::code);
    return at == findings.end() ? nullptr : &*at;
}

StereoResult goodPair()
{
    StereoResult s;
    s.correlation = 0.1;
    s.balanceDb = 0.4;
    s.width = 0.45;
    s.monoLossDb = -0.4;
    for (const double hz : {63.0, 80.0, 100.0, 125.0, 160.0, 200.0, 1000.0}) s.bands.push_back({hz, 0.1, -0.4});
    return s;
}

} // namespace

class TestFindings : public QObject {
    Q_OBJECT
private slots:
    void aRightFileHasNothingToFix();
    void eachFaultIsFoundAlone_data();
    void eachFaultIsFoundAlone();
    void bandBorders_data();
    void bandBorders();
    void peakSchool_data();
    void peakSchool();
    void adviceNeverPassesTheCeiling();
    void silenceStopsEverythingElse();
    void messagesCarryTheirNumbers();
    void stereoFaults_data();
    void stereoFaults();
    void aGoodPairHasNothingToFix();
    void balanceNamesTheQuieterSide();
    void sumFindingsFollowThePeak();
    void rigTellsWhenTheLevelMoved_data();
    void rigTellsWhenTheLevelMoved();
    void rigTellsWhatIsMissing();
    void rigTellsWhichStageBringsNoise();
    void theOutputPassesFullScale();
    void octavesOfNoise();
    void levelsTravelInVolts();
    void pickupIsMatchedByTheGraphic();
    void differencesOfRigs_data();
    void differencesOfRigs();
    void stopsComeFirst();
    void numbersAreWrittenWithARealMinus();
};

void TestFindings::aRightFileHasNothingToFix()
{
    const auto found = judged(rightFile());
    QCOMPARE(countOf(found, Severity::Fix) + countOf(found, Severity::Stop), 0);
    for (const char* code : {"level.not_clipped", "level.right", "level.quiet"}) QVERIFY2(find(found, code), code);
    for (const Finding& f : found) QCOMPARE(f.subject, std::string("take one.wav"));
}

void TestFindings::eachFaultIsFoundAlone_data()
{
    using Spoil = std::function<void(FileMeasurement&)>;
    QTest::addColumn<QString>("code");
    QTest::addColumn<QString>("severity");
    QTest::addColumn<Spoil>("spoil");
    const auto row = [](const char* code, const char* severity, const Spoil& spoil) {
        QTest::newRow(code) << QString(code) << QString(severity) << spoil;
    };
    row("file.truncated", "fix", [](FileMeasurement& m) { m.info.promisedFrames = 960000; });
    row("level.clipped", "stop", [](FileMeasurement& m) {
        m.channels[0].level.clippedSamples = 9;
        m.channels[0].level.clipRunCount = 2;
        m.channels[0].level.clipRuns = {{1.5, 5}, {2.0, 4}};
    });
    row("level.flat_top", "fix", [](FileMeasurement& m) { m.channels[0].level.flatTopRuns = 3; });
    row("level.low", "fix", [](FileMeasurement& m) { m.channels[0].vuTypical = -4.0; });
    row("level.hot", "fix", [](FileMeasurement& m) { m.channels[0].vuTypical = 5.0; });
    row("level.headroom", "fix", [](FileMeasurement& m) { m.channels[0].vuTypical = -9.0; });
    row("level.hum", "fix", [](FileMeasurement& m) {
        m.channels[0].noise.hum = Hum{50.02, -60.0, {{50.02, -61.0}, {100.04, -66.0}}};
    });
    row("level.noise", "fix", [](FileMeasurement& m) {
        m.channels[0].noise.floorDbfs = -60.0;
        m.channels[0].noise.snrDb = 41.0;
    });
    row("level.dc", "fix", [](FileMeasurement& m) { m.channels[0].level.dcOffset = -0.02; });
}

void TestFindings::eachFaultIsFoundAlone()
{
    using Spoil = std::function<void(FileMeasurement&)>;
    QFETCH(QString, code);
    QFETCH(QString, severity);
    QFETCH(Spoil, spoil);
    FileMeasurement m = rightFile();
    spoil(m);
    const auto found = judged(m);
    const Finding* f = find(found, code.toStdString());
    QVERIFY(f);
    QCOMPARE(QString(severityText(f->severity)), severity);
    QVERIFY(!f->title.empty() && !f->message.empty() && !f->remedy.empty());
    QVERIFY(f->measured && f->target && f->high > f->low);
    QCOMPARE(countOf(found, Severity::Fix) + countOf(found, Severity::Stop), 1); // nothing else is blamed
}

void TestFindings::bandBorders_data()
{
    QTest::addColumn<double>("typical");
    QTest::addColumn<QString>("code");
    QTest::newRow("just in, low") << -1.99 << "level.right";
    QTest::newRow("just out, low") << -2.01 << "level.low";
    QTest::newRow("just in, hot") << 1.99 << "level.right";
    QTest::newRow("just out, hot") << 2.01 << "level.hot";
}

void TestFindings::bandBorders()
{
    QFETCH(double, typical);
    QFETCH(QString, code);
    FileMeasurement m = rightFile();
    m.channels[0].vuTypical = typical;
    QVERIFY(find(judged(m), code.toStdString()));
}

void TestFindings::peakSchool_data()
{
    QTest::addColumn<double>("peak");
    QTest::addColumn<QString>("code");
    QTest::addColumn<double>("change");
    QTest::newRow("right") << -9.5 << "level.right" << 0.5;
    QTest::newRow("low") << -20.0 << "level.low" << 11.0;
    QTest::newRow("hot") << -3.0 << "level.hot" << -6.0;
}

void TestFindings::peakSchool()
{
    QFETCH(double, peak);
    QFETCH(QString, code);
    QFETCH(double, change);
    FileMeasurement m = rightFile();
    m.channels[0].truePeakDbtp = peak;
    m.channels[0].vuTypical = -7.0; // the average school would complain, this one does not look at it
    MeasureOptions options;
    options.target = TargetSchool::Peak;
    const auto found = judged(m, options);
    QVERIFY(find(found, code.toStdString()));
    QCOMPARE(*adviseGain(m.channels, TargetSchool::Peak).gainChangeDb, change);
}

void TestFindings::adviceNeverPassesTheCeiling()
{
    for (double typical = -40.0; typical <= 20.0; typical += 2.5)
        for (double peak = -40.0; peak <= 3.0; peak += 1.0)
            for (const auto school : {TargetSchool::Average, TargetSchool::Peak}) {
                ChannelMeasurement c;
                c.vuTypical = typical;
                c.truePeakDbtp = peak;
                const auto advice = adviseGain({c}, school);
                QVERIFY(peak + *advice.gainChangeDb <= -1.0 + 1e-9);
                const double wanted = school == TargetSchool::Average ? -typical : -9.0 - peak;
                QVERIFY(*advice.gainChangeDb <= wanted + 1e-9);
                QCOMPARE(advice.heldByHeadroom, wanted > -1.0 - peak);
            }
}

void TestFindings::silenceStopsEverythingElse()
{
    FileMeasurement m = rightFile();
    m.channels = {ChannelMeasurement{}};
    const auto found = judged(m);
    QCOMPARE(found.size(), std::size_t(1));
    QCOMPARE(found[0].code, std::string("level.silent"));
    QVERIFY(found[0].severity == Severity::Stop);
}

void TestFindings::messagesCarryTheirNumbers()
{
    FileMeasurement m = rightFile();
    m.channels[0].vuTypical = -5.5;
    m.channels[0].truePeakDbtp = -12.0;
    const auto found = judged(m);
    const Finding* f = find(found, "level.low");
    QVERIFY(f);
    QCOMPARE(f->title, std::string("Turn the preamp up 5.5 dB"));
    QVERIFY(f->message.find("\u221223.5 dBFS") != std::string::npos); // -18 - 5.5
    QVERIFY(f->message.find("\u22126.5 dBTP") != std::string::npos);  // -12 + 5.5
    QCOMPARE(*f->measured, -23.5);
    QCOMPARE(*f->target, -18.0);
}

void TestFindings::stereoFaults_data()
{
    using Spoil = std::function<void(StereoResult&)>;
    QTest::addColumn<QString>("code");
    QTest::addColumn<Spoil>("spoil");
    const auto row = [](const char* code, const Spoil& spoil) { QTest::newRow(code) << QString(code) << spoil; };
    row("stereo.silent_side", [](StereoResult& s) { s.correlation.reset(), s.balanceDb.reset(); });
    row("stereo.inverted", [](StereoResult& s) { s.correlation = -0.8, s.monoLossDb = 7.0; });
    row("stereo.mono", [](StereoResult& s) { s.correlation = 0.999, s.monoLossDb = -3.0; });
    row("stereo.mono_loss", [](StereoResult& s) { s.correlation = -0.4, s.monoLossDb = 2.2; });
    row("stereo.low_end", [](StereoResult& s) { s.bands[3].monoLossDb = 6.0; });
    row("stereo.balance", [](StereoResult& s) { s.balanceDb = 2.5; });
}

void TestFindings::stereoFaults()
{
    using Spoil = std::function<void(StereoResult&)>;
    QFETCH(QString, code);
    QFETCH(Spoil, spoil);
    StereoResult s = goodPair();
    spoil(s);
    const auto found = stereoFindings(s, "pair");
    const Finding* f = find(found, code.toStdString());
    QVERIFY(f && f->severity != Severity::Note && !f->remedy.empty());
    QCOMPARE(countOf(found, Severity::Fix) + countOf(found, Severity::Stop), 1);
}

void TestFindings::aGoodPairHasNothingToFix()
{
    const auto found = stereoFindings(goodPair(), "pair");
    QCOMPARE(countOf(found, Severity::Note), int(found.size()));
    QVERIFY(find(found, "stereo.wide") && find(found, "stereo.balanced"));
    StereoResult high = goodPair();
    high.bands.back().monoLossDb = 9.0; // 1 kHz: a comb there is no missing low end
    QVERIFY(!find(stereoFindings(high, "pair"), "stereo.low_end"));
}

void TestFindings::balanceNamesTheQuieterSide()
{
    StereoResult s = goodPair();
    s.balanceDb = -3.0; // right minus left
    QVERIFY(find(stereoFindings(s, ""), "stereo.balance")->remedy.find("Turn right up 3.0") == 0);
    s.balanceDb = 3.0;
    QVERIFY(find(stereoFindings(s, ""), "stereo.balance")->remedy.find("Turn left up 3.0") == 0);
}

void TestFindings::sumFindingsFollowThePeak()
{
    QVERIFY(sumFindings(-1.5, 0, "").empty());
    QVERIFY(sumFindings(std::nullopt, 0, "").empty());
    const auto peak = sumFindings(0.4, 0, "");
    QVERIFY(peak.size() == 1 && peak[0].code == "mix.peak" && peak[0].remedy.find("1.4 dB") != std::string::npos);
    const auto clipped = sumFindings(2.0, 17, "");
    QVERIFY(clipped.size() == 1 && clipped[0].code == "mix.clipped" && clipped[0].severity == Severity::Stop);
    QVERIFY(clipped[0].remedy.find("3.0 dB") != std::string::npos);
}

void TestFindings::rigTellsWhenTheLevelMoved_data()
{
    QTest::addColumn<double>("now");
    QTest::addColumn<QString>("code");
    QTest::addColumn<QString>("remedy");
    QTest::newRow("as then") << -18.4 << "rig.level_right"
                             << "";
    QTest::newRow("softer") << -23.0 << "rig.level_moved"
                            << "Put a gain of +5.0 dB first";
    QTest::newRow("louder") << -14.5 << "rig.level_moved"
                            << "Put a gain of \u22123.5 dB first";
}

void TestFindings::rigTellsWhenTheLevelMoved()
{
    QFETCH(double, now);
    QFETCH(QString, code);
    QFETCH(QString, remedy);
    RigDocument rig;
    rig.di = DiStamp{-18.0, {}, {}};
    const auto found = rigFindings({}, rig, DiStamp{now, {}, {}}, "rig");
    QCOMPARE(found.size(), std::size_t(1));
    QCOMPARE(QString::fromStdString(found[0].code), code);
    QCOMPARE(QString::fromStdString(found[0].remedy), remedy);
    QVERIFY(rigFindings({}, rig, std::nullopt, "rig").empty()); // nothing is said of what is not known
}

void TestFindings::rigTellsWhatIsMissing()
{
    RenderReport report;
    report.warnings = {"impulse cab.wav: there is no such file"};
    StageLevels dead;
    dead.node = "delay";
    dead.inPeak = 0.5f;
    StageLevels after;
    after.node = "gain";
    report.stages = {dead, after};
    report.clippedSamples = 12;
    const auto found = rigFindings(report, {}, std::nullopt, "rig");
    QCOMPARE(found.size(), std::size_t(3));
    QVERIFY(find(found, "rig.missing") && find(found, "rig.silent_stage"));
    QVERIFY(find(found, "rig.silent_stage")->title.find("delay") != std::string::npos);
    QCOMPARE(found[0].code, std::string("rig.clipped"));
}

void TestFindings::rigTellsWhichStageBringsNoise()
{
    // 70 dB apart at the input; the gain moves both, the second stage lifts the noise by 25 dB more than the playing.
    std::vector<Rung> rungs(3);
    rungs[0] = {"input", false, -10.0, 0.0, -80.0, {}};
    rungs[1] = {"gain", false, 10.0, 20.0, -60.0, {}};
    rungs[2] = {"fuzz", false, 5.0, 10.0, -40.0, {}};
    const auto found = rigNoiseFinding(rungs, "rig");
    QVERIFY(found && found->severity == Severity::Note);
    QCOMPARE(*found->measured, 45.0);
    QVERIFY(found->message.find("fuzz takes 25 dB") != std::string::npos);
    rungs[2].restDbu = -30.0;
    QVERIFY(rigNoiseFinding(rungs, "rig")->severity == Severity::Fix); // 35 dB
    rungs[1].restDbu.reset();
    QVERIFY(!rigNoiseFinding(rungs, "rig") && !rigNoiseFinding({}, "rig")); // nothing is said of what is not known
}

void TestFindings::theOutputPassesFullScale()
{
    QVERIFY(!rigOutputFinding(11.9, 12.0, "rig") && !rigOutputFinding(12.01, 12.0, "rig"));
    const auto over = rigOutputFinding(14.3, 12.0, "rig");
    QVERIFY(over && over->severity == Severity::Fix);
    QCOMPARE(QString::fromStdString(over->title), QString("Turn the output down 3.3 dB"));
    QCOMPARE(*over->target, 11.0);
}

void TestFindings::octavesOfNoise()
{
    // White noise has twice the power in each further octave; the uppermost reaches past 22.6 kHz.
    OctaveMeter meter(48000.0);
    const auto noise = test::whiteNoise(0.1, 48000 * 30);
    for (std::size_t at = 0; at < noise.size(); at += 777)
        meter.push(std::span(noise).subspan(at, std::min<std::size_t>(777, noise.size() - at)));
    const Octaves found = meter.result();
    for (std::size_t b = 1; b < found.size(); ++b)
        QVERIFY2(std::abs(found[b] - found[b - 1] - 3.01) < (b < 3 ? 0.6 : 0.2), qPrintable(QString::number(found[b])));
    double whole = 0.0;
    for (const double db : found) whole += std::pow(10.0, db / 10.0);
    QVERIFY(std::abs(whole - 1.0) < 1e-9);
}

void TestFindings::levelsTravelInVolts()
{
    const DiStamp was{-18.0, {10.0, false}, std::nullopt}, now{-20.0, {16.0, false}, std::nullopt};
    const LevelTransfer t = levelTransfer(was, now); // -8 dBu then, -4 dBu now
    QVERIFY(std::abs(t.trimDb + 4.0) < 1e-12 && !t.assumed && !t.pickupDb);
    QCOMPARE(std::get<double>(trimStage(t).values.at("db")), -4.0);
    QVERIFY(levelTransfer(was, {-20.0, {}, std::nullopt}).assumed);
}

void TestFindings::pickupIsMatchedByTheGraphic()
{
    // A noise, and the same through an equaliser: the stage that is computed makes the one of the other, as loud.
    const auto dull = test::whiteNoise(0.1, 48000 * 20);
    const auto bright = test::throughChain("eq hz1=3000 db1=7 q1=0.8", dull)[0];
    const auto stamp = [](const std::vector<float>& x) {
        OctaveMeter meter(48000.0);
        meter.push(x);
        return DiStamp{-18.0, {}, meter.result()};
    };
    const DiStamp was = stamp(bright), now = stamp(dull);
    const LevelTransfer t = levelTransfer(was, now);
    QVERIFY(t.pickupDb && t.mostPickupDb() > 3.0 && t.mostPickupDb() <= 9.0);
    const auto matched = test::throughChain(recallLine({pickupStage(t)}), dull)[0];
    const Octaves found = *stamp(matched).octavesDb;
    for (std::size_t b = 1; b < found.size(); ++b)
        QVERIFY2(std::abs(found[b] - (*was.octavesDb)[b]) < 1.0,
                 qPrintable(QString("%1 Hz: %2").arg(kOctaveHz[b]).arg(found[b] - (*was.octavesDb)[b])));
    const auto level = [](const std::vector<float>& x) {
        double squares = 0.0;
        for (const float v : x) squares += double(v) * double(v);
        return 10.0 * std::log10(squares / double(x.size()));
    };
    QVERIFY(std::abs(level(matched) - level(dull)) < 0.5);
    // Never more than 9 dB, whatever stood there.
    DiStamp far = now;
    (*far.octavesDb)[5] += 30.0;
    const double most = levelTransfer(far, now).mostPickupDb();
    QVERIFY(most > 6.0 && most <= LevelTransfer::kMostPickupDb);
}

void TestFindings::differencesOfRigs_data()
{
    QTest::addColumn<QString>("before");
    QTest::addColumn<QString>("after");
    QTest::addColumn<QString>("said");
    const auto row = [](const char* name, const char* before, const char* after, const char* said) {
        QTest::newRow(name) << before << after << said;
    };
    row("nothing", "gain db=3 | delay", "gain db=3 | delay", "");
    row("written out", "gain", "gain db=0", "");
    row("a value", "gain db=3 | delay", "gain db=5 | delay", "gain: gain 3 to 5 dB");
    row("put in", "gain", "gain | delay", "delay put in behind gain");
    row("put in first", "gain", "gate | gain", "gate put in first");
    row("taken out", "gate | gain", "gain", "gate taken out");
    row("moved", "gate | gain | delay", "gain | delay | gate", "gate moved, now behind delay");
    row("bypassed", "gain | delay", "gain | delay bypass=on", "delay bypassed");
    row("in a lane", "{ gain ; gain db=1 }", "{ gain ; gain db=2 }", "in lane 2: gain: gain 1 to 2 dB");
    row("a lane more", "{ gain ; gain }", "{ gain ; gain ; }", "lane 3 put in");
    row("two of one type", "gain db=1 | gain db=2", "gain db=2", "gain: gain 1 to 2 dB; gain taken out");
}

void TestFindings::differencesOfRigs()
{
    QFETCH(QString, before);
    QFETCH(QString, after);
    QFETCH(QString, said);
    RigDocument a, b;
    a.chain = parseRecallLine(before.toStdString()).value();
    b.chain = parseRecallLine(after.toStdString()).value();
    QStringList found;
    for (const std::string& d : rigDifference(a, b)) found << QString::fromStdString(d);
    QCOMPARE(found.join("; "), said);
    b.outputDb = -2.5;
    QCOMPARE(QString::fromStdString(rigDifference(a, b).back()), QString("output 0 to -2.5 dB"));
}

void TestFindings::stopsComeFirst()
{
    std::vector<Finding> found(5);
    const Severity order[] = {Severity::Note, Severity::Fix, Severity::Stop, Severity::Fix, Severity::Stop};
    for (std::size_t i = 0; i < 5; ++i) found[i].severity = order[i], found[i].code = std::to_string(i);
    rank(found);
    std::string codes;
    for (const Finding& f : found) codes += f.code;
    QCOMPARE(codes, std::string("24130")); // and within a kind as they came
}

void TestFindings::numbersAreWrittenWithARealMinus()
{
    QCOMPARE(signedText(5.5), std::string("+5.5"));
    QCOMPARE(signedText(-17.84), std::string("\u221217.8"));
    QCOMPARE(figureText(-0.04), std::string("0.0")); // never a minus before nothing
    QCOMPARE(figureText(12.0, 0), std::string("12"));
}

QTEST_APPLESS_MAIN(TestFindings)
#include "test_findings.moc"
