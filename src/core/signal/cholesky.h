#pragma once

#include <cstddef>
#include <vector>

namespace gristle::core {

/// Solves the symmetric positive system a x = b of size n in place, x into b; a row by row, of which the lower half is
/// read. False where it is singular. Source: Golub and Van Loan 2013, Matrix computations, 4.2.
bool solvePositive(std::vector<double>& a, std::vector<double>& b, std::size_t n);

} // namespace gristle::core
