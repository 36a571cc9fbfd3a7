#include "devices/scpi/scpi_text.h"

#include <algorithm>
#include <array>
#include <bit>
#include <charconv>
#include <cmath>
#include <utility>

#include "core/base/parsed.h"
#include "core/base/text.h"

namespace cruscotto {

namespace {

using Sample = ScpiQuery::Sample;
constexpr std::array<std::pair<const char*, Sample>, 7> samples{{{"u8", Sample::u8},
                                                                 {"i8", Sample::i8},
                                                                 {"u16", Sample::u16},
                                                                 {"i16", Sample::i16},
                                                                 {"i32", Sample::i32},
                                                                 {"f32", Sample::f32},
                                                                 {"f64", Sample::f64}}};
constexpr std::size_t mostParts = 256;

std::string_view trimmed(std::string_view s) {
    const std::size_t a = s.find_first_not_of(" \t\r");
    if (a == std::string_view::npos) return {};
    return s.substr(a, s.find_last_not_of(" \t\r") - a + 1);
}

/// "101:104,106" (SCPI-99, 8.3.2); empty where it is none.
std::vector<std::string> channelList(std::string_view list) {
    std::vector<std::string> out;
    while (true) {
        const std::size_t comma = list.find(',');
        const std::string_view entry = trimmed(list.substr(0, comma));
        const std::size_t colon = entry.find(':');
        int from = 0, to = 0;
        if (!parsed(trimmed(entry.substr(0, colon)), from)) return {};
        to = from;
        if (colon != std::string_view::npos && !parsed(trimmed(entry.substr(colon + 1)), to)) return {};
        const int step = to >= from ? 1 : -1;
        for (int n = from;; n += step) {
            if (out.size() >= mostParts) return {};
            out.push_back(std::to_string(n));
            if (n == to) break;
        }
        if (comma == std::string_view::npos) return out;
        list.remove_prefix(comma + 1);
    }
}

}  // namespace

std::vector<std::string> ScpiQuery::terminals() const {
    std::vector<std::string> out;
    for (const std::string& part : parts) out.push_back(part.empty() ? name : name + "." + part);
    return out;
}

Result<ScpiQuery> scpiQuery(const std::string& name, std::string_view words) {
    ScpiQuery q;
    q.name = name;
    std::vector<std::string_view> options;
    // The options stand behind the query; a query has its question mark before them.
    const std::size_t mark = words.find('?');
    if (mark == std::string_view::npos)
        return failure("{0}: what is asked needs a question mark, as in MEAS:VOLT? or READ? (@101:104).", name);
    std::size_t end = mark + 1;
    std::string_view rest = words.substr(end);
    static constexpr std::array<const char*, 4> known{"every", "list", "block", "step"};
    std::size_t cut = rest.size();
    for (const char* word : known)
        if (const std::size_t at = rest.find(std::string(" ") + word); at != std::string_view::npos)
            cut = std::min(cut, at);
    q.text = std::string(trimmed(words.substr(0, end + cut)));
    rest = rest.substr(cut);
    while (!(rest = trimmed(rest)).empty()) {
        const std::size_t space = std::min(rest.find(' '), rest.size());
        options.push_back(rest.substr(0, space));
        rest.remove_prefix(space);
    }
    if (q.text.find_first_of("\r\n") != std::string::npos || q.text.size() > 1000)
        return failure("{0}: a query is one line of at most 1000 characters.", name);
    if (const std::size_t list = q.text.find("(@"); list != std::string::npos && list > mark) {
        const std::size_t close = q.text.find(')', list);
        q.parts = close == std::string::npos ? std::vector<std::string>{}
                                             : channelList(std::string_view(q.text).substr(list + 2, close - list - 2));
        if (q.parts.empty())
            return failure(
                "{0}: the channel list is not understood; it is written (@101:104,106), at most 256 channels.", name);
    }
    for (std::size_t i = 0; i < options.size(); i += 2) {  // a word and what it takes
        const std::string_view next = i + 1 < options.size() ? options[i + 1] : std::string_view{};
        if (options[i] == "every") {
            if (!parsed(next, q.everySeconds) || !(q.everySeconds >= 0.001 && q.everySeconds <= 86400))
                return failure("{0}: \"every\" takes seconds, 0.001 to 86400.", name);
        } else if (options[i] == "list") {
            int n = 0;
            if (!parsed(next, n) || n < 1 || n > static_cast<int>(mostParts))
                return failure("{0}: \"list\" takes how many values come, 1 to 256.", name);
            q.parts.clear();
            for (int k = 1; k <= n; ++k) q.parts.push_back(std::to_string(k));
        } else if (options[i] == "step") {
            if (!parsed(next, q.stepSeconds) || !(q.stepSeconds > 0 && q.stepSeconds <= 3600))
                return failure("{0}: \"step\" takes the seconds between two samples.", name);
        } else if (options[i] == "block") {
            q.answer = ScpiQuery::Answer::block;
            std::string_view type = next;
            if (type.ends_with("be")) {
                q.littleEndian = false;
                type.remove_suffix(2);
            } else if (type.ends_with("le")) {
                type.remove_suffix(2);
            }
            const auto it = std::ranges::find_if(samples, [&](const auto& s) { return type == s.first; });
            if (it == samples.end())
                return failure(
                    "{0}: \"block\" takes what a sample is: u8, i8, u16, i16, i32, f32 or f64, with be for the most "
                    "significant byte first.",
                    name);
            q.sample = it->second;
        } else {
            return failure(
                "{0}: \"{1}\" is not understood. Behind the query may stand: every SECONDS, list COUNT, block TYPE "
                "step SECONDS.",
                name, std::string(options[i]));
        }
    }
    if (q.answer == ScpiQuery::Answer::block && q.stepSeconds == 0)
        return failure("{0}: a block needs the time between its samples, as in block i16 step 1e-6.", name);
    if (q.answer == ScpiQuery::Answer::block) q.parts = {""};
    return q;
}

Result<std::vector<ScpiNumber>> scpiNumbers(std::string_view answer) {
    std::vector<ScpiNumber> out;
    while (true) {
        const std::size_t comma = answer.find(',');
        std::string_view word = trimmed(answer.substr(0, comma));
        if (word.starts_with('+')) word.remove_prefix(1);
        double value = 0;
        const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value);
        std::string_view unit(end, static_cast<std::size_t>(word.data() + word.size() - end));
        if (error != std::errc{} || word.empty() || !std::isfinite(value) ||
            unit.find_first_of("0123456789+-.") != std::string_view::npos)
            return failure("\"{0}\" is no number", std::string(word.substr(0, 40)));
        if (std::fabs(value) == 9.91e37)
            out.push_back({std::nan(""), Quality::outOfRange});
        else
            out.push_back({value, std::fabs(value) >= 9.9e37 ? Quality::clipped : Quality::good});
        if (comma == std::string_view::npos) return out;
        if (out.size() >= 4096) return failure("more than 4096 numbers");
        answer.remove_prefix(comma + 1);
    }
}

void ScpiAnswers::reset() {
    held_.clear();
    looked_ = 0;
    skipping_ = false;
}

void ScpiAnswers::feed(std::string_view bytes, std::vector<Piece>& out) {
    held_ += bytes;
    const auto refuse = [&](const char* problem) {
        out.push_back({held_.substr(0, 200), {}, false, problem});
        held_.clear();
        looked_ = 0;
    };
    while (!held_.empty()) {
        if (skipping_) {
            const std::size_t end = held_.find(end_);
            if (end == std::string::npos) {
                held_.clear();
                return;
            }
            held_.erase(0, end + 1);
            skipping_ = false;
            continue;
        }
        if (held_[0] == '#') {
            if (held_.size() < 2) return;
            const int digits = held_[1] - '0';
            if (digits >= 1 && digits <= 9) {
                if (held_.size() < 2 + static_cast<std::size_t>(digits)) return;
                std::size_t length = 0;
                if (!parsed(std::string_view(held_).substr(2, static_cast<std::size_t>(digits)), length)) {
                    refuse("a block whose length is no number");
                    skipping_ = true;
                    return;
                }
                if (length > longestBlock) {
                    refuse("a block longer than 16 MiB");
                    skipping_ = true;
                    return;
                }
                const std::size_t whole = 2 + static_cast<std::size_t>(digits) + length;
                if (held_.size() < whole + 1) return;
                std::size_t behind = whole;
                if (held_[behind] == '\r' && held_.size() > behind + 1) ++behind;
                if (held_[behind] == '\r') return;
                if (held_[behind] != end_) {
                    refuse("a block that does not end where its length says");
                    skipping_ = true;
                    return;
                }
                out.push_back({held_.substr(0, behind + 1), held_.substr(2 + static_cast<std::size_t>(digits), length),
                               true, nullptr});
                held_.erase(0, behind + 1);
                looked_ = 0;
                continue;
            }
        }
        const std::size_t end = held_.find(end_, looked_);
        if (end == std::string::npos) {
            looked_ = held_.size();
            if (held_.size() > longestLine) {
                refuse("a line longer than 65536 characters");
                skipping_ = true;
            }
            return;
        }
        std::string line(trimmed(std::string_view(held_).substr(0, end)));
        out.push_back({held_.substr(0, end + 1), std::move(line), false, nullptr});
        held_.erase(0, end + 1);
        looked_ = 0;
    }
}

std::vector<std::string> scpiEntries(const std::string& answer, std::size_t most) {
    std::vector<std::string> out(1);
    bool quoted = false;
    for (const char c : answer) {
        if (c == '"' || c == '\'') {
            quoted = !quoted;
        } else if (c == ',' && !quoted) {
            if (out.size() == most) break;
            out.emplace_back();
        } else if (c >= 32 && c < 127) {
            out.back() += c;
        }
    }
    for (std::string& entry : out) {
        entry.erase(0, std::min(entry.find_first_not_of(' '), entry.size()));
        entry.erase(entry.find_last_not_of(' ') + 1);
    }
    return out;
}

std::vector<double> scpiSamples(const ScpiQuery& q, std::string_view bytes) {
    const auto size = [&]() -> std::size_t {
        switch (q.sample) {
            case Sample::u8:
            case Sample::i8:
                return 1;
            case Sample::u16:
            case Sample::i16:
                return 2;
            case Sample::i32:
            case Sample::f32:
                return 4;
            case Sample::f64:
                return 8;
        }
        return 1;
    }();
    std::vector<double> out;
    out.reserve(bytes.size() / size);
    for (std::size_t at = 0; at + size <= bytes.size(); at += size) {
        std::uint64_t bits = 0;
        for (std::size_t i = 0; i < size; ++i)
            bits = bits << 8 | static_cast<std::uint8_t>(bytes[at + (q.littleEndian ? size - 1 - i : i)]);
        switch (q.sample) {
            case Sample::u8:
            case Sample::u16:
                out.push_back(static_cast<double>(bits));
                break;
            case Sample::i8:
                out.push_back(static_cast<std::int8_t>(bits));
                break;
            case Sample::i16:
                out.push_back(static_cast<std::int16_t>(bits));
                break;
            case Sample::i32:
                out.push_back(static_cast<std::int32_t>(bits));
                break;
            case Sample::f32:
                out.push_back(std::bit_cast<float>(static_cast<std::uint32_t>(bits)));
                break;
            case Sample::f64:
                out.push_back(std::bit_cast<double>(bits));
                break;
        }
    }
    return out;
}

}  // namespace cruscotto
