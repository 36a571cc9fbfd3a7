#include "devices/iolink/master_json.h"

#include <fmt/format.h>

#include <cstdint>

namespace cruscotto {

using nlohmann::json;

std::optional<std::string> byteArray(const json& value) {
    if (!value.is_array() || value.size() > 1024) return std::nullopt;
    std::string out;
    for (const json& b : value) {
        if (!b.is_number_integer() || b.get<std::int64_t>() < 0 || b.get<std::int64_t>() > 255) return std::nullopt;
        out += static_cast<char>(b.get<int>());
    }
    return out;
}
json arrayOf(std::string_view bytes) {
    json out = json::array();
    for (const char c : bytes) out.push_back(static_cast<std::uint8_t>(c));
    return out;
}

const json& within(const json& j, std::initializer_list<const char*> path) {
    static const json none;
    const json* at = &j;
    for (const char* key : path) {
        if (!at->is_object()) return none;
        const auto it = at->find(key);
        if (it == at->end()) return none;
        at = &*it;
    }
    return *at;
}

std::string escapedPath(const std::string& alias) {
    std::string out;
    for (const char c : alias) {
        const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' ||
                           c == '_' || c == '.';
        out += plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<std::uint8_t>(c));
    }
    return out;
}

}  // namespace cruscotto
