#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/chain/chain.h"
#include "devices/modbus/modbus_point.h"

namespace cruscotto {

/// What a module of a rack has, as its description says: docs/devices/modbus.md has the format.
struct RackModule {
    struct ChannelInfo {
        ModbusPoint point;  ///< its name within the module, its address from where the module's table begins
        Text title;
        ChainSpec chain;  ///< raw integers to the range
    };
    struct Setting {
        ModbusPoint point;
        Text title;
        std::string unit;
        std::vector<std::pair<std::string, int>> choices;  ///< words and codes; empty: a number
        std::optional<Scale> limits;
        std::string key;  ///< what it is at a channel, as in "filter"
        std::string of;   ///< the channel whose setting it is, "*" for all of the module; empty: the module's own
        /// It is set at this channel. Precondition: both names are of a rack, or both of one module.
        [[nodiscard]] bool isOf(const std::string& channel) const;
    };
    Text title;
    std::map<ModbusTable, int> size;  ///< how many addresses it takes in each table
    std::vector<ChannelInfo> channels;
    std::vector<Setting> settings;
};

/// The module's title and, in brackets, its name, for a list of what is in a rack.
Text moduleText(const RackModule& module, const std::string& name);
/// Reads a description (JSON). The error says where it is wrong.
Result<RackModule> readRackModule(const std::string& text);
/// One that ships ("analog-in-8"), or a file, where the name has a slash.
Result<RackModule> rackModule(const std::string& name);
/// Those that ship.
std::vector<std::string> rackModuleNames();

/// The modules of a rack in their slots, each behind the one before it in every table; points are named "3.AI1".
struct Rack {
    std::vector<RackModule::ChannelInfo> channels;
    std::vector<RackModule::Setting> settings;
};
/// `slots`: a module by slot number. The error names the slot.
Result<Rack> assembleRack(const std::map<int, std::string>& slots);

}  // namespace cruscotto
