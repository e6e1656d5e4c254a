#include "core/measure/drift_watch.h"

#include "core/measure/vu.h"
#include "core/units/decibels.h"

#include <vector>

namespace gristle::core {

namespace {

constexpr double kOverS = 30.0, kFromS = 3.0;
constexpr double kPlaysWithinDb = 30.0; // as findPlaying()

} // namespace

void DriftWatch::start()
{
    played_.clear();
    driftDb_.reset();
}

void DriftWatch::look(double readingDbfs, double referenceDbfs)
{
    if (readingDbfs < referenceDbfs - kPlaysWithinDb) return;
    played_.push_back(float(dbToPower(readingDbfs)));
    if (double(played_.size()) > kOverS / intervalS_) played_.pop_front();
    if (double(played_.size()) < kFromS / intervalS_) return;
    if (const auto loud = loudReadingDbfs(std::vector<float>(played_.begin(), played_.end())))
        driftDb_ = *loud - referenceDbfs;
}

} // namespace gristle::core
