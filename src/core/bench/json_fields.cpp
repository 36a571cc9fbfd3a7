#include "core/bench/json_fields.h"

#include <cmath>

namespace cruscotto {

using Json = nlohmann::ordered_json;

void addExtra(Json& out, const JsonText& extra) {
    if (extra.empty()) return;
    const Json more = parseOrderedJson(extra);
    if (!more.is_object()) return;
    std::set<std::string> there;
    for (const auto& [key, v] : out.items()) there.insert(key);
    auto& members = out.get_ref<Json::object_t&>();
    for (const auto& [key, v] : more.items())
        if (!there.contains(key)) members.emplace_back(key, v);
}

Json scaleJson(const Scale& s) {
    return Json{{"low", s.low}, {"high", s.high}};
}

}  // namespace cruscotto
