// What two benches and two runs' notes say differently, sentence by sentence.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/compare/difference.h"

namespace cruscotto {

namespace {

using nlohmann::json;

/// Lists whose entries have an id become objects by it, so that one more in front shifts none of the others.
json byId(const json& j) {
    if (j.is_object()) {
        json out = json::object();
        for (const auto& [key, value] : j.items())
            if (key != "id") out[key] = byId(value);
        return out;
    }
    if (!j.is_array()) return j;
    const bool named = !j.empty() && std::ranges::all_of(j, [](const json& e) {
        return e.is_object() && e.contains("id") && e["id"].is_string();
    });
    json out = named ? json::object() : json::array();
    for (const json& entry : j) {
        if (named)
            out[entry["id"].get<std::string>()] = byId(entry);
        else
            out.push_back(byId(entry));
    }
    return out;
}

std::string shortText(const json& value) {
    constexpr std::size_t most = 60;
    std::string words = value.is_string() ? value.get<std::string>() : jsonText(value);
    if (words.size() > most) {
        words.resize(most);
        while (!words.empty() && (static_cast<unsigned char>(words.back()) & 0xC0U) == 0x80U) words.pop_back();
        words += "…";
    }
    return words;
}

/// "/signals/flow/chain/1/slope" as "signals, flow, chain, 1, slope", with a list's place counted from one.
std::string placeText(const std::string& pointer) {
    std::vector<std::string> parts;
    for (json::json_pointer p(pointer); !p.empty(); p = p.parent_pointer()) parts.push_back(p.back());
    std::string out;
    constexpr std::size_t longestPlace = 9;
    for (auto part = parts.rbegin(); part != parts.rend(); ++part) {
        const bool number = !part->empty() && part->size() <= longestPlace &&
                            std::ranges::all_of(*part, [](char c) { return c >= '0' && c <= '9'; });
        out += (out.empty() ? "" : " › ") + (number ? std::to_string(std::stoul(*part) + 1) : *part);
    }
    return out;
}

constexpr std::size_t mostTold = 200;

}  // namespace

std::vector<Text> writtenDifferences(const Bench& own, const Bench& other) {
    json a = byId(parseJson(writeBench(own))), b = byId(parseJson(writeBench(other)));
    std::vector<Text> out;
    // How it is laid out on the screen measures nothing.
    const bool pages = a.value("pages", json()) != b.value("pages", json());
    for (json* j : {&a, &b})
        for (const char* key : {"pages", "recording", "window-s", "ribbon"}) j->erase(key);
    for (const json& step : json::diff(a, b)) {
        const std::string path = step.value("path", ""), op = step.value("op", "");
        const std::string place = placeText(path);
        if (out.size() == mostTold) {
            out.emplace_back(CRUSCOTTO_TEXT("and more"));
            break;
        }
        if (op == "add")
            out.push_back(text(CRUSCOTTO_TEXT("{0}: only in the other: {1}"), place, shortText(step["value"])));
        else if (op == "remove")
            out.push_back(
                text(CRUSCOTTO_TEXT("{0}: not in the other: {1}"), place, shortText(a.at(json::json_pointer(path)))));
        else
            out.push_back(text(CRUSCOTTO_TEXT("{0}: {1} → {2}"), place, shortText(a.at(json::json_pointer(path))),
                               shortText(step["value"])));
    }
    if (pages) out.emplace_back(CRUSCOTTO_TEXT("the pages are laid out differently"));
    return out;
}

std::vector<Text> writtenDifferences(const RunNotes& own, const RunNotes& other) {
    std::vector<Text> out;
    for (const auto& [key, words] : runNoteKeys)
        if (own.*words != other.*words)
            out.push_back(
                text(CRUSCOTTO_TEXT("{0}: \"{1}\" → \"{2}\""), key, shortText(own.*words), shortText(other.*words)));
    return out;
}

}  // namespace cruscotto
