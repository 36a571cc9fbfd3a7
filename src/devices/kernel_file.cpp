#include "devices/kernel_file.h"

#include <fcntl.h>
#include <linux/openat2.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <system_error>

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

std::vector<std::filesystem::path> entriesOf(const std::filesystem::path& folder, std::size_t most) {
    std::vector<std::filesystem::path> out;
    std::error_code ec;
    for (std::filesystem::directory_iterator it(folder, ec), end; !ec && it != end && out.size() < most;
         it.increment(ec))
        out.push_back(it->path());
    std::ranges::sort(out);
    return out;
}

int writeKernelFile(const std::filesystem::path& root, const std::filesystem::path& path, const std::string& text) {
    int fd = -1;
    if (root == "/") {
        fd = open(path.c_str(), O_WRONLY | O_CLOEXEC);
    } else {
        const int base = open(root.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC);
        if (base < 0) return errno;
        open_how how{};
        how.flags = O_WRONLY | O_CLOEXEC | O_NONBLOCK;
        how.resolve = RESOLVE_IN_ROOT | RESOLVE_NO_MAGICLINKS;
        fd = static_cast<int>(syscall(SYS_openat2, base, path.lexically_relative(root).c_str(), &how, sizeof how));
        const int error = errno;
        close(base);
        errno = error;
    }
    if (fd < 0) return errno;
    const ssize_t n = write(fd, text.data(), text.size());
    const int error = n < 0 ? errno : 0;
    close(fd);
    return error;
}

}  // namespace cruscotto
