#include "core/json_fields.h"

#include <cmath>

namespace cruscotto {

using Json = nlohmann::ordered_json;

void addExtra(Json& out, const JsonText& extra) {
    if (extra.empty()) return;
    const Json more = parseOrderedJson(extra);
    if (more.is_object())
        for (const auto& [key, v] : more.items()) out[key] = v;
}

Json scaleJson(const Scale& s) {
    return Json{{"low", s.low}, {"high", s.high}};
}

}  // namespace cruscotto
