#pragma once

#include <functional>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "core/base/text.h"
#include "core/bench/bench.h"

namespace cruscotto {

/// Something that can be chosen of a tile of one kind.
inline constexpr std::size_t mostTileSetting = 2'000'000;  ///< characters of one
struct TileSetting {
    enum class Type {
        choice,   ///< one of `choices`
        several,  ///< any of `choices`, separated by commas, in the order in which they are shown
        signal,   ///< the id of a signal; empty: none
        number,   ///< a number; empty: none
        words,    ///< a text
        picture,  ///< a picture file's bytes as base64 (RFC 4648)
        kept,     ///< what the tile itself keeps; not offered
    };
    std::string key;  ///< frozen
    Text title;
    Type type = Type::choice;
    std::string first = {};  ///< where nothing was chosen
    std::vector<std::pair<std::string, Text>> choices = {};
};
/// In the order in which they are offered.
std::span<const TileSetting> tileSettings(TileKind kind);
/// What is chosen, or what it begins with. The key must be one of the kind's.
const std::string& settingOf(const TileSpec& tile, const std::string& key);
/// The same as a number; nothing where it is none.
std::optional<double> numberOf(const TileSpec& tile, const std::string& key);
/// What is chosen of several, one by one.
std::vector<std::string> severalOf(const TileSpec& tile, const std::string& key);
/// A value of one of the kind's settings.
Result<void> checkTileSetting(TileKind kind, const std::string& key, const std::string& value);

/// A text with places for signals: "Pump at {shaft-speed}, {outlet-pressure}". What stands in braces is a signal's id
/// or tag; `read` tells what stands in its place. A brace by itself stays.
std::string filledWords(const std::string& words, const std::function<std::string(const std::string&)>& read);

}  // namespace cruscotto
