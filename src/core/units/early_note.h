#pragma once

namespace gristle::core {

/// A note may come that much before its bar line and belongs to that bar, s.
inline constexpr double kEarlyNoteS = 0.06;

} // namespace gristle::core
