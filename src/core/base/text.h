#pragma once

#include <fmt/format.h>

#include <string>
#include <vector>

/// Marks a string for translation where no Qt is at hand. The window looks it up in the context "core".
#define CRUSCOTTO_TEXT(pattern) pattern

namespace cruscotto {

/// A sentence for a person, in English, that a layer with a translator can still translate: the pattern holds
/// {0}, {1} ... where the arguments go. Core and devices speak only through this.
struct Text {
    std::string pattern;
    std::vector<std::string> arguments;

    Text() = default;
    Text(std::string plain) : pattern(std::move(plain)) {}
    Text(const char* plain) : pattern(plain) {}
    Text(std::string p, std::vector<std::string> a) : pattern(std::move(p)), arguments(std::move(a)) {}

    [[nodiscard]] bool empty() const { return pattern.empty(); }
    /// The sentence with its arguments in place.
    [[nodiscard]] std::string english() const { return fill(pattern); }
    /// The same arguments in a translated pattern. A place without an argument is left as it stands.
    [[nodiscard]] std::string fill(const std::string& translated) const {
        std::string out;
        for (std::size_t i = 0; i < translated.size(); ++i) {
            if (translated[i] == '{' && i + 2 < translated.size() && translated[i + 2] == '}') {
                const auto index = static_cast<std::size_t>(translated[i + 1] - '0');
                if (index < arguments.size()) {
                    out += arguments[index];
                    i += 2;
                    continue;
                }
            }
            out += translated[i];
        }
        return out;
    }
    bool operator==(const Text&) const = default;
};

namespace detail {
inline std::string shown(const std::string& s) {
    return s;
}
inline std::string shown(const char* s) {
    return s;
}
template <class T>
std::string shown(const T& value) {
    return fmt::format("{}", value);
}
}  // namespace detail

/// Makes a Text from a marked pattern and up to ten values. Only {0} to {9} are understood, in any order.
template <class... A>
Text text(const char* pattern, const A&... values) {
    return Text(pattern, std::vector<std::string>{detail::shown(values)...});
}

}  // namespace cruscotto
