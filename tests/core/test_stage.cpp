#include "core/measure/colour.h"
#include "core/mix/figures/control_travel.h"
#include "core/mix/figures/stage_picture.h"
#include "core/mix/render/render.h"
#include "support/signals.h"

#include <QtTest/QtTest>
#include <numbers>
#include <random>
#include <thread>

using namespace gristle::core;

const double kFullScaleDbu = -20.0 * std::log10(kDbuVoltsRms * std::numbers::sqrt2); // a sample of 1 is a volt

/// What one stage does, and what a control does over its travel, against closed forms.
class TestStage : public QObject {
    Q_OBJECT

private slots:
    void newSoundOfACubic();
    void newSoundOfAFilterIsNone();
    void crestAndLoudness();
    void travelHearsHarmonics();
    void travelTellsPoints();
    void travelBehindAndBeforeStages();
    void idleStretches();
    void placesAreAsFarApartAsTheyCanBe();
    void spectrumBeforeAndBehind();
    void notesThatComeIn();
    void responseIsTheFilters();
    void responseOfABentStageIsItsGain();
    void transferAndHarmonicsOfAHardClip();
    void gainOverTimeIsTheCompressors();
    void gateListensToTheDi();
    void echoesLieOnTheBeats();
    void badSubjects();

private:
    LayerRecipe recipe(const std::vector<float>& x, const char* line)
    {
        LayerRecipe r;
        r.file = gristle::test::writeWav(dir_, "take.wav", {x}, 48000);
        r.rig.chain = *parseRecallLine(line);
        r.endS = double(x.size()) / 48000.0;
        r.effort = Effort::Draft;
        r.input = r.output = Calibration{kFullScaleDbu};
        return r;
    }
    QTemporaryDir dir_;
};

namespace {

std::vector<float> gaussian(double sigma, std::size_t frames)
{
    std::mt19937 random(7);
    std::normal_distribution<float> draw(0.0f, float(sigma));
    std::vector<float> out(frames);
    for (float& v : out) v = draw(random);
    return out;
}

std::vector<float> sine(double hz, double size, double seconds)
{
    std::vector<float> out(std::size_t(48000.0 * seconds));
    for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = float(size * std::sin(2.0 * std::numbers::pi * hz * double(i) / 48000.0));
    return out;
}

} // namespace

void TestStage::newSoundOfACubic()
{
    // y = x + a x^3 of a Gaussian x: no filter of x makes a (x^3 - 3 s^2 x), whose power is 6 a^2 s^6; the nearest
    // filter is a gain of 1 + 3 a s^2.
    const auto x = gaussian(1.0, 480000);
    for (const double a : {0.05, 0.2, 1.0}) {
        auto y = x;
        for (float& v : y) v = float(double(v) + a * double(v) * double(v) * double(v));
        const double fresh = 6.0 * a * a, linear = (1.0 + 3.0 * a) * (1.0 + 3.0 * a);
        QVERIFY(std::abs(newSoundDb(x, y) - 10.0 * std::log10(fresh / (fresh + linear))) < 0.2);
    }
}

void TestStage::newSoundOfAFilterIsNone()
{
    const auto x = gaussian(0.1, 96000);
    auto y = x;
    for (std::size_t i = 2; i < y.size(); ++i) y[i] = 0.5f * x[i] - 0.4f * x[i - 2];
    QVERIFY(newSoundDb(x, y) < -45.0);
    // Two that have nothing to do with each other: all but one over the number of windows is new.
    QVERIFY(newSoundDb(x, gristle::test::whiteNoise(0.1, 96000)) > -0.2);
}

void TestStage::crestAndLoudness()
{
    AudioBuffer audio(1, 96000);
    std::ranges::copy(sine(997.0, 0.5, 2.0), audio.channel(0).begin());
    const Colour c = colourOf(audio, 48000.0);
    QVERIFY(std::abs(c.crestDb - 3.0103) < 0.001);
    QVERIFY(std::abs(c.lufs + 3.01 + 6.02) < 0.05); // BS.1770: 997 Hz at full scale is -3.01 LKFS
}

void TestStage::travelHearsHarmonics()
{
    auto r = recipe(sine(220.0, 0.02, 2.0), "hardclip drive=0 tone=12000");
    const auto points = controlTravel(r, 0, "drive", 5);
    QVERIFY(points && points->size() == 5);
    for (std::size_t i = 1; i < points->size(); ++i) {
        QVERIFY((*points)[i].harmonics >= (*points)[i - 1].harmonics - 0.1);
        QVERIFY((*points)[i].crest <= (*points)[i - 1].crest + 0.1); // clipped ever flatter
    }
    QVERIFY2(points->back().harmonics > 20.0 && points->back().crest < -1.5,
             qPrintable(QString("%1, %2").arg(points->back().harmonics).arg(points->back().crest)));
    // From a sine, whose peak is 3 dB over its RMS, to a square wave, of which one part in 1 - 8 / pi^2 is new.
    // A gain adds nothing anywhere.
    r.rig.chain = *parseRecallLine("gain db=0");
    const auto gain = controlTravel(r, 0, "db", 5);
    QVERIFY(gain && wholeOf(*gain, &TravelPoint::crest) < 0.01);
}

void TestStage::travelTellsPoints()
{
    auto r = recipe(gaussian(0.1, 48000), "gain db=0");
    std::vector<double> told;
    const auto points = controlTravel(r, 0, "db", 9, {}, [&](const TravelPoint& p) { told.push_back(p.value); });
    QVERIFY(points && told.size() == 9);
    // Coarse first: what is told first is one of those that all cores begin with, in this order.
    const std::vector<double> order{-60.0, 60.0, 0.0, -30.0, 30.0, -45.0, -15.0, 15.0, 45.0};
    const auto place = std::ranges::find(order, told.front()) - order.begin();
    QVERIFY2(place < std::max(1, int(std::thread::hardware_concurrency())), qPrintable(QString::number(told.front())));
    for (std::size_t i = 0; i < 9; ++i) QCOMPARE((*points)[i].value, -60.0 + 15.0 * double(i));
    std::stop_source stop;
    stop.request_stop();
    const auto stopped = controlTravel(r, 0, "db", 9, {stop.get_token(), nullptr});
    QVERIFY(!stopped && stopped.error().code == ErrorCode::Cancelled);
}

void TestStage::travelBehindAndBeforeStages()
{
    // Played in parts, the rig is the one that is rendered whole: a stage before, one behind, a stereo one between.
    const auto x = gaussian(0.05, 96000);
    for (const char* line : {"softclip | gain db=0 | hardclip drive=5", "chorus | gain db=0 | hardclip drive=5"}) {
        auto r = recipe(x, line);
        const auto points = controlTravel(r, 1, "db", 3);
        QVERIFY(points);
        RenderReport report;
        const auto loudness = [&](double db) {
            r.rig.chain[1].values["db"] = db;
            const auto rendered = renderToMemory(r, report);
            return colourOf(rendered->audio, 48000.0);
        };
        const Colour now = loudness(0.0), most = loudness(60.0);
        QVERIFY2(std::abs(points->back().loudness - (most.lufs - now.lufs)) < 0.05, line);
        QVERIFY2(std::abs(points->back().crest - (most.crestDb - now.crestDb)) < 0.05, line);
    }
}

void TestStage::idleStretches()
{
    // 1 - exp(-t/tau) over ten tau: the last tenth of its travel begins at ln 10 tau.
    std::vector<TravelPoint> points;
    for (int i = 0; i <= 100; ++i) {
        TravelPoint p;
        p.value = double(i) / 10.0;
        p.brightness = 10.0 * (1.0 - std::exp(-p.value));
        points.push_back(p);
    }
    const auto idle = idleStretch(points, &TravelPoint::brightness);
    QVERIFY(idle && std::abs(idle->from - std::log(10.0)) < 0.15 && idle->to == 10.0);
    QVERIFY(std::abs(idle->wholeDb - 10.0) < 0.01);
    QVERIFY(!idleStretch(points, &TravelPoint::body)); // never moves at all
    for (auto& p : points) p.brightness = p.value;     // moves evenly: under a tenth is no stretch
    QVERIFY(!idleStretch(points, &TravelPoint::brightness));
}

void TestStage::placesAreAsFarApartAsTheyCanBe()
{
    std::vector<TravelPoint> points;
    for (int i = 0; i <= 100; ++i) {
        TravelPoint p;
        p.value = double(i) / 10.0;
        p.loudness = p.value; // is matched, so it says nothing
        p.brightness = p.value * p.value;
        points.push_back(p);
    }
    // Of v^2 from 0 to 100, equal parts have their middles at 100/6, 300/6, 500/6.
    const auto places = placesToHear(points, 3);
    QCOMPARE(places.size(), std::size_t(3));
    for (std::size_t k = 0; k < 3; ++k)
        QVERIFY(std::abs(places[k] - std::sqrt(100.0 * (2.0 * double(k) + 1.0) / 6.0)) < 0.01);
    for (auto& p : points) p.brightness = 3.0, p.crest = p.value < 5.0 ? 0.0 : 12.0; // one step: all about it
    for (const double v : placesToHear(points, 3)) QVERIFY(v > 4.89 && v < 5.01);
    for (auto& p : points) p.crest = 0.0; // nothing moves: evenly
    const auto even = placesToHear(points, 2);
    QVERIFY(std::abs(even[0] - 2.5) < 1e-9 && std::abs(even[1] - 7.5) < 1e-9);
    for (auto& p : points) p.loudness = p.value < 6.0 ? -20.0 : 0.0; // what hardly sounds is not offered
    const auto loud = placesToHear(points, 2);
    QVERIFY(std::abs(loud[0] - 7.0) < 1e-9 && std::abs(loud[1] - 9.0) < 1e-9);
    QVERIFY(placesToHear({}, 3).empty() && placesToHear({TravelPoint{}}, 3).empty());
}

void TestStage::spectrumBeforeAndBehind()
{
    // A sine of 0.1 V, -20.8 dBu, lies in one third; white noise has 3 dB an octave, so 1 dB a third.
    auto x = sine(1000.0, 0.1, 2.0);
    const auto noise = gaussian(1e-3, x.size());
    for (std::size_t i = 0; i < x.size(); ++i) x[i] += noise[i];
    auto r = recipe(x, "gain db=-3 | gain db=6");
    const auto picture = stagePicture(r, 1, 0.1);
    QVERIFY(picture);
    const double wanted = 20.0 * std::log10(0.1 / std::numbers::sqrt2 / kDbuVoltsRms) - 3.0;
    for (const auto& t : picture->thirds) {
        QVERIFY(std::abs(t.afterDbu - t.beforeDbu - 6.0) < 0.01);
        if (t.hz == 1000.0) QVERIFY(std::abs(t.beforeDbu - wanted) < 0.05);
        // Noise of 1 mV over 24 kHz, a third of it 0.2316 of its middle.
        const double share = 20.0 * std::log10(1e-3 / kDbuVoltsRms) + 10.0 * std::log10(0.2316 * t.hz / 24000.0) - 3.0;
        if (t.hz > 2000.0)
            QVERIFY2(std::abs(t.beforeDbu - share) < 0.5, qPrintable(QString::number(t.beforeDbu - share)));
    }
}

void TestStage::notesThatComeIn()
{
    std::vector<float> x(96000);
    for (std::size_t i = 0; i < x.size(); ++i)
        for (int n = 1; n < 6; ++n)
            x[i] += float(0.05 / n *
                          std::sin(2.0 * std::numbers::pi * 110.0 * std::exp2(7.0 / 1200.0) * n * double(i) / 48000.0));
    auto r = recipe(x, "gain db=-20 | tuner mute=yes");
    const auto picture = stagePicture(r, 1, 0.1);
    QVERIFY(picture);
    QVERIFY(picture->notes.size() > 10);
    for (const PitchMoment& m : picture->notes) {
        const NearestNote note = nearestNote(m.pitch.hz);
        QVERIFY(note.name == "A2" && std::abs(note.cents - 7.0) < 0.1);
    }
    for (const auto& t : picture->thirds) QCOMPARE(t.afterDbu, -150.0); // muted
}

void TestStage::responseIsTheFilters()
{
    // One echo is a comb with |H|^2 in closed form; the gain before it must not matter.
    auto r = recipe(gaussian(0.1, 96000), "gain db=-12 | delay time=1ms feedback=0 mix=0.25");
    const auto picture = stagePicture(r, 1, 0.1);
    QVERIFY(picture);
    for (std::size_t i = 0; i < picture->hz.size(); ++i) {
        if (picture->hz[i] > 400.0) break; // further up a twelfth of an octave is no longer narrow
        const double w = 2.0 * std::numbers::pi * picture->hz[i] * 0.001;
        const double power = 0.75 * 0.75 + 0.25 * 0.25 + 2.0 * 0.75 * 0.25 * std::cos(w);
        QVERIFY2(std::abs(picture->responseDb[i] - 10.0 * std::log10(power)) < 0.1,
                 qPrintable(QString("%1 Hz: %2").arg(picture->hz[i]).arg(picture->responseDb[i])));
    }
    QVERIFY(std::ranges::max(picture->harmonicsDb) < -90.0);
    QVERIFY(std::abs(20.0 * std::log10(picture->playingV / 0.1) + 12.0) < 0.1);
}

void TestStage::responseOfABentStageIsItsGain()
{
    // Bussgang: the nearest linear response of a bend without memory is one gain at all frequencies.
    auto r = recipe(gaussian(0.1, 96000), "hardclip drive=5 tone=12000");
    const auto picture = stagePicture(r, 0, 0.1);
    QVERIFY(picture);
    double low = 1e9, high = -1e9;
    for (std::size_t i = 0; i < picture->hz.size(); ++i)
        if (picture->hz[i] > 200.0 && picture->hz[i] < 3000.0) {
            low = std::min(low, picture->responseDb[i]);
            high = std::max(high, picture->responseDb[i]);
        }
    QVERIFY2(high - low < 3.0, qPrintable(QString::number(high - low)));
}

void TestStage::transferAndHarmonicsOfAHardClip()
{
    // A sine far over a symmetric clip is a square wave: odd harmonics at 1/n, no even ones, and two levels.
    auto r = recipe(sine(220.0, 0.5, 2.0), "hardclip drive=10 tone=12000");
    const auto picture = stagePicture(r, 0, 0.1);
    QVERIFY(picture);
    QVERIFY2(std::abs(picture->harmonicsDb[1] + 20.0 * std::log10(3.0)) < 1.0,
             qPrintable(QString::number(picture->harmonicsDb[1])));
    QVERIFY(std::abs(picture->harmonicsDb[3] + 20.0 * std::log10(5.0)) < 1.5);
    QVERIFY(picture->harmonicsDb[0] < -60.0 && picture->harmonicsDb[2] < -60.0);
    double most = 0.0, middle = 0.0;
    for (const auto& [in, out] : picture->transfer) {
        most = std::max(most, std::abs(out));
        if (in > 0.4 * picture->peakV && in < 0.6 * picture->peakV) middle = std::max(middle, std::abs(out));
    }
    QVERIFY(std::abs(picture->peakV - 0.5) < 1e-3 && middle > 0.8 * most);
    // A sine stays most at its turning points: the outer parts hold 2/pi acos(1 - 2/41) of the time.
    const double outer = 2.0 / std::numbers::pi * std::acos(1.0 - 2.0 / 41.0);
    QVERIFY(std::abs(picture->lies.front() + picture->lies.back() - outer) < 0.01);
}

void TestStage::gainOverTimeIsTheCompressors()
{
    // 1 s at 10 mV, which is -40.8 dBu, 1 s 30 dB louder: ratio 4 over a threshold of -30.8 takes 20 * 3/4 = 15 dB.
    auto x = sine(1000.0, 0.01, 2.0);
    for (std::size_t i = 48000; i < x.size(); ++i) x[i] *= 31.6228f;
    auto r = recipe(x, "compressor threshold=-30.8 ratio=4 knee=0 attack=1 release=50 gain=0");
    const auto picture = stagePicture(r, 0, 0.1);
    QVERIFY(picture);
    const auto& g = picture->gainDb;
    QVERIFY(g[50] && g[190] && g[50].has_value());
    QVERIFY2(std::abs(*g[50] - *g[190] - 15.0) < 1.0, qPrintable(QString::number(*g[50] - *g[190])));
}

void TestStage::gateListensToTheDi()
{
    // Behind 40 dB of gain a gate at -40 dBFS still goes by the DI: shut on its quiet half.
    auto x = sine(440.0, 0.001, 2.0);
    for (std::size_t i = 48000; i < x.size(); ++i) x[i] *= 100.0f;
    auto r = recipe(x, "gain db=40 | gate threshold=-40");
    const auto picture = stagePicture(r, 1, 0.1);
    QVERIFY(picture);
    QVERIFY(picture->gainDb[60] && *picture->gainDb[60] < -20.0);
    QVERIFY(picture->gainDb[170] && std::abs(*picture->gainDb[170]) < 0.1);
}

void TestStage::echoesLieOnTheBeats()
{
    auto r = recipe(gaussian(0.1, 96000), "delay time=250ms feedback=0.5 mix=0.5");
    const auto picture = stagePicture(r, 0, 1.0);
    QVERIFY(picture);
    const auto at = [&](double s) { return picture->echoDb[std::size_t(s / StagePicture::kEchoHopS)]; };
    QVERIFY(std::abs(at(0.0)) < 1.0 && at(0.1) < -70.0);
    QVERIFY(std::abs(at(0.25) - at(0.5) - 6.02) < 1.0); // each half of the one before
}

void TestStage::badSubjects()
{
    auto r = recipe(std::vector<float>(96000, 0.0f), "gain db=0");
    const auto silent = stagePicture(r, 0, 0.1);
    QVERIFY(!silent && !silent.error().remedy.empty());
    QVERIFY(!stagePicture(r, 3, 0.1) && !controlTravel(r, 3, "db", 5) && !controlTravel(r, 0, "nothing", 5));
}

QTEST_APPLESS_MAIN(TestStage)
#include "test_stage.moc"
