#include "core/advice/level_transfer.h"

#include "core/units/decibels.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kNothingDb = -60.0;

double rounded(double db) { return std::round(db * 10.0) / 10.0; }

double powerOf(const Octaves& db)
{
    double out = 0.0;
    for (const double v : db) out += std::pow(10.0, v / 10.0);
    return out;
}

} // namespace

double LevelTransfer::mostPickupDb() const
{
    double out = 0.0;
    if (pickupDb)
        for (const double v : *pickupDb)
            if (std::abs(v) > std::abs(out)) out = v;
    return std::abs(out);
}

LevelTransfer levelTransfer(const DiStamp& was, const DiStamp& now)
{
    LevelTransfer out;
    out.trimDb = was.averageDbfs + was.calibration.dbuAtFullScale - now.averageDbfs - now.calibration.dbuAtFullScale;
    out.assumed = was.calibration.assumed || now.calibration.assumed;
    if (!was.octavesDb || !now.octavesDb) return out;
    Octaves by{};
    const auto heard = [&](std::size_t b) {
        return (*was.octavesDb)[b] > kNothingDb && (*now.octavesDb)[b] > kNothingDb;
    };
    for (std::size_t b = 0; b < by.size(); ++b)
        if (heard(b))
            by[b] = std::clamp((*was.octavesDb)[b] - (*now.octavesDb)[b], -LevelTransfer::kMostPickupDb,
                               LevelTransfer::kMostPickupDb);
    // As loud as before.
    Octaves with = *now.octavesDb;
    for (std::size_t b = 0; b < with.size(); ++b) with[b] += by[b];
    const double louder = powerToDb(powerOf(with) / powerOf(*now.octavesDb));
    for (std::size_t b = 0; b < by.size(); ++b)
        if (heard(b)) by[b] = std::clamp(by[b] - louder, -LevelTransfer::kMostPickupDb, LevelTransfer::kMostPickupDb);
    out.pickupDb = by;
    return out;
}

RigNode trimStage(const LevelTransfer& transfer)
{
    RigNode node;
    node.type = "gain";
    node.values["db"] = std::clamp(rounded(transfer.trimDb), -60.0, 60.0);
    return node;
}

RigNode pickupStage(const LevelTransfer& transfer)
{
    RigNode node;
    node.type = "graphic";
    for (std::size_t b = 0; transfer.pickupDb && b < kOctaveHz.size(); ++b)
        if (const double db = rounded((*transfer.pickupDb)[b]); db != 0.0)
            node.values[fmt::format("b{:.0f}", kOctaveHz[b])] = db;
    return node;
}

} // namespace gristle::core
