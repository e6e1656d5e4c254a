#include "core/advice/level_findings.h"
#include "core/signal/biquad.h"
#include "core/timing/alignment.h"
#include "core/timing/by_di.h"
#include "core/timing/double_take.h"
#include "core/timing/onsets.h"
#include "support/clip_ways.h"
#include "support/natural_guitar.h"
#include "support/onset_score.h"
#include "support/signals.h"

#include <QtTest/QtTest>

using namespace gristle;
using namespace gristle::core;
using namespace gristle::test;

namespace {

std::vector<float> atOne(std::vector<float> x)
{
    float most = 1e-9f;
    for (const float v : x) most = std::max(most, std::abs(v));
    for (float& v : x) v /= most;
    return x;
}

/// Peak at 1. A seed that nothing was fitted to.
std::vector<float> played(const NaturalVoice& voice, NaturalPart part, int rateHz, double seconds = 12.0)
{
    return atOne(playNatural(voice, part, {.seconds = seconds, .seed = 40}, rateHz).x);
}

const Finding* find(const std::vector<Finding>& findings, const std::string& code)
{
    const auto at = std::ranges::find(findings, code, &Finding::code);
    return at == findings.end() ? nullptr : &*at;
}

} // namespace

/// The jury of bench/natural-sound, shortly: guitars that nobody tuned on.
class TestNatural : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;
    std::vector<NaturalVoice> voices_ = naturalVoices();

private slots:
    void strokesAreFound()
    {
        std::size_t right = 0, of = 0;
        for (const auto& voice : voices_)
            for (const auto part : {NaturalPart::Riff, NaturalPart::Strum}) {
                const auto take = playNatural(voice, part, {.seconds = 8.0, .seed = 40}, 48000);
                const auto score = scoreOf(findOnsets(take.x, 48000), take.strokesS);
                right += 2 * score.offMs.size(), of += score.found + score.played;
            }
        QVERIFY2(double(right) > 0.97 * double(of), qPrintable(QString("%1 of %2").arg(right).arg(of)));
    }

    /// A stroke that one does not play is told in most pairs; where both play all, nothing is lacking.
    void whatOneLacks()
    {
        std::size_t told = 0, of = 0, falseOnes = 0;
        for (const auto& voice : voices_)
            for (const auto part : {NaturalPart::Riff, NaturalPart::Chug}) {
                NaturalPlaying one{.seconds = 10.0, .spreadMs = 5.0, .seed = 1040}, two = one;
                two.seed = 2040, two.lost = 5 + int(of % 7);
                const auto a = playNatural(voice, part, one, 48000), b = playNatural(voice, part, two, 48000);
                const auto pair = comparePerformances(a.x, b.x, 48000);
                QVERIFY(bool(pair));
                const auto isLost = [&](double t) { return std::abs(t - a.strokesS[std::size_t(two.lost)]) < 0.045; };
                const auto right = std::size_t(std::ranges::count_if(pair->onlyFirstS, isLost));
                told += right > 0, ++of;
                falseOnes += pair->unmatchedFirst + pair->unmatchedSecond - right;
            }
        QVERIFY2(10 * told >= 8 * of, qPrintable(QString("%1 of %2").arg(told).arg(of)));
        QVERIFY2(10 * falseOnes <= of, qPrintable(QString("%1 in %2 pairs").arg(falseOnes).arg(of)));
    }

    void noCleanTakeIsCalledClipped()
    {
        int n = 0;
        for (const auto& voice : voices_) {
            const int rate = std::array{44100, 48000, 96000}[std::size_t(n % 3)];
            const auto part = NaturalPart(n++ % 6);
            const auto x = played(voice, part, rate, 8.0);
            for (const auto& way : cleanWays())
                QVERIFY2(!heldPeaksOf(way.clip(x, 0.0, rate), rate).isHeld(),
                         qPrintable(QString("%1, %2, %3").arg(voice.name.c_str(), nameOf(part), way.name.c_str())));
        }
    }

    void soundsThatStayAreNotClipped()
    {
        const double rate = 48000.0;
        QVERIFY(!heldPeaksOf(sine(110.0, 0.5, rate, 4.0), int(rate)).isHeld());
        QVERIFY(!heldPeaksOf(sine(997.0, 0.9, rate, 4.0), int(rate)).isHeld());
        QVERIFY(!heldPeaksOf(whiteNoise(0.1, 4 * 48000), int(rate)).isHeld());
        auto organ = sine(220.0, 0.3, rate, 4.0);
        for (const double hz : {440.0, 660.0, 880.0, 1320.0}) {
            const auto more = sine(hz, 60.0 / hz, rate, 4.0, hz);
            for (std::size_t i = 0; i < organ.size(); ++i) organ[i] += more[i];
        }
        QVERIFY(!heldPeaksOf(organ, int(rate)).isHeld());
        for (const double hz : {82.4, 440.0, 997.0}) { // ones that come and go, and that die away
            auto bursts = sine(hz, 0.5, rate, 4.0), dying = bursts;
            for (std::size_t i = 0; i < bursts.size(); ++i) {
                bursts[i] *= i % 48000 < 24000 ? 1.0f : 0.0f;
                dying[i] *= float(std::exp(-2.0 * double(i % 24000) / rate));
            }
            QVERIFY2(!heldPeaksOf(bursts, int(rate)).isHeld(), qPrintable(QString::number(hz)));
            QVERIFY2(!heldPeaksOf(dying, int(rate)).isHeld(), qPrintable(QString::number(hz)));
        }
        QVERIFY(!heldPeaksOf(std::vector<float>(48000, 0.0f), int(rate)).isHeld());
        QVERIFY(!heldPeaksOf({0.5f, -0.5f}, int(rate)).isHeld());
    }

    void clippedTakesAreToldHoweverTheyAreHidden_data()
    {
        QTest::addColumn<double>("dB");
        QTest::addColumn<double>("share"); ///< at least
        QTest::newRow("6 dB") << 6.0 << 0.95;
        QTest::newRow("3 dB") << 3.0 << 0.90;
    }
    void clippedTakesAreToldHoweverTheyAreHidden()
    {
        QFETCH(double, dB);
        QFETCH(double, share);
        int told = 0, of = 0, n = 0;
        for (const auto& voice : voices_) {
            const int rate = std::array{44100, 48000, 96000}[std::size_t(n++ % 3)];
            const auto x = played(voice, NaturalPart((n + 1) % 6), rate, 8.0);
            for (const auto& way : clipWays()) {
                if (way.isSoft) continue;
                const HeldPeaks held = heldPeaksOf(way.clip(x, dB, rate), rate);
                told += held.isHeld(), ++of;
            }
        }
        QVERIFY2(told >= share * of, qPrintable(QString("%1 of %2").arg(told).arg(of)));
    }

    /// A clipper of 6 dB behind a capacitor and dither, 24 dB down: before, "turn up" was advised.
    void whatIsClippedIsNotTurnedUp()
    {
        auto x = played(voices_.back(), NaturalPart::Riff, 48000);
        for (const auto& way : clipWays())
            if (way.name == "resampled, high-pass, dither") x = way.clip(x, 6.0, 48000);
        for (float& v : x) v *= 0.06f;
        const auto clipped = writeWav(dir_, "clipped somewhere.wav", {x}, 48000, SampleFormat::Int24);
        const auto m = measureFile(clipped, {});
        QVERIFY(bool(m));
        QVERIFY(m->advice.heldByClipping && !m->advice.gainChangeDb);
        const auto findings = levelFindings(*m, {});
        const Finding* f = find(findings, "level.flat_top");
        QVERIFY(f && f->message.find("turning the same stage up would cut off more") != std::string::npos);
        QVERIFY(!find(findings, "level.low") && !find(findings, "level.headroom") &&
                !find(findings, "level.not_clipped"));
        // The ceiling, 0.7 of full scale, 24.4 dB down, stands where it was before the high-pass.
        QVERIFY(std::abs(m->channels[0].held.ceilingDbfs - amplitudeToDb(0.7 * 0.06)) < 0.5);
    }

    void anAmplifierIsDrivenNotClipped()
    {
        const auto x = driven(played(voices_.back(), NaturalPart::Strum, 48000), 60.0, 48000);
        const auto file = writeWav(dir_, "driven.wav", {x}, 48000, SampleFormat::Int24);
        const auto m = measureFile(file, {});
        QVERIFY(bool(m) && m->channels[0].held.isDriven());
        const auto findings = levelFindings(*m, {});
        QVERIFY(find(findings, "level.driven") && !find(findings, "level.flat_top"));
        QVERIFY(m->advice.gainChangeDb);
    }

    /// A microphone on a driven loudspeaker explains little of its DI, bin by bin; it is the same performance.
    void aDrivenMicrophoneIsNoStranger()
    {
        constexpr double kRate = 48000.0, kLater = 133.4;
        unsigned n = 0;
        for (const auto& voice : voices_) {
            const auto part = NaturalPart(++n % 6);
            const auto di = played(voice, part, int(kRate), 8.0);
            const auto microphoned = [&](const std::vector<float>& x, double gain, bool isInverted) {
                std::vector<float> y(x.size());
                for (std::size_t i = 0; i < x.size(); ++i) // unlike above and below, as valves are
                    y[i] = float(std::tanh(gain * double(x[i]) + 0.4) - std::tanh(0.4));
                for (const auto& response :
                     {highPass(90.0, 0.8, kRate), bell(2600.0, 7.0, 1.2, kRate), lowPass(4800.0, 0.6, kRate)})
                    Biquad(response).process(y);
                return movedEarlier(y, -kLater, isInverted);
            };
            const auto another = playNatural(voice, part, {.seconds = 8.0, .spreadMs = 5.0, .seed = 77}, int(kRate)).x;
            for (const double gain : {20.0, 60.0}) {
                const bool isInverted = n % 2 == 0;
                const auto r = alignTo(di, microphoned(di, gain, isInverted), kRate);
                QVERIFY(bool(r));
                const auto what = QString("%1 %2 gain %3: confidence %4, %5 samples")
                                      .arg(voice.name.c_str(), nameOf(part))
                                      .arg(gain)
                                      .arg(r->confidence)
                                      .arg(r->delaySamples);
                QVERIFY2(r->confidence >= 0.5 && std::abs(r->delaySamples - kLater) < 12.0, qPrintable(what));
                QCOMPARE(r->isInverted, isInverted);
                const auto stranger = alignTo(di, microphoned(another, gain, false), kRate);
                QVERIFY2(stranger && stranger->confidence < 0.5,
                         qPrintable(what + QString(", another's %1").arg(stranger->confidence)));
            }
        }
    }

    /// Two driven sides are as far apart as their DIs say: soft notes that the amplifier hides are none that one lacks.
    void drivenSidesAreJudgedByTheirDis()
    {
        constexpr double kRate = 48000.0;
        const auto& voice = voices_.front();
        const auto side = [&](unsigned seed) {
            return playNatural(voice, NaturalPart::Riff, {.seconds = 8.0, .spreadMs = 5.0, .seed = seed}, int(kRate)).x;
        };
        const auto one = side(70), other = side(72);
        // The second microphone stands 1.5 m away, and is inverted.
        const auto oneHeard = driven(one, 20.0, kRate),
                   otherHeard = movedEarlier(driven(other, 20.0, kRate), -210.3, true);
        QVERIFY(!asItsDi(oneHeard, oneHeard, kRate)); // no cleaner than it is
        QVERIFY(!asItsDi(oneHeard, other, kRate));    // another hand
        const auto byDi = asItsDi(oneHeard, one, kRate), byOther = asItsDi(otherHeard, other, kRate);
        QVERIFY(byDi && byOther);
        const auto dry = comparePerformances(one, other, kRate).value(),
                   judged = comparePerformances(*byDi, *byOther, kRate).value();
        QCOMPARE(judged.notes.size(), dry.notes.size());
        QVERIFY(std::abs(judged.offsetMedianMs - dry.offsetMedianMs - 1000.0 * 210.3 / kRate) < 0.3);
        QVERIFY(std::abs(judged.offsetSdMs - dry.offsetSdMs) < 0.3);
        QCOMPARE(diInPlaceOf(oneHeard, other, kRate).error().code, ErrorCode::Usage);
    }
};

QTEST_APPLESS_MAIN(TestNatural)
#include "test_natural.moc"
