#include "core/bench/run_name.h"

#include <fmt/format.h>

#include <array>
#include <ctime>

#include "core/bench/bench.h"

namespace cruscotto {

namespace {

constexpr std::array namePieces{"bench", "title", "date", "time", "number"};

/// Calls word(name) and literal(character) in the order of the pattern; false where a brace is open or a word unknown.
template <class Word, class Literal>
bool walk(const std::string& pattern, Word&& word, Literal&& literal) {
    for (std::size_t i = 0; i < pattern.size(); ++i) {
        if (pattern[i] != '{') {
            if (!literal(pattern[i])) return false;
            continue;
        }
        const std::size_t end = pattern.find('}', i);
        if (end == std::string::npos || !word(pattern.substr(i + 1, end - i - 1))) return false;
        i = end;
    }
    return true;
}

}  // namespace

Result<void> checkRunName(const std::string& pattern) {
    std::string unknown;
    bool something = false;
    const bool fine = walk(
        pattern,
        [&](const std::string& w) {
            something = true;
            const bool known = std::find(namePieces.begin(), namePieces.end(), w) != namePieces.end();
            if (!known) unknown = w;
            return known;
        },
        [&](char c) {
            const auto u = static_cast<unsigned char>(c);
            something = something || c != '.';
            return u >= 0x80 || std::isalnum(u) || std::string_view(" -_.,+").find(c) != std::string_view::npos;
        });
    if (!unknown.empty())
        return failure("A run's name knows {0}, not {1}.", "{bench}, {title}, {date}, {time} and {number}",
                       "{" + unknown + "}");
    if (!fine || !something || pattern.front() == '.' || pattern.size() > 120)
        return failure(
            "A run's name is made of letters, digits, spaces, {0} and words such as {1}; it does not begin "
            "with a full stop.",
            "\"-_.,+\"", "{date}");
    return {};
}

std::string runName(const std::string& pattern, const RunNameParts& parts,
                    const std::function<bool(const std::string& name)>& taken) {
    const std::time_t seconds = parts.unixNs / 1'000'000'000;
    std::tm local{};
    localtime_r(&seconds, &local);
    bool numbered = false;
    const auto make = [&](int number) {
        std::string out;
        walk(
            pattern,
            [&](const std::string& w) {
                if (w == "bench") out += freshId(parts.bench, {});
                if (w == "title") out += parts.title.empty() ? "run" : freshId(parts.title, {});
                if (w == "date")
                    out += fmt::format("{:04}{:02}{:02}", local.tm_year + 1900, local.tm_mon + 1, local.tm_mday);
                if (w == "time") out += fmt::format("{:02}{:02}{:02}", local.tm_hour, local.tm_min, local.tm_sec);
                if (w == "number") {
                    numbered = true;
                    out += fmt::format("{:03}", number);
                }
                return true;
            },
            [&](char c) {
                out += c;
                return true;
            });
        if (!numbered && number > 1) out += fmt::format("-{}", number);
        return out + ".run";
    };
    int number = 1;
    while (taken(make(number))) ++number;
    return make(number);
}

std::string partName(const std::string& path, int part) {
    const bool run = path.ends_with(".run");
    return fmt::format("{}.part{}{}", run ? path.substr(0, path.size() - 4) : path, part, run ? ".run" : "");
}

}  // namespace cruscotto
