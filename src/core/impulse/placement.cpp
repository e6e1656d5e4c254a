#include "core/impulse/placement.h"

#include "core/signal/fft.h"
#include "core/signal/minimum_phase.h"
#include "core/units/decibels.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <numbers>
#include <random>

namespace gristle::core {

namespace {

using Complex = std::complex<double>;
constexpr double kPi = std::numbers::pi;
constexpr double kNearestM = 0.005;

/// Where it is, and where it looks.
std::pair<Place, Place> geometry(const Setting& setting, const MicrophonePlace& p)
{
    const double a = p.angleDeg * kPi / 180.0, in = p.offsetM < 0.0 ? -1.0 : 1.0;
    const Place axis{-in * std::sin(a), 0.0, p.distanceM > 0.0 ? -std::cos(a) : std::cos(a)};
    const double z = p.distanceM > 0.0 ? p.distanceM : p.distanceM - setting.cabinet.depthM;
    return {{p.offsetM, 0.0, z}, axis};
}

/// What a diaphragm as wide as this one loses of a wave under the angle between its axis and the cone's centre: 2 J1(x)
/// / x while that is not far under 1, and without its zeros, as near a cone nothing comes from one side alone.
double diaphragmLoss(const Microphone& m, const Place& at, const Place& axis, double k)
{
    const double away = std::sqrt(at.x * at.x + at.y * at.y + at.z * at.z);
    const double c = -(at.x * axis.x + at.y * axis.y + at.z * axis.z) / std::max(1e-9, away);
    const double x = k * m.diaphragmM * std::sqrt(std::max(0.0, 1.0 - c * c));
    return 1.0 / (1.0 + x * x / 8.0);
}

/// Without the microphone's curve. @param pressure  of a field at a place
template<typename F>
Complex heard(const SoundField& field, const Microphone& m, const Place& at, const Place& axis, F&& pressure)
{
    return received(m, pressure, at, axis, field.waveNumber()) * diaphragmLoss(m, at, axis, field.waveNumber());
}
Complex heard(const SoundField& field, const Microphone& m, const Place& at, const Place& axis)
{
    return heard(field, m, at, axis, [&](const Place& p) { return field.at(p); });
}
Complex heard(const Setting& setting, const Microphone& m, const Place& at, const Place& axis, double hz)
{
    return heard(SoundField(setting.cabinet, setting.room, hz), m, at, axis);
}

/// The same at all multiples of `stepHz`, from 0 Hz, where nothing is heard, on. Each way's sound is over within some
/// milliseconds of its arrival; so above the box's resonance every fourth is enough, with cubics between them, the
/// arrival taken out. @return empty where it was stopped
std::vector<Complex> heardAtAll(const Setting& setting, const Microphone& m, const Place& at, const Place& axis,
                                double stepHz, std::size_t count, const Progress& progress)
{
    constexpr std::size_t kEvery = 4;
    constexpr double kAllBelowHz = 700.0, kMiddleS = 0.0015; // of what comes after the arrival
    const std::size_t all = std::size_t(kAllBelowHz / stepHz / kEvery) * kEvery;
    std::array<std::vector<Complex>, SoundField::kWays> ways;
    std::array<double, SoundField::kWays> middleS;
    for (std::size_t way = 0; way < ways.size(); ++way) {
        const Place p = SoundField::mirrored(setting.cabinet, setting.room, way, at);
        middleS[way] = std::sqrt(p.x * p.x + p.y * p.y + p.z * p.z) / kSpeedOfSound + kMiddleS;
        ways[way].resize(count + 3 * kEvery);
    }
    const auto turn = [](double hz, double s) { return std::polar(1.0, 2.0 * kPi * hz * s); };
    for (std::size_t i = 1; i < ways[0].size(); i += i < all ? 1 : kEvery) {
        if (progress.stopped()) return {};
        progress.at(0.9 * double(i) / double(ways[0].size()));
        const double hz = stepHz * double(i);
        const SoundField field(setting.cabinet, setting.room, hz);
        for (std::size_t way = 0; way < ways.size(); ++way)
            ways[way][i] =
                turn(hz, middleS[way]) * heard(field, m, at, axis, [&](const Place& p) { return field.by(way, p); });
    }
    std::vector<Complex> out(count);
    for (std::size_t i = 1; i < count; ++i)
        for (std::size_t way = 0; way < ways.size(); ++way) {
            const std::size_t from = i - i % kEvery;
            const double t = double(i - from) / kEvery;
            const auto& h = ways[way];
            const Complex now = i <= all || t == 0.0 // Lagrange through two on either side
                                    ? h[i]
                                    : -t * (t - 1.0) * (t - 2.0) / 6.0 * h[from - kEvery] +
                                          (t + 1.0) * (t - 1.0) * (t - 2.0) / 2.0 * h[from] -
                                          (t + 1.0) * t * (t - 2.0) / 2.0 * h[from + kEvery] +
                                          (t + 1.0) * t * (t - 1.0) / 6.0 * h[from + 2 * kEvery];
            out[i] += now * turn(stepHz * double(i), -middleS[way]);
        }
    return out;
}

/// What goes out over all directions, as pressure at 1 m.
double allAround(const Cabinet& cabinet, double hz)
{
    const SoundField field(cabinet, {.floorM = 0.0, .wallM = 0.0}, hz);
    constexpr double kAway = 3.0;
    constexpr int kAngles = 8;
    double sum = 0.0, weights = 0.0;
    for (int i = 0; i < kAngles; ++i) {
        const double t = kPi * (i + 0.5) / kAngles, w = std::sin(t);
        const double z = kAway * std::cos(t) - (t > 0.5 * kPi ? cabinet.depthM : 0.0);
        sum += w * std::norm(kAway * field.at({kAway * w, 0.0, z}));
        weights += w;
    }
    return std::sqrt(sum / weights);
}

/// The weight of hearing, IEC 61672-1, annex E: A, in dB.
double aWeightDb(double hz)
{
    const double f2 = hz * hz;
    const double r =
        12194.0 * 12194.0 * f2 * f2 /
        ((f2 + 20.6 * 20.6) * std::sqrt((f2 + 107.7 * 107.7) * (f2 + 737.9 * 737.9)) * (f2 + 12194.0 * 12194.0));
    return 20.0 * std::log10(r) + 2.0;
}

/// Mean power over frequencies a third of an octave apart.
template<typename F> double meanPower(double fromHz, double toHz, F&& powerAt)
{
    double sum = 0.0;
    int count = 0;
    for (double hz = fromHz; hz <= toHz; hz *= std::exp2(1.0 / 3.0), ++count) sum += powerAt(hz);
    return sum / count;
}

} // namespace

Outcome checkPlaced(const PlacedMicrophone& m)
{
    if (const auto kind = microphoneOf(m.kind); !kind) return kind.error();
    const auto bad = [](const char* what, double value, const char* unit, const char* range) {
        return Error{ErrorCode::Usage, fmt::format("placement: {} of {:g} {} is out of range", what, value, unit),
                     range};
    };
    const auto& p = m.place;
    if (!(std::abs(p.distanceM) >= kNearestM && std::abs(p.distanceM) <= 4.0))
        return bad("a distance", 100.0 * p.distanceM, "cm", "choose 0.5 to 400 cm, with a minus behind the cabinet");
    if (!(std::abs(p.offsetM) <= 2.0)) return bad("an offset", 100.0 * p.offsetM, "cm", "choose -200 to 200 cm");
    if (!(std::abs(p.angleDeg) <= 90.0)) return bad("an angle", p.angleDeg, "degrees", "choose -90 to 90 degrees");
    if (!(m.delayMs >= 0.0 && m.delayMs <= 100.0)) return bad("a delay", m.delayMs, "ms", "choose 0 to 100 ms");
    if (!(std::abs(m.gainDb) <= 40.0)) return bad("a gain", m.gainDb, "dB", "choose -40 to 40 dB");
    return Done{};
}

Result<Setting> settingOf(const CabPlan& plan)
{
    const auto cabinet = cabinetOf(plan.cabinet);
    if (!cabinet) return cabinet.error();
    return Setting{*cabinet, plan.room};
}

std::complex<double> responseAt(const Setting& setting, const Microphone& m, const MicrophonePlace& place, double hz)
{
    const auto [at, axis] = geometry(setting, place);
    return heard(setting, m, at, axis, hz) * dbToAmplitude(curveDb(m.curve, hz));
}

double travelM(const Setting& setting, const MicrophonePlace& p)
{
    const Cabinet& c = setting.cabinet;
    if (p.distanceM > 0.0) return std::hypot(p.distanceM, std::max(0.0, std::abs(p.offsetM) - c.cone.radiusM));
    if (c.isOpenBack) return std::hypot(p.distanceM, p.offsetM);
    return 0.5 * std::min(c.widthM, c.heightM) + c.depthM + std::abs(p.distanceM);
}

Result<Recording> placementImpulse(const Setting& setting, const PlacedMicrophone& m, int rateHz, double lengthS,
                                   const Progress& progress)
{
    if (const auto good = checkPlaced(m); !good) return good.error();
    if (!(lengthS >= 0.02 && lengthS <= 5.0))
        return Error{ErrorCode::Usage, fmt::format("placement: {:g} s is no length for an impulse", lengthS),
                     "choose 0.02 to 5 s"};
    if (rateHz < 8000 || rateHz > 192000)
        return Error{ErrorCode::Usage, fmt::format("placement: {} Hz is no rate for it", rateHz),
                     "choose 8000 to 192000 Hz"};
    const auto microphone = microphoneOf(m.kind).value();
    const auto [at, axis] = geometry(setting, m.place);
    const auto frames = std::size_t(std::llround(lengthS * rateHz));
    // What comes straight, by floor and by wall is over within 40 ms; reverberation is made apart.
    const std::size_t n = fastFftSize(std::size_t(0.085 * rateHz));
    const auto curve =
        minimumPhase([&](double hz) { return dbToAmplitude(curveDb(microphone.curve, hz)); }, rateHz, n / 4);
    RealFft fft(n);
    std::ranges::fill(fft.time(), 0.0f);
    std::ranges::copy(curve, fft.time().begin());
    fft.forward();
    const double top = std::min(0.5 * rateHz, 24000.0);
    const auto field = heardAtAll(setting, microphone, at, axis, double(rateHz) / double(n),
                                  std::size_t(top * double(n) / rateHz) + 1, progress);
    if (field.empty()) return Error{ErrorCode::Cancelled, "placement: stopped", ""};
    for (std::size_t i = 0; i < fft.spectrum().size(); ++i) {
        const double hz = double(i) * rateHz / double(n);
        // Nothing stands at 0 Hz; towards half the rate it fades, so that the end of the band does not ring.
        const double fade = 0.5 + 0.5 * std::cos(kPi * std::clamp((hz - 0.8 * top) / (0.2 * top), 0.0, 1.0));
        Complex h = i < field.size() ? field[i] : Complex(0.0);
        h *= fade * dbToAmplitude(m.gainDb) * (m.invert ? -1.0 : 1.0) / double(n) *
             std::polar(1.0, -2.0 * kPi * hz * 0.001 * m.delayMs);
        fft.spectrum()[i] *= std::complex<float>(h);
    }
    fft.inverse();
    Recording out{rateHz, AudioBuffer(1, frames)};
    const auto x = out.audio.channel(0);
    std::copy_n(fft.time().begin(), std::min(frames, n), x.begin());

    // Reverberation: noise under a falling exponential from the mean free path on, coloured as what goes out in all
    // directions, heard by the pattern's mean over them. Kuttruff, Room Acoustics, ch. 5.
    const Room& room = setting.room;
    if (const double power = reverberantPower(room); power > 0.0) {
        const double p = microphone.pressureShare, all = p * p + (1.0 - p) * (1.0 - p) / 3.0;
        const auto from = std::size_t((0.001 * m.delayMs + 0.5 * std::cbrt(room.volumeM3) / kSpeedOfSound) * rateHz);
        const double fall = std::log(1e3) / (room.reverberationS * rateHz); // of the amplitude, a frame
        std::vector<CurvePoint> sent;                                       // into the room
        for (double hz = 25.0; hz < 0.5 * rateHz; hz *= std::exp2(1.0 / 3.0))
            sent.push_back({hz, amplitudeToDb(allAround(setting.cabinet, hz))});
        const auto colour = minimumPhase(
            [&](double hz) { return dbToAmplitude(curveDb(sent, hz) + curveDb(microphone.curve, hz)); }, rateHz, 512);
        std::mt19937 random(1);
        std::normal_distribution<double> normal;
        std::vector<float> noise(frames, 0.0f);
        // The energy of the whole tail is that of the room.
        const double each = std::sqrt(power * all * 2.0 * fall) * dbToAmplitude(m.gainDb);
        for (std::size_t i = from; i < frames; ++i)
            noise[i] = float(each * normal(random) * std::exp(-fall * double(i - from)));
        const std::size_t both = fastFftSize(frames + colour.size());
        RealFft a(both), b(both);
        std::ranges::fill(a.time(), 0.0f), std::ranges::fill(b.time(), 0.0f);
        std::ranges::copy(noise, a.time().begin()), std::ranges::copy(colour, b.time().begin());
        a.forward(), b.forward();
        for (std::size_t i = 0; i < a.spectrum().size(); ++i) a.spectrum()[i] *= b.spectrum()[i] / float(both);
        a.inverse();
        for (std::size_t i = 0; i < frames; ++i) x[i] += a.time()[i] * (m.invert ? -1.0f : 1.0f);
    }
    const std::size_t last = frames / 8; // the end is no step
    for (std::size_t i = 0; i < last; ++i)
        x[frames - 1 - i] *= float(0.5 - 0.5 * std::cos(kPi * double(i) / double(last)));
    progress.at(1.0);
    return out;
}

Result<PlacementMap> placementMap(const Setting& setting, const PlacedMicrophone& m, MapLine line, double from,
                                  double to, std::size_t positions, std::size_t bands, const Progress& progress)
{
    if (const auto good = checkPlaced(m); !good) return good.error();
    const auto microphone = microphoneOf(m.kind).value();
    PlacementMap out;
    out.line = line;
    constexpr double kFromHz = 60.0, kToHz = 14000.0;
    for (std::size_t i = 0; i < bands; ++i)
        out.hz.push_back(kFromHz * std::pow(kToHz / kFromHz, double(i) / double(bands - 1)));
    // One field a frequency serves all positions.
    std::vector<SoundField> bandFields, levelFields;
    for (const double hz : out.hz) bandFields.emplace_back(setting.cabinet, setting.room, hz);
    for (double hz = 200.0; hz <= 2000.0; hz *= std::exp2(1.0 / 3.0))
        levelFields.emplace_back(setting.cabinet, setting.room, hz);
    for (std::size_t i = 0; i < positions; ++i) {
        if (progress.stopped()) return Error{ErrorCode::Cancelled, "map: stopped", ""};
        progress.at(double(i) / double(positions));
        const double part = double(i) / double(positions - 1);
        const double at = line == MapLine::Distance ? from * std::pow(to / from, part) : from + (to - from) * part;
        MicrophonePlace place = m.place;
        (line == MapLine::Offset ? place.offsetM : line == MapLine::Distance ? place.distanceM : place.angleDeg) = at;
        out.positions.push_back(at);
        const auto [stands, axis] = geometry(setting, place);
        const auto powerIn = [&](const SoundField& field) {
            const double curve = dbToPower(curveDb(microphone.curve, field.hz()));
            return curve * std::norm(heard(field, microphone, stands, axis));
        };
        double level = 0.0;
        for (const SoundField& field : levelFields) level += powerIn(field) / double(levelFields.size());
        for (const SoundField& field : bandFields)
            out.db.push_back(float(10.0 * std::log10(powerIn(field) / level + 1e-12)));
    }
    return out;
}

double soundPressureDb(const Setting& setting, const MicrophonePlace& place, double watts)
{
    const auto ear = microphoneOf("pressure").value();
    const auto powerAt = [&](double hz) {
        return std::norm(responseAt(setting, ear, place, hz)) * dbToPower(aWeightDb(hz));
    };
    // 2.83 V are 1 W into 8 ohm.
    return setting.cabinet.cone.splDb + 10.0 * std::log10(meanPower(80.0, 8000.0, powerAt) * watts);
}

Spill spillBetween(const Setting& setting, const PlacedMicrophone& m, double apartM)
{
    const auto microphone = microphoneOf(m.kind).value();
    const auto [at, axis] = geometry(setting, m.place);
    Setting dry = setting; // what the microphones hear of both amplifiers straight
    dry.room = {.floorM = 0.0, .wallM = 0.0, .reverberationS = 0.0};
    const auto level = [&](double aside) {
        return meanPower(100.0, 5000.0, [&](double hz) {
            const Place from{at.x + aside, at.y, at.z};
            return std::norm(heard(dry, microphone, from, axis, hz));
        });
    };
    const double own = level(0.0);
    const auto spillDb = [&](double apart) { return 10.0 * std::log10(level(apart) / own); };
    Spill out;
    out.spillDb = spillDb(apartM);
    out.ratio = std::hypot(apartM + at.x, at.z) / std::hypot(at.x, at.z);
    const double three = std::sqrt(std::max(0.0, 9.0 * (at.x * at.x + at.z * at.z) - at.z * at.z)) - at.x;
    out.ruleDb = spillDb(three);
    const double g = std::min(0.999, dbToAmplitude(out.spillDb));
    out.rippleDb = 20.0 * std::log10((1.0 + g) / (1.0 - g));
    constexpr double kRuleDb = -9.54; // a third of the pressure
    double low = 0.01, high = 20.0;
    for (int i = 0; i < 30; ++i) {
        const double middle = std::sqrt(low * high);
        (spillDb(middle) > kRuleDb ? low : high) = middle;
    }
    out.neededM = high;
    return out;
}

} // namespace gristle::core
