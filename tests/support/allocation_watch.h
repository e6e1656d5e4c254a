#pragma once

namespace gristle::test {

/// Counts what the calling thread allocates, gives back and locks while the watch lives. Needs
/// support/allocation_watch.cpp in the program, which stands in for operator new, plain and aligned, for malloc and its
/// kin (not under the sanitizers, whose they are) and for pthread_mutex_lock.
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
