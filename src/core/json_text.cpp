#include "core/json_text.h"

#include <nlohmann/json.hpp>

namespace cruscotto {

using nlohmann::json;
using nlohmann::ordered_json;

json parseJson(const std::string& text) {
    return json::parse(text, nullptr, false);
}
ordered_json parseOrderedJson(const std::string& text, JsonFault* fault) {
    try {
        return ordered_json::parse(text);
    } catch (const ordered_json::parse_error& e) {
        if (fault) *fault = {e.byte, e.what()};
    } catch (const std::exception& e) {
        if (fault) *fault = {{}, e.what()};
    }
    return ordered_json::value_t::discarded;
}
std::string jsonText(const json& j, int indent) {
    return j.dump(indent, ' ', false, json::error_handler_t::replace);
}
std::string jsonText(const ordered_json& j, int indent) {
    return j.dump(indent, ' ', false, ordered_json::error_handler_t::replace);
}

}  // namespace cruscotto
