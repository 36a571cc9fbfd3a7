#include "devices/discovery.h"
#include "devices/kernel_file.h"

#include <grp.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <fstream>
#include <map>

namespace cruscotto {

namespace fs = std::filesystem;

std::vector<std::string> findCanInterfaces(const std::string& root) {
    std::vector<std::string> out;
    std::error_code ec;
    for (std::filesystem::directory_iterator it(std::filesystem::path(root) / "sys/class/net", ec), end;
         !ec && it != end; it.increment(ec)) {
        int type = 0;
        std::ifstream(it->path() / "type") >> type;
        if (type == 280) out.push_back(it->path().filename().string());  // ARPHRD_CAN
    }
    std::ranges::sort(out);
    return out;
}

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

std::vector<FoundPort> findSerialPorts(const std::string& root) {
    const fs::path base(root);
    std::map<std::string, std::string> stable;  // by today's name
    for (const fs::path& link : entriesOf(base / "dev/serial/by-id")) {
        std::error_code ignored;
        const fs::path target = fs::read_symlink(link, ignored);
        if (!target.empty()) stable[target.filename()] = (base / "dev/serial/by-id" / link.filename()).string();
    }
    std::vector<FoundPort> out;
    for (const fs::path& tty : entriesOf(base / "sys/class/tty", 5000)) {
        std::error_code ignored;
        const std::string name = tty.filename();
        const fs::path device = fs::canonical(tty / "device", ignored);
        // Consoles have no device behind them; a 16550 of type 0 is a place where one could be.
        if (ignored || kernelLine(tty / "type") == "0") continue;
        FoundPort port;
        port.node = (base / "dev" / name).string();
        if (!fs::exists(port.node, ignored)) continue;
        port.path = stable.contains(name) ? stable[name] : port.node;
        // What a USB device says of itself stands a few levels above its interface.
        fs::path at = device;
        for (int level = 0; level < 6 && at.has_relative_path(); ++level, at = at.parent_path()) {
            if (!fs::exists(at / "product", ignored)) continue;
            port.product = kernelLine(at / "product");
            port.maker = kernelLine(at / "manufacturer");
            port.serial = kernelLine(at / "serial");
            break;
        }
        if (access(port.node.c_str(), R_OK | W_OK) != 0) port.problem = permissionSentence(port.node);
        out.push_back(std::move(port));
    }
    std::ranges::sort(out, {}, &FoundPort::path);
    return out;
}

}  // namespace cruscotto
