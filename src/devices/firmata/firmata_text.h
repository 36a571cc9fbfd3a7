#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/result.h"

namespace cruscotto {

/// The Firmata protocol, 2.5: MIDI's framing, with commands of three bytes and "sysex" messages between F0 and F7.
namespace firmata {

enum Mode : std::uint8_t { input = 0, output = 1, analog = 2, pwm = 3, servo = 4, i2c = 6, pullUp = 11 };

/// What can be asked of a pin: "A0" (an analog input by its channel), "D7", "D7 pull-up", "D7 out", "D9 pwm", "D10
/// servo"; or a register of a device on the board's I2C bus: "i2c 0x48 reg 0 i16be" (u8, i8, u16, i16 with le or be).
struct Terminal {
    std::string name;
    Mode mode = input;
    int number = 0;  ///< the analog channel, or the pin
    int address = 0, reg = 0, bytes = 1;
    bool isSigned = false, bigEndian = true;
    [[nodiscard]] bool out() const { return mode == output || mode == pwm || mode == servo; }
};
std::optional<Terminal> terminal(const std::string& name);

struct Message {
    enum class What { analog, digital, version, sysex, nonsense } what = What::nonsense;
    int number = 0;     ///< analog: the channel; digital: the port of eight pins
    int value = 0;      ///< 14 bits
    std::string data;   ///< sysex: what stands between F0 and F7, the command first
    std::string bytes;  ///< as they came
};

/// Cuts messages out of what arrives. Holds at most 4096 bytes. Confined to one thread.
class Reader {
public:
    void feed(std::string_view bytes, std::vector<Message>& out);
    void reset() { held_.clear(); }

private:
    std::string held_;
};

/// Pairs of 7 bits to bytes; a half pair at the end is passed over.
std::string fromPairs(std::string_view data);
std::string toPairs(std::string_view bytes);
std::string sysex(std::string_view data);

/// The modes of a pin and the bits of each, from a capability response (sysex 6C), pin by pin.
std::vector<std::map<int, int>> capabilities(std::string_view data);

}  // namespace firmata
}  // namespace cruscotto
