#include "core/advice/sides_words.h"

#include <cmath>
#include <fmt/format.h>

namespace gristle::core {

namespace {

constexpr double kAlikeDb = 2.0, kMoreDb = 1.0, kBetterDb = 0.7; // heard

} // namespace

std::string sidesWords(const Complement& sides, const std::string& first, const std::string& second)
{
    const auto withMore = [&](double apartDb) { return apartDb > 0.0 ? second : first; };
    const bool isAttack = std::abs(sides.definitionApartDb) > kMoreDb, isLow = std::abs(sides.weightApartDb) > kMoreDb;
    const std::string attack = withMore(sides.definitionApartDb), low = withMore(sides.weightApartDb);
    if (isAttack && isLow && attack != low) return fmt::format("{} has more attack, {} more low end", attack, low);
    if (isAttack && isLow)
        return fmt::format("{} has more of both, attack and low end: give {} one of them, with less drive or more bass",
                           attack, attack == first ? second : first);
    if (isAttack) return fmt::format("{} has more attack; their low end is even", attack);
    if (isLow) return fmt::format("{} has more low end; their attack is even", low);
    return sides.spectrumApartDb < kAlikeDb ? "The sides sound alike"
                                            : "The sides differ in colour, not in attack or low end";
}

bool isBetterExchanged(const Complement& now, const Complement& exchanged) noexcept
{
    return exchanged.attackKeptDb > now.attackKeptDb + kBetterDb;
}

} // namespace gristle::core
