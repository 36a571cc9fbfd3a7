#pragma once

#include <algorithm>
#include <atomic>
#include <bit>
#include <cstdint>
#include <memory>

#include "core/base/zeroed_memory.h"

namespace cruscotto {

/// The last `capacity` items of an endless sequence, for one writer and any number of readers; no reader ever makes
/// the writer wait, and the writer never waits.
///
/// Invariants: items [firstKept(), written()) are readable. The writer raises `reserved_` before it overwrites the
/// oldest items and `written_` after the new ones stand. A reader takes items with at(), then asks firstKept()
/// again: what it took from an index that is still kept is whole; the rest it throws away. Item stores are release and
/// item loads acquire, so a reader that saw an overwritten item also sees the raised `reserved_`.
/// Memory is committed as it is first written.
template <class T>
class SharedRing {
    static_assert(sizeof(T) <= 8 && std::is_trivially_copyable_v<T>);

public:
    /// Precondition: capacity > 0; it is rounded up to a power of two.
    explicit SharedRing(std::size_t capacity)
        : capacity_(std::bit_ceil(capacity)),
          items_(static_cast<T*>(zeroedMemory(capacity_ * sizeof(T))), Free{capacity_ * sizeof(T)}) {}

    /// Writer only.
    void append(const T* from, std::size_t n) {
        const std::uint64_t w = written_.load(std::memory_order_relaxed);
        reserved_.store(w + n, std::memory_order_relaxed);
        // In stretches without a wrap, so that the loop has nothing to do but store.
        for (std::size_t i = 0; i < n;) {
            const std::size_t at = (w + i) & (capacity_ - 1);
            const std::size_t part = std::min(n - i, capacity_ - at);
            T* to = items_.get() + at;
            for (std::size_t k = 0; k < part; ++k)
                std::atomic_ref<T>(to[k]).store(from[i + k], std::memory_order_release);
            i += part;
        }
        written_.store(w + n, std::memory_order_release);
    }
    void append(T item) { append(&item, 1); }

    /// Any thread.
    [[nodiscard]] std::uint64_t written() const { return written_.load(std::memory_order_acquire); }
    [[nodiscard]] std::uint64_t firstKept() const {
        const std::uint64_t r = reserved_.load(std::memory_order_acquire);
        return r > capacity_ ? r - capacity_ : 0;
    }
    [[nodiscard]] T at(std::uint64_t index) const {
        return std::atomic_ref<T>(items_.get()[index & (capacity_ - 1)]).load(std::memory_order_acquire);
    }
    [[nodiscard]] std::size_t capacity() const { return capacity_; }

private:
    struct Free {
        std::size_t bytes;
        void operator()(T* p) const { freeZeroedMemory(p, bytes); }
    };
    const std::size_t capacity_;
    std::unique_ptr<T, Free> items_;
    std::atomic<std::uint64_t> reserved_{0};
    std::atomic<std::uint64_t> written_{0};
};

}  // namespace cruscotto
