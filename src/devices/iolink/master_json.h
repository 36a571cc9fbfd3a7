#pragma once

#include <initializer_list>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <string_view>

namespace cruscotto {

/// Bytes as the master's "byteArray" has them; empty where there is none.
std::optional<std::string> byteArray(const nlohmann::json& value);
nlohmann::json arrayOf(std::string_view bytes);

/// A member of objects within objects; null where it is not there.
const nlohmann::json& within(const nlohmann::json& j, std::initializer_list<const char*> path);

/// An alias as a part of a path (RFC 3986, 2.1).
std::string escapedPath(const std::string& alias);

}  // namespace cruscotto
