#include "devices/kernel_file.h"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <array>

namespace cruscotto {

std::string kernelLine(const std::filesystem::path& path) {
    const int fd = open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (fd < 0) return {};
    std::array<char, 256> bytes;
    const ssize_t n = read(fd, bytes.data(), bytes.size());
    close(fd);
    std::string out(bytes.data(), n > 0 ? static_cast<std::size_t>(n) : 0);
    out.erase(std::min(out.find('\n'), out.size()));
    return out;
}

}  // namespace cruscotto
