#include "support/allocation_watch.h"

#include <atomic>
#include <cstdlib>
#include <dlfcn.h>
#include <limits>
#include <new>
#include <pthread.h>

namespace {

thread_local bool watching = false;
thread_local long allocationCount = 0, lockCount = 0;

constexpr long kPlenty = std::numeric_limits<long>::max() / 2;
std::atomic<long> granted{kPlenty};

void* counted(std::size_t size)
{
    if (watching) ++allocationCount;
    if (granted.load(std::memory_order_relaxed) < kPlenty && granted.fetch_sub(1) <= 0) throw std::bad_alloc();
    if (void* p = std::malloc(size > 0 ? size : 1)) return p;
    throw std::bad_alloc();
}

} // namespace

void* operator new(std::size_t size) { return counted(size); }
void* operator new[](std::size_t size) { return counted(size); }
void* operator new(std::size_t size, const std::nothrow_t&) noexcept // as std::stable_sort asks for its room
{
    if (watching) ++allocationCount;
    return std::malloc(size > 0 ? size : 1);
}
void operator delete(void* p) noexcept { std::free(p); }
void operator delete[](void* p) noexcept { std::free(p); }
void operator delete(void* p, std::size_t) noexcept { std::free(p); }
void operator delete[](void* p, std::size_t) noexcept { std::free(p); }

#if !defined(__SANITIZE_THREAD__) && !defined(__SANITIZE_ADDRESS__)
extern "C" int pthread_mutex_lock(pthread_mutex_t* mutex)
{
    using Lock = int (*)(pthread_mutex_t*);
    static const auto real = reinterpret_cast<Lock>(dlsym(RTLD_NEXT, "pthread_mutex_lock"));
    if (watching) ++lockCount;
    return real(mutex);
}
#endif

namespace gristle::test {

AllocationWatch::AllocationWatch()
{
    allocationCount = lockCount = 0;
    watching = true;
}
AllocationWatch::~AllocationWatch() { watching = false; }
MemoryRunsOut::MemoryRunsOut(long wanted) { granted = wanted; }
MemoryRunsOut::~MemoryRunsOut() { granted = kPlenty; }
long MemoryRunsOut::refused() const { return std::max(0L, -granted.load()); }

long AllocationWatch::allocations() const { return allocationCount; }
long AllocationWatch::locks() const { return lockCount; }

} // namespace gristle::test
