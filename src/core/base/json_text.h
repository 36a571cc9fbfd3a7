#pragma once

#include <cstddef>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>

/// From JSON's text (RFC 8259) to its tree and back, compiled in one place.
namespace cruscotto {

/// A discarded value (is_discarded(), no object) where the text is not JSON.
nlohmann::json parseJson(const std::string& text);
/// What is wrong with a text that should be JSON.
struct JsonFault {
    std::optional<std::size_t> byte;  ///< where, counted from 1; empty: it is JSON, but cannot be held
    std::string words;
};
/// More levels than any file of ours has; a text made of brackets must not exhaust the stack.
inline constexpr std::size_t deepestJson = 200;
/// The same, members in the order of the text, in time that grows with its length alone; no deeper than deepestJson.
/// Of members of one name the last one counts. With `fault`, that is set where the value is discarded.
nlohmann::ordered_json parseOrderedJson(const std::string& text, JsonFault* fault = nullptr);
/// Bytes that are not UTF-8 are replaced. `indent` below 0: on one line.
std::string jsonText(const nlohmann::json& json, int indent = -1);
std::string jsonText(const nlohmann::ordered_json& json, int indent = -1);

}  // namespace cruscotto
