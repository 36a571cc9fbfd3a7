// termbits.h, not termios.h: only the kernel's own header has a rate that is not in the list of the usual ones.
#include "standins/pseudo_terminal.h"

#include <asm/termbits.h>
#include <fcntl.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <array>
#include <climits>
#include <cstdlib>
#include <vector>

namespace cruscotto {

namespace {

/// Where a link leads; empty: it is none.
std::string targetOf(const std::string& link) {
    std::array<char, PATH_MAX> target{};
    const ssize_t n = readlink(link.c_str(), target.data(), target.size());
    return n > 0 ? std::string(target.data(), static_cast<std::size_t>(n)) : std::string();
}

/// Bytes pass as they are: no echo, no lines, no characters that mean something (POSIX.1, 11).
bool setRaw(int fd) {
    termios2 t{};
    if (ioctl(fd, TCGETS2, &t) != 0) return false;
    t.c_iflag = 0;
    t.c_oflag = 0;
    t.c_lflag = 0;
    t.c_cflag = (t.c_cflag & ~static_cast<tcflag_t>(CSIZE | PARENB)) | CS8;
    t.c_cc[VMIN] = 1;
    t.c_cc[VTIME] = 0;
    return ioctl(fd, TCSETS2, &t) == 0;
}

}  // namespace

Result<PseudoTerminal> openPseudoTerminal(const std::string& link) {
    const int master = posix_openpt(O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    const auto wrong = [&](Error problem) {
        if (master >= 0) ::close(master);
        return problem;
    };
    std::array<char, 256> name{};
    if (master < 0 || grantpt(master) != 0 || unlockpt(master) != 0 || ptsname_r(master, name.data(), name.size()) != 0)
        return wrong(failure("This system gives no pseudo terminal; the device cannot be simulated."));
    const std::string path = name.data();
    // Opened and closed once: from then on the kernel tells whether somebody listens.
    const int slave = ::open(path.c_str(), O_RDWR | O_NOCTTY | O_CLOEXEC);
    const bool raw = slave >= 0 && setRaw(slave);
    if (slave >= 0) ::close(slave);
    if (!raw) return wrong(failure("{0} cannot be set up.", path));
    if (!link.empty()) {
        if (targetOf(link).starts_with("/dev/pts/")) unlink(link.c_str());
        if (symlink(path.c_str(), link.c_str()) != 0)
            return wrong(failure("The link {0} cannot be made. Is there something of that name already?", link));
    }
    return PseudoTerminal{master, path};
}

void removeLink(const std::string& link, const std::string& path) {
    if (!link.empty() && !path.empty() && targetOf(link) == path) unlink(link.c_str());
}

unsigned listenersSpeed(int master) {
    termios2 t{};
    return ioctl(master, TCGETS2, &t) == 0 ? t.c_ospeed : 0;
}

std::string heardAt(const std::string& sent, unsigned ours, unsigned theirs) {
    std::vector<bool> level(2, true);  // the line rests high
    for (const char c : sent) {
        level.push_back(false);
        for (unsigned bit = 0; bit < 8; ++bit) level.push_back(static_cast<unsigned char>(c) >> bit & 1U);
        level.push_back(true);
    }
    level.insert(level.end(), 2, true);
    const double end = static_cast<double>(level.size());
    const double theirBit = static_cast<double>(ours) / theirs;  // in bits of ours
    const auto at = [&](double t) { return t >= end || level[static_cast<std::size_t>(t)]; };
    std::string heard;
    for (double t = 0; t < end;) {
        if (at(t)) {
            t = static_cast<double>(static_cast<std::size_t>(t) + 1);  // edges lie between bits of ours
            continue;
        }
        unsigned byte = 0;
        for (unsigned bit = 0; bit < 8; ++bit) byte |= static_cast<unsigned>(at(t + theirBit * (1.5 + bit))) << bit;
        heard += static_cast<char>(byte);
        t += theirBit * 9.5;  // in the middle of the stop bit it looks for the next edge
        while (t < end && !at(t))
            t = static_cast<double>(static_cast<std::size_t>(t) + 1);  // a break, or a wrong stop bit
    }
    return heard;
}

}  // namespace cruscotto
