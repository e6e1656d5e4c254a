#pragma once

#include <atomic>
#include <cstddef>
#include <vector>

namespace gristle::engine {

/// A ring for one writer and one reader. A full ring drops what is pushed and counts it.
template<typename T> class SpscRing {
public:
    explicit SpscRing(std::size_t capacity) : items_(capacity + 1) {}
    bool push(const T& item) noexcept
    {
        const std::size_t at = write_.load(std::memory_order_relaxed);
        const std::size_t next = at + 1 == items_.size() ? 0 : at + 1;
        if (next == read_.load(std::memory_order_acquire)) {
            dropped_.fetch_add(1, std::memory_order_relaxed);
            return false;
        }
        items_[at] = item;
        write_.store(next, std::memory_order_release);
        return true;
    }
    bool pop(T& item) noexcept
    {
        const std::size_t at = read_.load(std::memory_order_relaxed);
        if (at == write_.load(std::memory_order_acquire)) return false;
        item = items_[at];
        read_.store(at + 1 == items_.size() ? 0 : at + 1, std::memory_order_release);
        return true;
    }
    std::size_t dropped() const noexcept { return dropped_.load(std::memory_order_relaxed); }

private:
    std::vector<T> items_;
    std::atomic<std::size_t> write_{0}, read_{0}, dropped_{0};
};

} // namespace gristle::engine
