#pragma once

namespace cruscotto {

/// What is asked of the kernel about a character device; tests put a made one in its place. As open(2) and ioctl(2).
struct KernelCalls {
    int (*open)(const char* path) = nullptr;
    int (*control)(int fd, unsigned long request, void* argument) = nullptr;
    /// The system's own. Where the path is a local socket (SOCK_SEQPACKET) somebody else answers in the kernel's place,
    /// so that a made device, or one of another computer, can be opened: docs/devices/computer.md says how. No answer
    /// is waited for longer than a second (errno ETIMEDOUT).
    static KernelCalls system();
};

}  // namespace cruscotto
