#pragma once

#include <cstdint>
#include <string>

/// A disk with faults, in the place of read, write, fsync and rename: in the program that it is linked into, or in one
/// that loads it first (then the environment says what: GRISTLE_FAULT_FOLDER, GRISTLE_FAULT_AT, GRISTLE_FAULT_ROOM).
/// Only files below one folder are touched.
namespace gristle::test::faulty_disk {

void below(const std::string& folder); ///< and no fault yet
/// The n-th call from now on (from 1) that reads, writes, forces to disk or renames below the folder fails with EIO; 0:
/// none does.
void failAt(std::int64_t call);
/// So many bytes more can be written below the folder, then the disk is full; -1: no end.
void leaveRoom(std::int64_t bytes);
std::int64_t calls(); ///< since failAt() or below()
bool hasFailed();     ///< since then
void off();

} // namespace gristle::test::faulty_disk
