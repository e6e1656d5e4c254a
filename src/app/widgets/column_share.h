#pragma once

#include <vector>

class QTableView;

namespace gristle::app {

/// How wide columns are where together they have `room`: each as wide as its content where that fits, and what is left
/// over shared in proportion; else the widest give way first, down to a common width. The sum is `room`.
std::vector<int> sharedWidths(const std::vector<int>& wanted, int room);

/// Shares the room of a table among its columns by what stands in them, now and whenever its size or its content
/// changes. Names that do not fit even so are cut in their middle, where they differ least.
void shareByContent(QTableView* table);

} // namespace gristle::app
