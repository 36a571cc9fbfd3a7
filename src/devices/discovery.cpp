#include "devices/discovery.h"

#include <grp.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <map>

namespace cruscotto {

namespace fs = std::filesystem;

namespace {

std::string firstLine(const fs::path& path) {
    std::ifstream file(path);
    std::string line;
    std::getline(file, line);
    return line.substr(0, 200);
}

}  // namespace

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

Text permissionSentence(const std::string& port) {
    struct stat found {};
    std::string owner = "dialout";
    if (::stat(port.c_str(), &found) == 0)
        if (const group* g = getgrgid(found.st_gid); g && g->gr_gid != 0) owner = g->gr_name;
    return text(CRUSCOTTO_TEXT("You may not open {0}. Run: sudo usermod -aG {1} $USER  and log in again."), port,
                owner);
}

std::string holderOf(const std::string& path) {
    std::error_code ec;
    const fs::path wanted = fs::canonical(path, ec);
    if (ec) return {};
    const std::string self = std::to_string(getpid());
    for (const auto& process : fs::directory_iterator("/proc", fs::directory_options::skip_permission_denied, ec)) {
        const std::string number = process.path().filename();
        if (number.find_first_not_of("0123456789") != std::string::npos || number == self) continue;
        std::error_code ignored;  // processes come and go, and not all may be looked into
        for (const auto& fd : fs::directory_iterator(process.path() / "fd", ignored))
            if (fs::read_symlink(fd.path(), ignored) == wanted)
                return firstLine(process.path() / "comm") + " (" + number + ")";
    }
    return {};
}

std::vector<FoundPort> findSerialPorts(const std::string& root) {
    const fs::path base(root);
    std::error_code ec;
    std::map<std::string, std::string> stable;  // by today's name
    for (const auto& link : fs::directory_iterator(base / "dev/serial/by-id", ec)) {
        std::error_code ignored;
        const fs::path target = fs::read_symlink(link.path(), ignored);
        if (!target.empty()) stable[target.filename()] = (base / "dev/serial/by-id" / link.path().filename()).string();
    }
    std::vector<FoundPort> out;
    for (const auto& tty : fs::directory_iterator(base / "sys/class/tty", ec)) {
        std::error_code ignored;
        const std::string name = tty.path().filename();
        const fs::path device = fs::canonical(tty.path() / "device", ignored);
        // Consoles have no device behind them; a 16550 of type 0 is a place where one could be.
        if (ignored || firstLine(tty.path() / "type") == "0") continue;
        FoundPort port;
        port.node = (base / "dev" / name).string();
        if (!fs::exists(port.node, ignored)) continue;
        port.path = stable.contains(name) ? stable[name] : port.node;
        // What a USB device says of itself stands a few levels above its interface.
        fs::path at = device;
        for (int level = 0; level < 6 && at.has_relative_path(); ++level, at = at.parent_path()) {
            if (!fs::exists(at / "product", ignored)) continue;
            port.product = firstLine(at / "product");
            port.maker = firstLine(at / "manufacturer");
            port.serial = firstLine(at / "serial");
            break;
        }
        if (access(port.node.c_str(), R_OK | W_OK) != 0) port.problem = permissionSentence(port.node);
        out.push_back(std::move(port));
    }
    std::ranges::sort(out, {}, &FoundPort::path);
    return out;
}

}  // namespace cruscotto
