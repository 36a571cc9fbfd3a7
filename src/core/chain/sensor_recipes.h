#pragma once

#include <map>
#include <string>
#include <vector>

#include "core/chain/chain.h"

namespace cruscotto {

/// The whole chain for one kind of sensor, behind what turns counts into volts, with what has to be known of it. For
/// the person who has that sensor in hand.
struct SensorRecipe {
    std::string key;
    Text title;
    std::vector<ChannelKind> kinds;  ///< of terminals
    ChainSpec stages;
    struct Asked {
        std::size_t stage;
        std::string field;
    };
    std::vector<Asked> asked;
    /// How the terminal is set up for it, where it can be: the choice by the key of the setting.
    std::map<std::string, std::string> setup = {};
};

/// All of them, in the order in which they are offered.
const std::vector<SensorRecipe>& sensorRecipes();
/// The recipe's stages as they have been filled in, behind what of the chain belongs to the terminal.
ChainSpec chainWithSensor(const ChainSpec& now, const ChainSpec& stages, ChannelKind kind);

}  // namespace cruscotto
