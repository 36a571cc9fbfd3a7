#include "devices/link/access.h"

#include <grp.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <filesystem>

#include "devices/kernel_file.h"

namespace cruscotto {

namespace fs = std::filesystem;

namespace {

/// The group that may use it; empty where that is root's.
std::string groupOf(const std::string& path) {
    struct stat found {};
    if (::stat(path.c_str(), &found) != 0) return {};
    group of{};
    group* g = nullptr;
    std::array<char, 16384> room;
    if (getgrgid_r(found.st_gid, &of, room.data(), room.size(), &g) != 0 || !g || g->gr_gid == 0) return {};
    return g->gr_name;
}

}  // namespace

Text permissionSentence(const std::string& port) {
    const std::string owner = groupOf(port);
    return text(CRUSCOTTO_TEXT("You may not open {0}. Run: sudo usermod -aG {1} $USER  and log in again."), port,
                owner.empty() ? "dialout" : owner);
}

Text kernelPermissionSentence(const std::string& device) {
    if (const std::string owner = groupOf(device); !owner.empty())
        return text(CRUSCOTTO_TEXT("You may not open {0}. Run: sudo usermod -aG {1} $USER  and log in again."), device,
                    owner);
    return text(CRUSCOTTO_TEXT("You may not open {0}. Run: sudo chown $USER {0}  or, to last longer than to "
                               "the next start, have a udev rule do that."),
                device);
}

std::string holderOf(const std::string& path) {
    std::error_code ec;
    const fs::path wanted = fs::canonical(path, ec);
    if (ec) return {};
    const std::string self = std::to_string(getpid());
    for (const fs::path& process : entriesOf("/proc", 100'000)) {
        const std::string number = process.filename();
        if (number.find_first_not_of("0123456789") != std::string::npos || number == self) continue;
        std::error_code ignored;  // processes come and go, and not all may be looked into
        for (const fs::path& fd : entriesOf(process / "fd", 100'000))
            if (fs::read_symlink(fd, ignored) == wanted) return kernelLine(process / "comm") + " (" + number + ")";
    }
    return {};
}

}  // namespace cruscotto
