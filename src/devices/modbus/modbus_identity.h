#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "devices/device.h"

namespace cruscotto {

/// What a unit says it is: Read Device Identification (Modbus Application Protocol V1.1b3, 6.21; function 43, MEI
/// type 14). It only reads.
class ModbusIdentity {
public:
    /// The next request to send, without unit and check sum; empty: everything is known that the unit tells.
    [[nodiscard]] std::string request() const;
    /// The unit's reply to request(). An exception, or what is no such reply, ends the asking; what was understood
    /// stays.
    void take(const std::string& pdu);

    /// Maker and product, for a sentence; empty where it says neither.
    [[nodiscard]] std::string name() const;
    /// One by one. An object 0x80 + n, which is the maker's to define, is taken for the module in slot n; how racks are
    /// described: docs/devices/modbus.md.
    [[nodiscard]] std::vector<DeviceStatus::Part> parts() const;
    /// Module names by slot, where each module that the unit speaks of is one that ships; else empty, since nobody can
    /// tell where the addresses of those behind an unknown one begin.
    [[nodiscard]] std::map<int, std::string> slots() const;

private:
    int category_ = 1, from_ = 0, conformity_ = 1;
    int asked_ = 0;
    bool done_ = false;
    std::map<int, std::string> objects_;
};

}  // namespace cruscotto
