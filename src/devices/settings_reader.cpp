#include "devices/settings_reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/base/json_text.h"
#include "core/base/number_text.h"

namespace cruscotto {

namespace {

std::string plain(double v) {
    char buffer[longestNumber];
    return {buffer, writeShortest(buffer, v)};
}

}  // namespace

std::string pairName(std::string called) {
    std::ranges::replace_if(
        called, [](unsigned char c) { return c <= ' ' || c == '=' || c == 127; }, '-');
    return called;
}

nlohmann::ordered_json pairsFromLines(const std::string& lines) {
    const auto trimmed = [](std::string_view s) {
        const std::size_t from = s.find_first_not_of(" \t\r"), to = s.find_last_not_of(" \t\r");
        return std::string(from == s.npos ? std::string_view() : s.substr(from, to - from + 1));
    };
    auto out = nlohmann::ordered_json::object();
    for (std::size_t at = 0; at <= lines.size();) {
        const std::size_t end = std::min(lines.find('\n', at), lines.size());
        const std::string_view line = std::string_view(lines).substr(at, end - at);
        const std::size_t equals = std::min(line.find('='), line.size());
        if (std::string name = trimmed(line.substr(0, equals)); !name.empty())
            out[name] = trimmed(line.substr(std::min(equals + 1, line.size())));
        at = end + 1;
    }
    return out;
}

SettingsReader::SettingsReader(const JsonText& settings) : json_(parseJson(settings.empty() ? "{}" : settings)) {
    if (json_.is_object()) return;
    json_ = nlohmann::json::object();
    fail(failure("A device's settings must be an object in braces."));
}

const nlohmann::json* SettingsReader::find(const char* key) const {
    const auto it = json_.find(key);
    return it == json_.end() ? nullptr : &*it;
}

std::string SettingsReader::word(const char* key, const char* otherwise) {
    const auto* v = find(key);
    if (!v) return otherwise;
    if (v->is_string()) return v->get<std::string>();
    fail(failure("\"{0}\" must be a text in quotes.", key));
    return otherwise;
}

double SettingsReader::number(const char* key, double otherwise, double least, double most) {
    const auto* v = find(key);
    if (!v) return otherwise;
    if (v->is_number() && v->get<double>() >= least && v->get<double>() <= most) return v->get<double>();
    fail(failure("\"{0}\" must be {1} to {2}.", key, plain(least), plain(most)));
    return otherwise;
}

int SettingsReader::whole(const char* key, int otherwise, int least, int most) {
    const auto* v = find(key);
    if (!v) return otherwise;
    if (v->is_number()) {
        const auto n = v->get<double>();
        if (n >= least && n <= most && n == std::floor(n)) return static_cast<int>(n);
    }
    fail(failure("\"{0}\" must be a whole number from {1} to {2}.", key, least, most));
    return otherwise;
}

int SettingsReader::oneOf(const char* key, int otherwise, std::initializer_list<int> all) {
    const auto* v = find(key);
    if (!v) return otherwise;
    for (const int n : all)
        if (v->is_number() && v->get<double>() == n) return n;
    fail(failure("\"{0}\" must be one of: {1}.", key, fmt::format("{}", fmt::join(all, ", "))));
    return otherwise;
}

std::size_t SettingsReader::choice(const char* key, std::size_t otherwise, std::initializer_list<const char*> words) {
    const auto* v = find(key);
    if (!v) return otherwise;
    const auto* it = v->is_string() ? std::ranges::find(words, v->get<std::string>()) : words.end();
    if (it != words.end()) return static_cast<std::size_t>(it - words.begin());
    fail(failure("\"{0}\" must be one of: {1}.", key, fmt::format("{}", fmt::join(words, ", "))));
    return otherwise;
}

bool SettingsReader::flag(const char* key) {
    const auto* v = find(key);
    return v && (*v == true || *v == "true");
}

std::map<std::string, std::string> SettingsReader::pairs(const char* key, std::size_t most) {
    std::map<std::string, std::string> out;
    const auto* v = find(key);
    if (!v) return out;
    if (!v->is_object() || v->size() > most) {
        fail(failure("\"{0}\" must be an object in braces: a name and a text for each, at most {1} of them.", key,
                     most));
        return out;
    }
    for (const auto& [name, words] : v->items()) {
        if (words.is_string() && !name.empty())
            out[name] = words.get<std::string>();
        else
            fail(failure("Each of \"{0}\" needs a name, and a text in quotes.", key));
    }
    return out;
}

void SettingsReader::fail(Error error) {
    if (!error_) error_ = std::move(error);
}

Result<void> SettingsReader::result() const {
    if (error_) return *error_;
    return {};
}

}  // namespace cruscotto
