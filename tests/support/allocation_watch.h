#pragma once

namespace gristle::test {

/// Counts what the calling thread allocates and locks while the watch lives. Needs support/allocation_watch.cpp in the
/// program, which replaces operator new and interposes malloc's callers and pthread_mutex_lock.
class AllocationWatch {
public:
    AllocationWatch();
    ~AllocationWatch();
    AllocationWatch(const AllocationWatch&) = delete;
    AllocationWatch& operator=(const AllocationWatch&) = delete;
    long allocations() const;
    long locks() const;
};

/// Memory runs out: while it lives, each request of any thread after the first `granted` throws std::bad_alloc.
class MemoryRunsOut {
public:
    explicit MemoryRunsOut(long granted);
    ~MemoryRunsOut();
    MemoryRunsOut(const MemoryRunsOut&) = delete;
    MemoryRunsOut& operator=(const MemoryRunsOut&) = delete;
    long refused() const;
};

} // namespace gristle::test
