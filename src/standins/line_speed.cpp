// termbits.h, not termios.h: only the kernel's own header has a rate that is not in the list of the usual ones.
#include "standins/line_speed.h"

#include <asm/termbits.h>
#include <sys/ioctl.h>

#include <vector>

namespace cruscotto {

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
