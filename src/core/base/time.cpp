#include "core/base/time.h"

#include <fmt/format.h>

#include <charconv>
#include <cstdlib>

namespace cruscotto {

std::string clockText(Duration d) {
    const char* sign = d.ns < 0 ? "-" : "";
    const std::int64_t total = std::llabs(d.ns / 1'000'000'000);
    return fmt::format("{}{:02}:{:02}:{:02}", sign, total / 3600, total / 60 % 60, total % 60);
}

std::string secondsText(std::int64_t ns) {
    const std::uint64_t magnitude = ns < 0 ? 0 - static_cast<std::uint64_t>(ns) : static_cast<std::uint64_t>(ns);
    std::string out = fmt::format("{}{}", ns < 0 ? "-" : "", magnitude / 1'000'000'000);
    if (const std::uint64_t part = magnitude % 1'000'000'000) {
        std::string digits = fmt::format("{:09}", part);
        digits.erase(digits.find_last_not_of('0') + 1);
        out += '.' + digits;
    }
    return out;
}

std::string roughText(Duration d) {
    constexpr std::int64_t second = 1'000'000'000;
    const std::int64_t s = d.ns / second + (d.ns % second) / (second / 2);
    if (s < 60) return fmt::format("{} s", s);
    if (s < 3600) return fmt::format("{} min", s / 60);
    if (s < 10 * 3600) return fmt::format("{} h {} min", s / 3600, s / 60 % 60);
    if (s < 72 * 3600) return fmt::format("{} h", s / 3600);
    if (s < 2 * 365 * 86400) return fmt::format("{} days", s / 86400);
    return fmt::format("{} years", s / (365 * 86400));
}

bool parseDuration(const std::string& text, Duration& out) {
    double number = 0;
    const char* end = text.data() + text.size();
    const auto [rest, error] = std::from_chars(text.data(), end, number);
    if (error != std::errc() || !std::isfinite(number)) return false;
    std::string_view unit(rest, static_cast<std::size_t>(end - rest));
    while (!unit.empty() && unit.front() == ' ') unit.remove_prefix(1);
    double factor = 0;
    if (unit.empty() || unit == "s") factor = 1;
    if (unit == "ms") factor = 1e-3;
    if (unit == "us") factor = 1e-6;
    if (unit == "min") factor = 60;
    if (unit == "h") factor = 3600;
    if (unit == "d") factor = 86400;
    if (factor == 0 || std::fabs(number * factor) > static_cast<double>(furthestNs) * 1e-9) return false;
    out = seconds(number * factor);
    return true;
}

}  // namespace cruscotto
