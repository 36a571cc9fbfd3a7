#pragma once

#include <initializer_list>
#include <nlohmann/json.hpp>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "core/base/json_text.h"
#include "core/bench/bench.h"

/// What the readers and writers of the bench file's parts have in common.
namespace cruscotto {

/// So many problems are told of one file.
inline constexpr std::size_t mostProblems = 100;
/// Characters (bytes of UTF-8) of a name, and of what people write in sentences.
inline constexpr std::size_t longestName = 1000, longestWords = 100'000;

/// Reads the keys of one JSON object, notes what is wrong and what was not asked for.
class JsonFields {
public:
    using Json = nlohmann::ordered_json;
    JsonFields(const Json& json, std::string where, std::vector<Problem>& problems)
        : json_(json), where_(std::move(where)), problems_(problems) {
        if (!json_.is_object()) complain("", text("An object in braces is expected here, not {0}.", json_.type_name()));
    }
    void complain(const std::string& key, Text message) {
        problems_.push_back({key.empty() ? where_ : where_ + "/" + key, 0, std::move(message)});
    }
    const Json* find(const std::string& key) {
        seen_.insert(key);
        if (!json_.is_object()) return nullptr;
        const auto it = json_.find(key);
        return it == json_.end() || it->is_null() ? nullptr : &*it;
    }
    std::string string(const std::string& key, bool needed = false, std::string otherwise = {},
                       std::size_t longest = longestName) {
        const Json* v = find(key);
        if (!v) {
            if (needed) complain("", text("\"{0}\" is missing. Add it.", key));
            return otherwise;
        }
        if (!v->is_string()) {
            complain(key, text("Text in quotes is expected here, not {0}.", v->type_name()));
            return otherwise;
        }
        const auto& words = v->get_ref<const std::string&>();
        if (needed && words.empty()) complain(key, text("This must not be empty."));
        if (words.size() > longest) {
            complain(key, text("This is longer than {0} characters. Shorten it.", longest));
            return otherwise;
        }
        return words;
    }
    /// What people write about something.
    std::string words(const std::string& key) { return string(key, false, {}, longestWords); }
    std::optional<double> maybeNumber(const std::string& key) {
        const Json* v = find(key);
        if (!v) return std::nullopt;
        if (!v->is_number()) {
            complain(key, text("A number is expected here, not {0}.", v->type_name()));
            return std::nullopt;
        }
        return v->get<double>();
    }
    double number(const std::string& key, double otherwise) { return maybeNumber(key).value_or(otherwise); }
    double neededNumber(const std::string& key) {
        if (!find(key)) complain("", text("\"{0}\" is missing. Add a number.", key));
        return maybeNumber(key).value_or(0);
    }
    int integer(const std::string& key, int otherwise, int low, int high) {
        const double v = number(key, otherwise);
        if (!(v >= low && v <= high) || v != std::floor(v)) {
            complain(key, text("A whole number from {0} to {1} is expected here.", low, high));
            return otherwise;
        }
        return static_cast<int>(v);
    }
    /// False where it is missing.
    bool flag(const std::string& key) {
        const Json* v = find(key);
        if (v && !v->is_boolean()) complain(key, text("true or false is expected here, not {0}.", v->type_name()));
        return v && v->is_boolean() && v->get<bool>();
    }
    /// Calls each(value, pointer) for a list's entries; at most for `most`, and not when more is wrong than is told.
    template <class Each>
    void list(const std::string& key, std::size_t most, Each&& each) {
        const Json* v = find(key);
        if (!v) return;
        if (!v->is_array()) {
            complain(key, text("A list in brackets is expected here, not {0}.", v->type_name()));
            return;
        }
        if (v->size() > most) complain(key, text("There is room for {0} here; these are {1}.", most, v->size()));
        for (std::size_t i = 0; i < std::min(v->size(), most) && problems_.size() < mostProblems; ++i)
            each((*v)[i], where_ + "/" + key + "/" + std::to_string(i));
    }
    template <class Choice>
    Choice choice(const std::string& key, std::initializer_list<std::pair<const char*, Choice>> choices,
                  Choice otherwise) {
        const std::string word = string(key);
        if (word.empty()) return otherwise;
        std::string all;
        for (const auto& [name, value] : choices) {
            if (word == name) return value;
            all += (all.empty() ? "" : ", ") + std::string(name);
        }
        complain(key, text("\"{0}\" is not known here. Use one of: {1}.", word, all));
        return otherwise;
    }
    std::optional<Scale> scale(const std::string& key) {
        const Json* v = find(key);
        if (!v) return std::nullopt;
        JsonFields f(*v, where_ + "/" + key, problems_);
        const Scale s{f.neededNumber("low"), f.neededNumber("high")};
        if (!(s.low < s.high)) f.complain("", text("\"low\" must be less than \"high\"."));
        return s;
    }
    /// What has not been asked for, to be written back as it was.
    [[nodiscard]] JsonText rest() const {
        if (!json_.is_object()) return {};
        Json out = Json::object();
        auto& members = out.get_ref<Json::object_t&>();  // put behind one another: each of them is there once
        for (const auto& [key, v] : json_.items())
            if (!seen_.contains(key)) members.emplace_back(key, v);
        return out.empty() ? JsonText{} : jsonText(out);
    }
    [[nodiscard]] const std::string& where() const { return where_; }
    [[nodiscard]] std::vector<Problem>& problems() { return problems_; }

private:
    const Json& json_;
    std::string where_;
    std::vector<Problem>& problems_;
    std::set<std::string> seen_;
};

/// Puts what was not asked for when it was read back into what is written.
void addExtra(nlohmann::ordered_json& out, const JsonText& extra);
nlohmann::ordered_json scaleJson(const Scale& scale);

}  // namespace cruscotto
