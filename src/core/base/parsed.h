#pragma once

#include <charconv>
#include <concepts>
#include <string_view>

namespace cruscotto {

/// Whether the whole of the text is such a number, in digits of the base; `out` is unspecified if not. No blanks, no
/// plus sign; numbers that T cannot hold are none.
template <std::integral T>
bool parsed(std::string_view text, T& out, int base = 10) {
    const char* end = text.data() + text.size();
    const auto [rest, error] = std::from_chars(text.data(), end, out, base);
    return error == std::errc{} && rest == end;
}

template <std::floating_point T>
bool parsed(std::string_view text, T& out) {
    const char* end = text.data() + text.size();
    const auto [rest, error] = std::from_chars(text.data(), end, out);
    return error == std::errc{} && rest == end;
}

}  // namespace cruscotto
