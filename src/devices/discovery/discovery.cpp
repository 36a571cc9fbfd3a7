#include "devices/discovery/discovery.h"
#include "devices/kernel_file.h"
#include "devices/link/access.h"

#include <unistd.h>

#include <algorithm>
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
