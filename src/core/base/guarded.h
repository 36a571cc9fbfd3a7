#pragma once

#include <mutex>

/// Mutexes of which clang checks, when it compiles the sanitizers' build, that what they guard is touched only while
/// they are held. To other compilers the marks are nothing.
#if defined(__clang__)
#define CRUSCOTTO_THREADS(mark) __attribute__((mark))
#else
#define CRUSCOTTO_THREADS(mark)
#endif
/// Of a field: read and written only while that mutex is held.
#define GUARDED_BY(mutex) CRUSCOTTO_THREADS(guarded_by(mutex))
/// Of a function, or of a lambda that a wait calls: the mutex is held when it is called.
#define HOLDING(mutex) CRUSCOTTO_THREADS(requires_capability(mutex))

namespace cruscotto {

class CRUSCOTTO_THREADS(capability("mutex")) Mutex {
public:
    void lock() CRUSCOTTO_THREADS(acquire_capability()) { mutex_.lock(); }
    void unlock() CRUSCOTTO_THREADS(release_capability()) { mutex_.unlock(); }
    bool try_lock() CRUSCOTTO_THREADS(try_acquire_capability(true)) { return mutex_.try_lock(); }

private:
    std::mutex mutex_;
};

/// Holds a mutex to the end of the block. A std::condition_variable_any can wait on it.
class CRUSCOTTO_THREADS(scoped_lockable) Lock {
public:
    explicit Lock(Mutex& mutex) CRUSCOTTO_THREADS(acquire_capability(mutex)) : mutex_(mutex) { mutex_.lock(); }
    /// It is held already.
    Lock(Mutex& mutex, std::adopt_lock_t) CRUSCOTTO_THREADS(requires_capability(mutex)) : mutex_(mutex) {}
    ~Lock() CRUSCOTTO_THREADS(release_capability()) {
        if (held_) mutex_.unlock();
    }
    Lock(const Lock&) = delete;
    Lock& operator=(const Lock&) = delete;
    void lock() CRUSCOTTO_THREADS(acquire_capability()) {
        mutex_.lock();
        held_ = true;
    }
    void unlock() CRUSCOTTO_THREADS(release_capability()) {
        held_ = false;
        mutex_.unlock();
    }

private:
    Mutex& mutex_;
    bool held_ = true;
};

}  // namespace cruscotto
