#include "support/allocation_watch.h"

#include <atomic>
#include <cerrno>
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

#if defined(__SANITIZE_THREAD__) || defined(__SANITIZE_ADDRESS__)
constexpr bool kSeesMalloc = false; // that is the sanitizer's
#else
constexpr bool kSeesMalloc = true;
#endif

void note()
{
    if (watching) ++allocationCount;
}

void* counted(std::size_t size)
{
    if (!kSeesMalloc) note();
    if (granted.load(std::memory_order_relaxed) < kPlenty && granted.fetch_sub(1) <= 0) throw std::bad_alloc();
    if (void* p = std::malloc(size > 0 ? size : 1)) return p;
    throw std::bad_alloc();
}

} // namespace

void* operator new(std::size_t size) { return counted(size); }
void* operator new[](std::size_t size) { return counted(size); }
void* operator new(std::size_t size, const std::nothrow_t&) noexcept // as std::stable_sort asks for its room
{
    if (!kSeesMalloc) note();
    return std::malloc(size > 0 ? size : 1);
}
void* operator new(std::size_t size, std::align_val_t alignment)
{
    if (!kSeesMalloc) note();
    const auto to = static_cast<std::size_t>(alignment);
    if (void* p = std::aligned_alloc(to, (size + to - 1) / to * to)) return p;
    throw std::bad_alloc();
}
void operator delete(void* p, std::align_val_t) noexcept { std::free(p); }
void operator delete(void* p, std::size_t, std::align_val_t) noexcept { std::free(p); }
void operator delete(void* p) noexcept { std::free(p); }
void operator delete[](void* p) noexcept { std::free(p); }
void operator delete(void* p, std::size_t) noexcept { std::free(p); }
void operator delete[](void* p, std::size_t) noexcept { std::free(p); }

#if !defined(__SANITIZE_THREAD__) && !defined(__SANITIZE_ADDRESS__)
// What C libraries ask for, too; and what is given back, which takes the same locks.
extern "C" {
void* __libc_malloc(std::size_t);
void* __libc_calloc(std::size_t, std::size_t);
void* __libc_realloc(void*, std::size_t);
void* __libc_memalign(std::size_t, std::size_t);
void __libc_free(void*);

void* malloc(std::size_t size) { return note(), __libc_malloc(size); }
void* calloc(std::size_t count, std::size_t size) { return note(), __libc_calloc(count, size); }
void* realloc(void* p, std::size_t size) { return note(), __libc_realloc(p, size); }
void* memalign(std::size_t alignment, std::size_t size) { return note(), __libc_memalign(alignment, size); }
void* aligned_alloc(std::size_t alignment, std::size_t size) { return note(), __libc_memalign(alignment, size); }
int posix_memalign(void** p, std::size_t alignment, std::size_t size)
{
    note();
    *p = __libc_memalign(alignment, size);
    return *p ? 0 : ENOMEM;
}
void free(void* p)
{
    if (p) note();
    __libc_free(p);
}
}

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
