#include "devices/link/kernel_calls.h"

#include <fcntl.h>
#include <sys/ioctl.h>

namespace cruscotto {

KernelCalls KernelCalls::system() {
    return {[](const char* path) { return ::open(path, O_RDWR | O_CLOEXEC | O_NONBLOCK); },
            [](int fd, unsigned long request, void* argument) { return ::ioctl(fd, request, argument); }};
}

}  // namespace cruscotto
