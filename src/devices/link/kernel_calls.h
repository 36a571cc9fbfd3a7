#pragma once

namespace cruscotto {

/// What is asked of the kernel about a character device; tests put a made one in its place. As open(2) and ioctl(2).
struct KernelCalls {
    int (*open)(const char* path) = nullptr;
    int (*control)(int fd, unsigned long request, void* argument) = nullptr;
    /// The system's own.
    static KernelCalls system();
};

}  // namespace cruscotto
