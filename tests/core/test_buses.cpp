// Where signals meet: buses against their sum by hand, latency, sends, stems that sum to the mix, time stamps to the
// sample, stereo material, roles.

#include "core/actions/import_files.h"
#include "core/actions/write_stems.h"
#include "core/audio/file_place.h"
#include "core/mix/render/mixdown.h"
#include "core/session/bus_edit.h"
#include "core/session/layer_role.h"
#include "core/session/section_edit.h"
#include "core/session/session_folder.h"
#include "core/units/decibels.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <sndfile.h>

using namespace gristle;
using namespace gristle::core;

namespace {

constexpr int kRate = 48000;

std::vector<std::vector<float>> sides(const std::vector<MixLayer>& layers, const MixOptions& options)
{
    std::vector<std::vector<float>> out(2);
    const auto mixed = mixDown(layers, options, [&](const AudioBuffer& block) -> Outcome {
        for (std::size_t c = 0; c < 2; ++c)
            out[c].insert(out[c].end(), block.channel(c).begin(), block.channel(c).end());
        return Done{};
    });
    if (!mixed) qWarning() << mixed.error().line().c_str();
    return out;
}

MixBus busThrough(const char* chain)
{
    MixBus bus;
    bus.rig.chain = *parseRecallLine(chain);
    return bus;
}

double highest(const std::vector<float>& x)
{
    double out = 0.0;
    for (const float v : x) out = std::max(out, std::abs(double(v)));
    return out;
}

/// Time reference and samples as libsndfile reads them, without our reader.
struct ReadFile {
    std::int64_t stamp = -1;
    int rate = 0;
    std::vector<std::vector<float>> channels;
    explicit ReadFile(const std::filesystem::path& file)
    {
        SF_INFO info{};
        SNDFILE* const f = sf_open(file.c_str(), SFM_READ, &info);
        if (!f) return;
        SF_BROADCAST_INFO b{};
        if (sf_command(f, SFC_GET_BROADCAST_INFO, &b, sizeof b) == SF_TRUE)
            stamp = std::int64_t((std::uint64_t(b.time_reference_high) << 32) + b.time_reference_low);
        rate = info.samplerate;
        std::vector<float> all(std::size_t(info.frames) * std::size_t(info.channels));
        sf_readf_float(f, all.data(), info.frames);
        sf_close(f);
        channels.resize(std::size_t(info.channels));
        for (std::size_t i = 0; i < all.size(); ++i) channels[i % channels.size()].push_back(all[i]);
    }
};

} // namespace

class TestBuses : public QObject {
    Q_OBJECT
private slots:
    void aBusIsItsSumByHand();
    void sendsByTheirLevels();
    void whatIsLateIsBroughtTogether();
    void aStretchIsCutFromTheWhole();
    void tailsOfBusesAreKept();
    void whatASumLoses_data();
    void whatASumLoses();
    void aBusThatFeedsItselfIsRefused();
    void stereoMaterialKeepsItsSides();
    void rolesAreHeld();
    void busesAreEdited();
    void sectionsFollowTheBars();
    void sectionsAreMeasured();
    void filesLandWhereTheyBelong();
    void stemsSumToTheMix_data();
    void stemsSumToTheMix();
    void stemsThatDoNotSumAreTold();

private:
    MixLayer layer(const char* name, const std::vector<std::vector<float>>& channels, double place = 0.0,
                   double gainDb = 0.0)
    {
        MixLayer out;
        out.recipe.file = test::writeWav(dir_, name, channels, kRate);
        out.recipe.isStereo = channels.size() == 2;
        out.place = place, out.gainDb = gainDb;
        return out;
    }
    std::filesystem::path path(const char* name) const { return dir_.filePath(name).toStdString(); }
    Result<SessionFolder> band();
    QTemporaryDir dir_;
};

void TestBuses::aBusIsItsSumByHand()
{
    const auto a = test::whiteNoise(0.1, 40000, 1), b = test::whiteNoise(0.1, 30000, 2),
               c = test::whiteNoise(0.1, 40000, 3);
    std::vector<MixLayer> layers{layer("a.wav", {a}, -100.0), layer("b.wav", {b}, 100.0), layer("c.wav", {c}, -100.0)};
    const auto straight = sides(layers, {});
    const auto alone = [&](std::size_t i) { return sides({layers[i]}, {}); };
    const auto lone = std::array{alone(0), alone(1), alone(2)};
    // a and b in a bus that goes into another; c goes straight. Gains of ±6.02 dB are powers of two: exact.
    const double half = amplitudeToDb(0.5);
    MixOptions options;
    options.buses.resize(2);
    options.buses[0].into = 1, options.buses[0].gainDb = half;
    options.buses[1].gainDb = -half;
    layers[0].bus = layers[1].bus = 0;
    const auto routed = sides(layers, options);
    QCOMPARE(routed[0].size(), std::size_t(40000));
    QVERIFY(routed == straight);
    for (std::size_t i = 0; i < 40000; ++i) {
        QVERIFY(routed[0][i] == float(double(lone[0][0][i]) + double(lone[2][0][i])));
        QVERIFY(routed[1][i] == (i < b.size() ? lone[1][1][i] : 0.0f));
        QVERIFY(std::abs(routed[0][i] - a[i] - c[i]) < 1e-7f); // a layer goes into volts and back
    }
}

void TestBuses::sendsByTheirLevels()
{
    const auto a = test::whiteNoise(0.1, 20000, 4);
    std::vector<MixLayer> layers{layer("s.wav", {a}, -100.0)};
    MixOptions options;
    options.buses.resize(2);
    options.buses[0].sends = {{1, -20.0}}; // behind its own gain
    options.buses[0].gainDb = -6.0;
    layers[0].bus = 0;
    layers[0].sends = {{1, -10.0}};
    const double wanted = std::pow(10.0, -0.3) + std::pow(10.0, -0.3) * 0.1 + std::pow(10.0, -0.5);
    const auto out = sides(layers, options);
    for (std::size_t i = 0; i < a.size(); ++i) QVERIFY(std::abs(out[0][i] - wanted * double(a[i])) < 1e-7);
    layers[0].isHeard = false; // but for what it sends
    options.buses[0].isHeard = false;
    const auto sent = sides(layers, options);
    for (std::size_t i = 0; i < a.size(); ++i)
        QVERIFY(std::abs(sent[0][i] - std::pow(10.0, -0.5) * double(a[i])) < 1e-7);
}

void TestBuses::whatIsLateIsBroughtTogether()
{
    // A limiter far above what plays does nothing but look ahead. What goes through two of them, one, and none falls on
    // each other to the sample.
    const auto a = test::whiteNoise(0.02, 50000, 5);
    auto inverted = a;
    for (float& x : inverted) x *= -2.0f;
    std::vector<MixLayer> layers{layer("l1.wav", {a}), layer("l2.wav", {a}), layer("l3.wav", {inverted})};
    MixOptions options;
    options.buses = {busThrough("limiter ceiling=40"), busThrough("limiter ceiling=40")};
    options.buses[0].into = 1;
    layers[0].bus = 0, layers[1].bus = 1;
    const auto out = sides(layers, options);
    QVERIFY(highest(out[0]) < 1e-6);
    layers.pop_back();
    const auto both = sides(layers, options);
    const double centre = std::pow(10.0, -3.01029995 / 20.0);
    for (std::size_t i = 0; i < a.size(); ++i) QVERIFY(std::abs(both[0][i] - 2.0 * centre * double(a[i])) < 1e-6);
}

void TestBuses::aStretchIsCutFromTheWhole()
{
    auto a = test::whiteNoise(0.1, kRate * 5, 6);
    std::vector<MixLayer> layers{layer("x.wav", {a}, -50.0), layer("y.wav", {a, test::whiteNoise(0.1, kRate * 5, 7)})};
    MixOptions options;
    options.buses = {busThrough("delay time=60ms feedback=0.3 mix=0.5")};
    layers[0].bus = layers[1].bus = 0;
    const auto whole = sides(layers, options);
    const auto part = mixToMemory(layers, options, 3.0, 4.0);
    QVERIFY(bool(part));
    QCOMPARE(part->audio.frames(), std::size_t(kRate));
    for (std::size_t c = 0; c < 2; ++c)
        for (std::size_t i = 0; i < std::size_t(kRate); ++i)
            QVERIFY(std::abs(part->audio.channel(c)[i] - whole[c][3 * kRate + i]) < 1e-5f);
}

void TestBuses::tailsOfBusesAreKept()
{
    std::vector<float> click(4800, 0.0f);
    click[0] = 0.5f;
    std::vector<MixLayer> layers{layer("click.wav", {click}, -100.0)};
    MixOptions options;
    options.buses = {busThrough("delay time=500ms feedback=0 mix=1")};
    layers[0].bus = 0;
    const auto out = sides(layers, options);
    QVERIFY(out[0].size() > 24000);
    QVERIFY(std::abs(out[0][24000] - 0.5f) < 1e-4f);
}

void TestBuses::whatASumLoses_data()
{
    QTest::addColumn<double>("gain"); // of the second, of the same signal
    QTest::addColumn<double>("loss");
    QTest::newRow("alike") << 1.0 << -3.0103;
    QTest::newRow("half of it is against") << -0.5 << 10.0 * std::log10(1.25 / 0.25);
    QTest::newRow("nearly all") << -0.9 << 10.0 * std::log10(1.81 / 0.01);
}

void TestBuses::whatASumLoses()
{
    QFETCH(double, gain);
    QFETCH(double, loss);
    const auto a = test::whiteNoise(0.1, kRate * 2, 8);
    auto b = a;
    for (float& x : b) x *= float(gain);
    std::vector<MixLayer> layers{layer("p.wav", {a}, -30.0), layer("q.wav", {b}, -30.0),
                                 layer("strange.wav", {test::whiteNoise(0.1, kRate * 2, 9)}, -30.0)};
    MixOptions options;
    options.buses.resize(1);
    options.buses[0].name = "amplifiers";
    layers[0].bus = layers[1].bus = 0;
    const auto report = mixDown(layers, options, [](const AudioBuffer&) -> Outcome { return Done{}; });
    QVERIFY(bool(report));
    QCOMPARE(report->joins.size(), std::size_t(2));
    const JoinFigures& join = report->joins[0];
    QCOMPARE(join.name, std::string("amplifiers"));
    QCOMPARE(join.count, std::size_t(2));
    QVERIFY2(std::abs(join.lossDb - loss) < 0.01, qPrintable(QString::number(join.lossDb)));
    for (const double octave : join.octaveLossDb) QVERIFY(std::abs(octave - loss) < 0.05);
    QCOMPARE(report->joins[1].count, std::size_t(2)); // the bus and the stranger
    QVERIFY(std::abs(report->joins[1].lossDb) < 0.1);
}

void TestBuses::aBusThatFeedsItselfIsRefused()
{
    MixOptions options;
    options.buses.resize(3);
    options.buses[0].name = "a", options.buses[1].name = "b", options.buses[2].name = "c";
    options.buses[0].into = 1, options.buses[1].sends = {{2, 0.0}}, options.buses[2].into = 0;
    const auto mixed = mixDown({layer("z.wav", {test::whiteNoise(0.1, 100)})}, options,
                               [](const AudioBuffer&) -> Outcome { return Done{}; });
    QVERIFY(!mixed);
    QVERIFY2(mixed.error().message.find("a > b > c > a") != std::string::npos, mixed.error().message.c_str());
    Song song;
    song.buses = {{"a", "", 0.0, "b"}, {"b", "", 0.0, ""}};
    QVERIFY(bool(checkBuses(song)));
    const auto loops = changeBus(song, "b", [](Bus& bus) { bus.sends = {{"a", 0.0}}; });
    QVERIFY(!loops);
    QVERIFY2(loops.error().message.find("a > b > a") != std::string::npos, loops.error().message.c_str());
    QVERIFY(song.buses[1].sends.empty()); // as it was
    QVERIFY(!changeBus(song, "b", [](Bus& bus) { bus.into = "nowhere"; }));
    QVERIFY(song.buses[1].into.empty());
    QVERIFY(!changeBus(song, "b", [](Bus& bus) { bus.into = "b"; }));
}

void TestBuses::stereoMaterialKeepsItsSides()
{
    const auto left = test::whiteNoise(0.1, 30000, 10), right = test::whiteNoise(0.1, 30000, 11);
    MixLayer drums = layer("drums.wav", {left, right});
    const auto out = sides({drums}, {});
    for (std::size_t i = 0; i < left.size(); ++i) {
        QCOMPARE(out[0][i], left[i]);
        QCOMPARE(out[1][i], right[i]);
    }
    drums.recipe.earlierS = -0.25; // lands later, both sides alike
    drums.recipe.isInverted = true;
    const auto moved = sides({drums}, {});
    QCOMPARE(moved[0].size(), std::size_t(42000));
    QCOMPARE(moved[1][12000 + 777], -right[777]);
    QCOMPARE(moved[0][11999], 0.0f);
    drums.recipe.rig.chain = *parseRecallLine("place at=50");
    QVERIFY(!LayerSource::open(drums.recipe));
}

void TestBuses::rolesAreHeld()
{
    Layer layer;
    layer.rig = "rigs/a.json";
    layer.takes.resize(1);
    QVERIFY(bool(setRole(layer, LayerRole::Backing, "drums")));
    QVERIFY(layer.rig.empty()); // only a DI has one
    layer.takes[0].isStereo = true;
    const auto refused = setRole(layer, LayerRole::Di, "guitar");
    QVERIFY(!refused && refused.error().message.find("stereo") != std::string::npos);
    QCOMPARE(layer.role, LayerRole::Backing);
    QVERIFY(!setRole(layer, LayerRole::Microphone, "drums"));
    for (const auto role : {LayerRole::Di, LayerRole::Microphone, LayerRole::Backing, LayerRole::Reference})
        QCOMPARE(*parseRole(nameOf(role)), role);
    SessionDocument d;
    (void)addTake(d, {"S", "P", "Left"}, {});
    TakePlace into{"S", "P", "Left"};
    into.role = LayerRole::Backing;
    QVERIFY(!checkPlace(d, into)); // a backing among DIs
    into.layer = "Drums";
    QVERIFY(bool(checkPlace(d, into)));
    const auto at = addTake(d, into, {}, "rigs/first.json");
    QVERIFY(findLayer(d, at)->rig.empty());
}

void TestBuses::busesAreEdited()
{
    Song song;
    song.parts = {{"Verse", std::vector<Layer>(3)}};
    auto& layers = song.parts[0].layers;
    layers[0].place = -100.0, layers[0].rig = "rigs/loud.v1.json";
    layers[1].place = 100.0, layers[1].rig = "rigs/loud.v1.json";
    layers[2].role = LayerRole::Backing;
    QCOMPARE(makeBuses(song, BusesBy::Amplifier), std::size_t(1));
    QCOMPARE(layers[0].bus, std::string("loud.v1"));
    QCOMPARE(layers[1].bus, layers[0].bus);
    QVERIFY(layers[2].bus.empty());
    QCOMPARE(makeBuses(song, BusesBy::Side), std::size_t(2));
    QCOMPARE(makeBuses(song, BusesBy::Side), std::size_t(0));
    QCOMPARE(layers[1].bus, std::string("right"));
    QVERIFY(bool(changeBus(song, "right", [](Bus& b) { b.into = "loud.v1", b.sends = {{"left", -6.0}}; })));
    QVERIFY(bool(renameBus(song, "left", "west")));
    QCOMPARE(layers[0].bus, std::string("west"));
    QCOMPARE(song.buses[2].sends[0].to, std::string("west"));
    QVERIFY(!renameBus(song, "west", "right"));
    QVERIFY(!addBus(song, "west"));
    QVERIFY(!addBus(song, " "));
    QVERIFY(bool(removeBus(song, "right")));
    QCOMPARE(layers[1].bus, std::string("loud.v1")); // where it led
    QVERIFY(bool(removeBus(song, "west")));
    QVERIFY(layers[0].bus.empty());
    QVERIFY(!removeBus(song, "west"));
    QVERIFY(!leadLayer(song, layers[0], "west"));
    const auto sends = parseSends(song, {"loud.v1:-7.5", "loud.v1"});
    QVERIFY(bool(sends));
    QCOMPARE((*sends)[0], (Send{"loud.v1", -7.5}));
    QCOMPARE((*sends)[1].gainDb, 0.0);
    for (const char* bad : {"west", "loud.v1:x", "loud.v1:61", "", ":"}) QVERIFY2(!parseSends(song, {bad}), bad);
}

void TestBuses::sectionsFollowTheBars()
{
    Song song;
    song.tempoBpm = 120.0; // a bar is 2 s
    QVERIFY(bool(addSection(song, "chorus", 9.0)));
    QVERIFY(bool(addSection(song, "verse", 1.0)));
    QVERIFY(bool(addSection(song, "chorus", 25.0)));
    const auto spans = spansOf(song, 40.0);
    QCOMPARE(spans.size(), std::size_t(2)); // the third would begin at 48 s
    QCOMPARE(spans[0], (SectionSpan{"verse", 0.0, 16.0}));
    QCOMPARE(spans[1], (SectionSpan{"chorus", 16.0, 40.0}));
    QVERIFY(!removeSection(song, "chorus", std::nullopt)); // which?
    QVERIFY(bool(removeSection(song, "chorus", 25.0)));
    QVERIFY(bool(removeSection(song, "chorus", std::nullopt)));
    QVERIFY(!removeSection(song, "bridge", std::nullopt));
    QVERIFY(!addSection(song, "intro", 0.0));
    song.tempos = {{8.0, 60.0}}; // from bar 3 on half as fast
    QVERIFY(bool(addSection(song, "bridge", 5.0)));
    QCOMPARE(spansOf(song, 100.0)[1].fromS, 4.0 + 8.0);
}

void TestBuses::sectionsAreMeasured()
{
    // Unrelated sides, then the same on both sides and twice as strong: 6.02 LU louder by gain, 3.01 by coherence no
    // more, since loudness adds powers; width from a half to nothing; mono from 0 to -3.01.
    const auto left = test::whiteNoise(0.05, kRate * 8, 30), right = test::whiteNoise(0.05, kRate * 8, 31);
    std::vector<std::vector<float>> both{left, right};
    for (std::size_t i = 4 * kRate; i < left.size(); ++i) both[0][i] = both[1][i] = 2.0f * left[i];
    MixOptions options;
    options.spans = {{"verse", 0.0, 4.0}, {"chorus", 4.0, 8.0}, {"after the end", 8.0, 9.0}};
    const auto report =
        mixDown({layer("sections.wav", both)}, options, [](const AudioBuffer&) -> Outcome { return Done{}; });
    QVERIFY(bool(report));
    QCOMPARE(report->spans.size(), std::size_t(3));
    const SectionFigures &verse = report->spans[0], &chorus = report->spans[1];
    QVERIFY(std::abs(*chorus.integratedLufs - *verse.integratedLufs - 6.02) < 0.05);
    QVERIFY(std::abs(*verse.width - 0.5) < 0.01);
    QVERIFY(*chorus.width < 1e-6);
    QVERIFY(std::abs(*verse.monoLossDb) < 0.1);
    QVERIFY(std::abs(*chorus.monoLossDb + 3.01) < 0.01);
    QVERIFY(!report->spans[2].integratedLufs && !report->spans[2].peakDbfs);
    QCOMPARE(report->shortTermLufs.size(), std::size_t(6)); // ends of 3 to 8 s
    QVERIFY(std::abs(double(report->shortTermLufs.back() - report->shortTermLufs.front()) - 6.02) < 0.1);
    float most = 0.0f;
    for (std::size_t i = 0; i < 4 * std::size_t(kRate); ++i)
        most = std::max({most, std::abs(left[i]), std::abs(right[i])});
    QVERIFY(std::abs(*verse.peakDbfs - amplitudeToDb(double(most))) < 1e-4);
}

/// A session of two guitars and a stereo backing.
Result<SessionFolder> TestBuses::band()
{
    static int n = 0;
    SessionDocument d;
    d.songs.push_back({"Song", 120.0, "4/4", "E standard", {}});
    auto session = SessionFolder::create(path(("band " + std::to_string(++n) + ".gristle").c_str()), d, localNow());
    if (!session) return session;
    d = session->document();
    std::vector<FileToImport> files{
        {test::writeWav(dir_, "left.wav", {test::whiteNoise(0.05, 60000, 20)}, kRate), {}, {"Song", "Riff", "Left"}},
        {test::writeWav(dir_, "right.wav", {test::whiteNoise(0.05, 60000, 21)}, kRate), {}, {"Song", "Riff", "Right"}},
        {test::writeWav(dir_, "band.wav", {test::whiteNoise(0.05, 70000, 22), test::whiteNoise(0.05, 70000, 23)},
                        kRate),
         {ImportSides::Both},
         {"Song", "Band", "Drums"}}};
    files[0].into.place = -100.0, files[1].into.place = 70.0, files[2].into.role = LayerRole::Backing;
    auto staged = stageFiles(session->path(), d.interface, files, localNow());
    if (!staged) return staged.error();
    const auto takes = placeTakes(session->path(), std::move(*staged));
    if (!takes) return takes.error();
    for (std::size_t i = 0; i < files.size(); ++i) (void)addTake(d, files[i].into, (*takes)[i]);
    if (const auto saved = session->save(d); !saved) return saved.error();
    return session;
}

void TestBuses::filesLandWhereTheyBelong()
{
    const auto stamped = [&](const char* name, std::int64_t stamp) {
        auto writer = AudioWriter::create(path(name), {kRate, 1, SampleFormat::Int24, 100, stamp});
        if (!writer || !writer->write(test::recording({test::whiteNoise(0.1, 100)}, kRate).audio) || !writer->commit())
            qFatal("no file to land");
        return path(name);
    };
    // An odd sample of an hour that begins at 10:00: past 32 bits at 192 kHz is not reached at 48.
    const std::int64_t ten = 36000ll * kRate;
    SessionDocument d;
    d.songs.push_back({"Song", 120.0, "4/4", "E standard", {}});
    std::vector<FileToImport> files{{stamped("one.wav", ten + 12345), {}, {"Song", "P", "A"}},
                                    {stamped("two.wav", ten + 5 * kRate + 1), {}, {"Song", "P", "B"}}};
    for (auto& f : files) f.at = LandsAt::Stamp;
    const auto landed = landFiles(d, files);
    QVERIFY2(bool(landed), landed ? "" : landed.error().line().c_str());
    for (const auto& f : files) QCOMPARE(f.into.clockS, 36000.0);
    QCOMPARE(std::llround(files[0].into.atS * kRate), 12345ll);
    QCOMPARE(std::llround(files[1].into.atS * kRate), 5ll * kRate + 1);
    // The clock is known from now on.
    Take take;
    take.sampleRateHz = kRate, take.frames = 100;
    (void)addTake(d, files[0].into, take);
    QCOMPARE(d.songs[0].stampS, 36000.0);
    std::vector<FileToImport> later{
        {stamped("three.wav", ten + 3700ll * kRate), {}, {"Song", "P", "C"}, LandsAt::Stamp}};
    QVERIFY(bool(landFiles(d, later)));
    QCOMPARE(later[0].into.atS, 3700.0);
    later[0].file = stamped("long before.wav", 0);
    QVERIFY(!landFiles(d, later));
    // By name, and where neither says anything.
    struct Named {
        const char* name;
        std::optional<double> atS;
    };
    for (const Named& n : {Named{"chorus bar 17.wav", 32.0},
                           {"bar_2.5 lead.wav", 3.0},
                           {"solo 12.5s.wav", 12.5},
                           {"at 7 sec.wav", 7.0},
                           {"barbed 3.wav", std::nullopt},
                           {"take 4.wav", std::nullopt},
                           {"1960s lead.wav", 1960.0},
                           {"48s8.wav", std::nullopt}}) {
        const auto file = test::writeWav(dir_, n.name, {test::whiteNoise(0.1, 10)}, kRate);
        const auto said = saidPlace(file, d.songs[0].grid());
        QVERIFY(bool(said) && !said->stampS);
        QVERIFY2(said->songS == n.atS, n.name);
    }
    later[0].file = path("take 4.wav");
    const auto none = landFiles(d, later);
    QVERIFY(!none && none.error().message.find("no time stamp") != std::string::npos);
}

void TestBuses::stemsSumToTheMix_data()
{
    QTest::addColumn<int>("by");
    QTest::addColumn<int>("format");
    QTest::addColumn<int>("count");
    for (const auto format : {SampleFormat::Int16, SampleFormat::Int24, SampleFormat::Float32}) {
        const auto row = [&](StemsBy by, int count) {
            QTest::addRow("by %s, %d", nameOf(by).c_str(), int(format)) << int(by) << int(format) << count;
        };
        row(StemsBy::Layer, 3), row(StemsBy::Part, 2), row(StemsBy::Side, 3), row(StemsBy::Bus, 4);
    }
}

void TestBuses::stemsSumToTheMix()
{
    QFETCH(int, by);
    QFETCH(int, format);
    QFETCH(int, count);
    auto session = band();
    QVERIFY(bool(session));
    SessionDocument d = session->document();
    Song& song = d.songs[0];
    (void)makeBuses(song, BusesBy::Side); // left and right; the backing goes straight
    QVERIFY(bool(addBus(song, "both")));
    QVERIFY(bool(changeBus(song, "left", [](Bus& b) { b.gainDb = -2.5, b.sends = {{"both", -8.0}}; })));
    song.gainDb = -1.0, song.stampS = 3600.0;
    QVERIFY(bool(session->save(d)));
    const auto plan = planMix(*session, "Song", "", false);
    QVERIFY(bool(plan));
    const auto mix = path(QTest::currentDataTag()).replace_extension(".wav");
    const auto mixed = writeMix(mix, *plan, SampleFormat(format), "mix");
    QVERIFY2(bool(mixed), mixed ? "" : mixed.error().line().c_str());
    const auto folder = path((std::string(QTest::currentDataTag()) + " stems").c_str());
    const auto stems = writeStems(folder, *plan, StemsBy(by), mix, SampleFormat(format));
    QVERIFY(bool(stems));
    QVERIFY2(stems->findings.empty(), stems->findings.empty() ? "" : stems->findings[0].message.c_str());
    QCOMPARE(int(stems->stems.size()), count);
    // By another reader: the sum, the length, the stamp.
    const ReadFile whole(mix);
    QCOMPARE(whole.stamp, 3600ll * kRate);
    std::vector<std::vector<double>> sum(2, std::vector<double>(whole.channels[0].size(), 0.0));
    for (const auto& stem : stems->stems) {
        const ReadFile part(stem.file);
        QCOMPARE(part.stamp, whole.stamp);
        QCOMPARE(part.channels.size(), std::size_t(2));
        QCOMPARE(part.channels[0].size(), whole.channels[0].size());
        for (std::size_t c = 0; c < 2; ++c)
            for (std::size_t i = 0; i < sum[c].size(); ++i) sum[c][i] += double(part.channels[c][i]);
    }
    const double step = format == int(SampleFormat::Int16) ? 1.0 / 32768.0 : 1.0 / 8388608.0;
    for (std::size_t c = 0; c < 2; ++c)
        for (std::size_t i = 0; i < sum[c].size(); ++i)
            QVERIFY(std::abs(sum[c][i] - double(whole.channels[c][i])) <= 0.501 * step * (count + 1));
    // A second time nothing is written over.
    const auto again = writeStems(folder, *plan, StemsBy(by), mix, SampleFormat(format));
    QVERIFY(bool(again));
    QVERIFY(again->stems[0].file != stems->stems[0].file);
    QVERIFY(isThere(stems->stems[0].file));
}

void TestBuses::stemsThatDoNotSumAreTold()
{
    auto session = band();
    QVERIFY(bool(session));
    SessionDocument d = session->document();
    RigDocument rig;
    rig.chain = *parseRecallLine("softclip");
    rig.name = "glue";
    const auto name = session->saveRig(rig);
    QVERIFY(bool(name));
    QVERIFY(bool(addBus(d.songs[0], "glue")));
    QVERIFY(bool(changeBus(d.songs[0], "glue", [&](Bus& b) { b.rig = *name; })));
    for (Layer& layer : d.songs[0].parts[0].layers) layer.bus = "glue";
    QVERIFY(bool(session->save(d)));
    QVERIFY(session->check(false).empty());
    const auto plan = planMix(*session, "", "", false);
    QVERIFY(bool(plan));
    const auto mix = path("glued.wav");
    QVERIFY(bool(writeMix(mix, *plan, SampleFormat::Float32, "mix")));
    const auto layers = writeStems(path("glued"), *plan, StemsBy::Layer, mix, SampleFormat::Float32);
    QVERIFY(bool(layers));
    QCOMPARE(layers->findings.size(), std::size_t(1));
    QCOMPARE(layers->findings[0].code, std::string("stems.apart"));
    QVERIFY(layers->findings[0].message.find("glue") != std::string::npos);
    QVERIFY(layers->residualDbfs > -60.0);
    const auto buses = writeStems(path("glued by bus"), *plan, StemsBy::Bus, mix, SampleFormat::Float32);
    QVERIFY(bool(buses));
    QVERIFY(buses->findings.empty());
    QCOMPARE(buses->stems.size(), std::size_t(2));
}

QTEST_GUILESS_MAIN(TestBuses)
#include "test_buses.moc"
