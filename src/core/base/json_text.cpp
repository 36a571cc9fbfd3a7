#include "core/base/json_text.h"

#include <nlohmann/json.hpp>
#include <unordered_map>

namespace cruscotto {

using nlohmann::json;
using nlohmann::ordered_json;

namespace {

/// Builds the tree, its members in the order of the text. The library's own builder searches an object's members anew
/// for each one; here they are put behind one another, and names that stand twice are found at the object's end.
class Builder : public nlohmann::json_sax<ordered_json> {
public:
    ordered_json root;
    JsonFault fault;

    bool null() override { return put(nullptr); }
    bool boolean(bool v) override { return put(v); }
    bool number_integer(number_integer_t v) override { return put(v); }
    bool number_unsigned(number_unsigned_t v) override { return put(v); }
    bool number_float(number_float_t v, const string_t&) override { return put(v); }
    bool string(string_t& v) override { return put(std::move(v)); }
    bool binary(binary_t&) override { return false; }
    bool start_object(std::size_t) override { return open(ordered_json::object()); }
    bool start_array(std::size_t) override { return open(ordered_json::array()); }
    bool key(string_t& name) override {
        members().emplace_back(std::move(name), nullptr);
        return true;
    }
    bool end_object() override {
        dropDoubles(members());
        open_.pop_back();
        return true;
    }
    bool end_array() override {
        open_.pop_back();
        return true;
    }
    bool parse_error(std::size_t byte, const std::string&, const nlohmann::detail::exception& e) override {
        // Numbers that no double holds are JSON all the same.
        fault = {e.id < 200 ? std::optional(byte) : std::nullopt, e.what()};
        return false;
    }

private:
    using Members = ordered_json::object_t;
    Members& members() { return open_.back()->get_ref<Members&>(); }

    template <class Value>
    ordered_json* place(Value&& v) {
        if (open_.empty()) return &(root = std::forward<Value>(v));
        if (open_.back()->is_array()) {
            auto& list = open_.back()->get_ref<ordered_json::array_t&>();
            return &list.emplace_back(std::forward<Value>(v));
        }
        return &(members().back().second = std::forward<Value>(v));
    }
    template <class Value>
    bool put(Value&& v) {
        place(std::forward<Value>(v));
        return true;
    }
    bool open(ordered_json empty) {
        if (open_.size() == deepestJson) {
            fault = {{}, "it is nested more than " + std::to_string(deepestJson) + " levels deep"};
            return false;
        }
        open_.push_back(place(std::move(empty)));
        return true;
    }
    /// Of members of one name the last one counts, in the place of the first.
    static void dropDoubles(Members& members) {
        if (members.size() < 2) return;
        std::unordered_map<std::string_view, Members::value_type*> first;
        bool twice = false;
        for (auto& member : members)
            if (!first.try_emplace(member.first, &member).second) twice = true;
        if (!twice) return;
        for (auto& member : members)
            if (auto* kept = first.at(member.first); kept != &member) kept->second = std::move(member.second);
        Members once;
        for (auto& member : members)
            if (first.at(member.first) == &member) once.emplace_back(member.first, std::move(member.second));
        members.swap(once);
    }
    std::vector<ordered_json*> open_;  // outermost first; a list grows only while nothing in it is open
};

}  // namespace

json parseJson(const std::string& text) {
    return json::parse(text, nullptr, false);
}
ordered_json parseOrderedJson(const std::string& text, JsonFault* fault) {
    Builder builder;
    if (ordered_json::sax_parse(text, &builder)) return std::move(builder.root);
    if (fault) *fault = builder.fault;
    return ordered_json::value_t::discarded;
}
std::string jsonText(const json& j, int indent) {
    return j.dump(indent, ' ', false, json::error_handler_t::replace);
}
std::string jsonText(const ordered_json& j, int indent) {
    return j.dump(indent, ' ', false, ordered_json::error_handler_t::replace);
}

}  // namespace cruscotto
