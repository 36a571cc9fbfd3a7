#include "devices/frames/frame_guess.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

namespace cruscotto {

namespace {

constexpr std::size_t leastFrames = 5, mostLength = 256, mostFrames = 400;

std::vector<std::string> cut(const FrameLayout& layout, std::string_view bytes, std::size_t& wrong) {
    FrameCutter cutter(layout);
    std::vector<FrameCutter::Piece> pieces;
    cutter.feed(bytes, pieces);
    std::vector<std::string> frames;
    for (FrameCutter::Piece& p : pieces) {
        if (p.problem.empty())
            frames.push_back(std::move(p.bytes));
        else
            ++wrong;
    }
    return frames;
}

/// Nearly all that comes makes frames: how much of it, 0 to 1.
double covers(const FrameLayout& layout, std::string_view bytes, std::vector<std::string>& frames) {
    std::size_t wrong = 0;
    frames = cut(layout, bytes, wrong);
    if (frames.size() < leastFrames) return 0;
    return static_cast<double>(frames.size()) / static_cast<double>(frames.size() + wrong);
}

/// A check sum that holds in nearly all of the frames.
std::optional<FrameLayout::Check> findCheck(const FrameLayout& layout, const std::vector<std::string>& frames) {
    if (std::ranges::adjacent_find(frames, std::not_equal_to{}) == frames.end()) return std::nullopt;
    std::vector<std::size_t> froms{0};
    if (!layout.begin.empty()) froms.push_back(layout.begin.size());
    if (layout.begin.empty() || layout.begin.size() > 1) froms.push_back(1);
    for (const auto& [kind, name] : checkSums()) {
        // A sum of one byte holds by chance in one frame of 256: several must agree.
        const std::size_t bytes = checkSumBytes(kind);
        for (const std::size_t from : froms)
            for (const bool bigEndian : {false, true}) {
                if (bytes == 1 && bigEndian) continue;
                FrameLayout tried = layout;
                tried.check = FrameLayout::Check{kind, from, bigEndian};
                std::size_t good = 0;
                for (const std::string& f : frames) {
                    if (f.size() < from + bytes + layout.end.size()) continue;
                    const std::size_t at = f.size() - layout.end.size() - bytes;
                    std::uint32_t says = 0;
                    for (std::size_t i = 0; i < bytes; ++i)
                        says = says << 8 | static_cast<std::uint8_t>(f[at + (bigEndian ? i : bytes - 1 - i)]);
                    if (checkSum(kind, std::string_view(f).substr(from, at - from)) == says) ++good;
                }
                if (good * 20 >= frames.size() * 19) return tried.check;
            }
    }
    return std::nullopt;
}

struct Candidate {
    FrameLayout layout;
    double score = 0;
};

void consider(FrameLayout layout, std::string_view bytes, double plausible, std::vector<Candidate>& out) {
    std::vector<std::string> frames;
    const double share = covers(layout, bytes, frames);
    if (share < 0.8) return;
    const bool oneLength =
        std::ranges::all_of(frames, [&](const std::string& f) { return f.size() == frames.front().size(); });
    layout.check = findCheck(layout, frames);
    if (oneLength && !layout.length && !layout.lengthField && layout.escape == FrameLayout::Escape::none)
        layout.length = frames.front().size();
    // Delimiters alone may be chance; one length, or a check sum, is not.
    if (!oneLength && !layout.check && !layout.lengthField) plausible -= 1;
    out.push_back({layout, plausible + share + (layout.check ? 2 : 0)});
}

/// Sequences of so many bytes and where they stand, most frequent first.
std::vector<std::pair<std::string, std::vector<std::size_t>>> frequent(std::string_view bytes, std::size_t n) {
    std::map<std::string, std::vector<std::size_t>> where;
    for (std::size_t i = 0; i + n <= bytes.size(); ++i) where[std::string(bytes.substr(i, n))].push_back(i);
    std::vector<std::pair<std::string, std::vector<std::size_t>>> all(where.begin(), where.end());
    std::erase_if(all, [](const auto& a) { return a.second.size() < leastFrames; });
    std::ranges::stable_sort(all, std::greater{}, [](const auto& a) { return a.second.size(); });
    if (all.size() > 16) all.resize(16);
    return all;
}

/// The distance that most of the places have to the next; 0 where fewer than four fifths agree.
std::size_t oneDistance(const std::vector<std::size_t>& places) {
    std::map<std::size_t, std::size_t> count;
    for (std::size_t i = 1; i < places.size(); ++i) ++count[places[i] - places[i - 1]];
    const auto most = std::ranges::max_element(count, {}, [](const auto& c) { return c.second; });
    return most != count.end() && most->second * 5 >= (places.size() - 1) * 4 ? most->first : 0;
}

/// Zeros and ones everywhere are what values are made of; a beginning is chosen to be seen.
double strangeness(std::string_view bytes) {
    double out = 0;
    for (const char c : bytes) out += c == '\0' || c == '\xff' ? 0 : c > 0 && c < 16 ? 0.05 : 0.1;
    return out;
}

void byBeginning(std::string_view bytes, std::size_t n, std::vector<Candidate>& out) {
    for (const auto& [begin, places] : frequent(bytes, n)) {
        FrameLayout layout;
        layout.begin = begin;
        const double plausible = strangeness(begin);
        if (const std::size_t length = oneDistance(places); length > n && length <= mostLength) {
            layout.length = length;
            consider(layout, bytes, plausible, out);
            continue;
        }
        for (std::size_t offset = n; offset < n + 3; ++offset)
            for (const std::size_t width : {std::size_t{1}, std::size_t{2}})
                for (const bool bigEndian : {false, true}) {
                    if (width == 1 && bigEndian) continue;
                    std::map<long, std::size_t> adds;
                    for (std::size_t i = 1; i < places.size(); ++i) {
                        const std::size_t at = places[i - 1] + offset;
                        if (at + width > bytes.size()) continue;
                        long says = static_cast<std::uint8_t>(bytes[at]);
                        if (width == 2) {
                            const long next = static_cast<std::uint8_t>(bytes[at + 1]);
                            says = bigEndian ? says << 8 | next : next << 8 | says;
                        }
                        ++adds[static_cast<long>(places[i] - places[i - 1]) - says];
                    }
                    const auto most = std::ranges::max_element(adds, {}, [](const auto& a) { return a.second; });
                    if (most == adds.end() || most->second * 5 < (places.size() - 1) * 4 || std::labs(most->first) > 32)
                        continue;
                    FrameLayout varying = layout;
                    varying.lengthField = {offset, width, bigEndian, static_cast<int>(most->first)};
                    consider(varying, bytes, plausible + 0.5, out);
                }
    }
}

/// 0 for the bytes of one number, about 1 for bytes that have nothing to do with each other: where the upper ones go on
/// by one, the lower ones have come round, so that the number itself hardly moves. Zero where that is never seen;
/// `unproven` counts those places.
double strangersWithin(const FrameField& field, std::span<const std::string> frames, std::size_t& unproven) {
    FrameField whole = field;
    if (whole.type == FrameField::Type::real) whole.type = FrameField::Type::unsignedWhole;
    double worst = 0;
    unproven = 0;
    for (std::size_t b = 1; b < field.bytes; ++b) {
        const double weight = std::ldexp(1.0, static_cast<int>(8 * b));
        double moved = 0, upperMoved = 0, before = std::nan("");
        std::size_t n = 0, steps = 0;
        for (const std::string& f : frames) {
            if (f.size() < field.offset + field.bytes) continue;
            const double v = whole.value(f);
            const double upper = std::fabs(std::floor(v / weight) - std::floor(before / weight));
            if (upper >= 0) {
                upperMoved += upper;
                ++steps;
            }
            if (upper == 1) {
                moved += std::fabs(v - before) / weight;
                ++n;
            }
            before = v;
        }
        // Where the upper bytes move in large steps, the lower ones tell nothing.
        if (n >= 3 && upperMoved < 0.5 * static_cast<double>(steps))
            worst = std::max(worst, std::min(1.0, moved / static_cast<double>(n)));
        else
            ++unproven;
    }
    return worst;
}

struct Judged {
    FieldGuess guess;
    std::size_t unproven = 0;
};

Judged judged(FrameField field, std::span<const std::string> frames) {
    Judged both;
    FieldGuess& out = both.guess;
    out.field = std::move(field);
    out.low = std::numeric_limits<double>::infinity();
    out.high = -out.low;
    double steps = 0, before = std::nan("");
    std::size_t n = 0;
    bool strange = false;
    for (const std::string& f : frames) {
        if (f.size() < out.field.offset + out.field.bytes) continue;
        const double v = out.field.value(f);
        if (!std::isfinite(v) || (v != 0 && (std::fabs(v) < 1e-9 || std::fabs(v) > 1e12))) {
            strange = strange || out.field.type == FrameField::Type::real;
            if (!std::isfinite(v)) continue;
        }
        if (n++ > 0) steps += std::fabs(v - before);
        before = v;
        out.low = std::min(out.low, v);
        out.high = std::max(out.high, v);
    }
    out.value = before;
    const double span = out.high - out.low;
    out.jumps = strange ? 1 : n > 1 && span > 0 ? steps / static_cast<double>(n - 1) / span : 0;
    out.jumps += 0.5 * strangersWithin(out.field, frames, both.unproven);
    // Bytes that are no real number hardly ever look like a calm one.
    if (out.field.type == FrameField::Type::real) both.unproven = 0;
    return both;
}

std::vector<FrameField> kindsOf(std::size_t offset, std::size_t length) {
    using Type = FrameField::Type;
    std::vector<FrameField> out;
    const auto add = [&](Type type, bool bigEndian) {
        FrameField f;
        f.offset = offset;
        f.bytes = length;
        f.type = type;
        f.bigEndian = bigEndian;
        out.push_back(f);
    };
    for (const bool bigEndian : {false, true}) {
        if (length == 1 && bigEndian) continue;
        add(Type::unsignedWhole, bigEndian);
        add(Type::signedWhole, bigEndian);
        if (length == 4 || length == 8) add(Type::real, bigEndian);
    }
    return out;
}

/// Calmest first.
std::vector<Judged> judgedKinds(std::span<const std::string> frames, std::size_t offset, std::size_t length) {
    std::vector<Judged> out;
    if (length < 1 || length > 8) return out;
    if (frames.size() > mostFrames) frames = frames.last(mostFrames);
    for (FrameField& field : kindsOf(offset, length)) out.push_back(judged(std::move(field), frames));
    std::erase_if(out, [](const Judged& j) { return !std::isfinite(j.guess.value); });
    // Of the same calm the one with the smaller span: a sign that is none makes it large.
    std::ranges::stable_sort(out, [](const Judged& a, const Judged& b) {
        if (std::fabs(a.guess.jumps - b.guess.jumps) > 0.02) return a.guess.jumps < b.guess.jumps;
        return a.guess.high - a.guess.low < b.guess.high - b.guess.low;
    });
    return out;
}

}  // namespace

std::vector<FrameLayout> guessLayouts(std::string_view bytes) {
    if (bytes.size() > 4096) bytes = bytes.substr(bytes.size() - 4096);
    std::vector<Candidate> all;
    for (const auto escape : {FrameLayout::Escape::cobs, FrameLayout::Escape::slip}) {
        FrameLayout layout;
        layout.escape = escape;
        consider(layout, bytes, escape == FrameLayout::Escape::cobs ? 0.6 : 0.4, all);
    }
    for (const char* end : {"\r\n", "\n", "\r"}) {
        FrameLayout layout;
        layout.end = end;
        consider(layout, bytes, 0.2, all);
    }
    byBeginning(bytes, 2, all);
    byBeginning(bytes, 1, all);
    std::ranges::stable_sort(all, std::greater{}, &Candidate::score);
    std::vector<FrameLayout> out;
    for (Candidate& c : all) {
        // A check sum that holds is no chance: beside it nothing without one is worth trying, and nothing that differs
        // only in how much of the beginning is named.
        const bool better =
            !out.empty() && (out.front().check && (!c.layout.check || c.layout.length == out.front().length));
        if (c.score >= 1 && out.size() < 3 && !better) out.push_back(std::move(c.layout));
    }
    return out;
}

std::vector<FieldGuess> guessField(std::span<const std::string> frames, std::size_t offset, std::size_t length) {
    std::vector<FieldGuess> out;
    for (Judged& j : judgedKinds(frames, offset, length)) out.push_back(std::move(j.guess));
    return out;
}

std::vector<FieldGuess> guessFields(const FrameLayout& layout, std::span<const std::string> all) {
    std::vector<std::string> frames;
    std::size_t length = 0;
    for (const std::string& f : all) length = std::max(length, f.size());
    std::map<std::size_t, std::size_t> lengths;
    for (const std::string& f : all) ++lengths[f.size()];
    if (lengths.empty()) return {};
    length = std::ranges::max_element(lengths, {}, [](const auto& l) { return l.second; })->first;
    for (const std::string& f : all)
        if (f.size() >= length && frames.size() < mostFrames) frames.push_back(f);
    // Long frames are judged by fewer of them, so that it takes about the same time.
    const std::size_t enough = std::clamp<std::size_t>(6000 / std::max<std::size_t>(length, 1), 24, 300);
    if (frames.size() > enough) frames.erase(frames.begin(), frames.end() - static_cast<std::ptrdiff_t>(enough));
    if (frames.size() < leastFrames) return {};

    const std::size_t tail = layout.end.size() + (layout.check ? checkSumBytes(layout.check->kind) : 0);
    const std::size_t first = layout.begin.size(), last = length > tail ? length - tail : 0;
    std::vector<bool> varies(length), taken(length);
    for (std::size_t i = 0; i < length; ++i)
        varies[i] = std::ranges::any_of(frames, [&](const std::string& f) { return f[i] != frames.front()[i]; });
    if (layout.lengthField)
        for (std::size_t i = 0; i < layout.lengthField->bytes && layout.lengthField->offset + i < length; ++i)
            taken[layout.lengthField->offset + i] = true;

    // The cheapest way to part the frame: calm values cost little, each value costs something, bytes that stand still
    // cost nothing alone and a little within a value.
    constexpr double perValue = 0.12, perStill = 0.03, perJump = 1.0, perUnproven = 0.1;
    struct Step {
        double cost = std::numeric_limits<double>::infinity();
        std::size_t from = 0;
        std::optional<FieldGuess> value{};
    };
    std::vector<Step> best(length + 1);
    best[first].cost = 0;
    for (std::size_t i = first; i < last; ++i) {
        if (!std::isfinite(best[i].cost)) continue;
        if ((!varies[i] || taken[i]) && best[i].cost < best[i + 1].cost) best[i + 1] = {best[i].cost, i, {}};
        for (const std::size_t n : {std::size_t{1}, std::size_t{2}, std::size_t{3}, std::size_t{4}}) {
            if (i + n > last) break;
            std::size_t still = 0;
            bool free = true;
            for (std::size_t k = i; k < i + n; ++k) {
                still += varies[k] ? 0 : 1;
                free = free && !taken[k];
            }
            if (!free || still == n) continue;
            if (auto guesses = judgedKinds(frames, i, n); !guesses.empty()) {
                FieldGuess& g = guesses.front().guess;
                // A whole number whose highest byte never changes may as well be a shorter one.
                const double cost = best[i].cost + perValue + perStill * static_cast<double>(still) +
                                    perJump * g.jumps * static_cast<double>(n) +
                                    perUnproven * static_cast<double>(guesses.front().unproven) + (n == 3 ? 0.02 : 0);
                if (cost < best[i + n].cost) best[i + n] = {cost, i, std::move(g)};
            }
        }
    }
    std::vector<FieldGuess> out;
    for (std::size_t i = last; i > first && std::isfinite(best[i].cost); i = best[i].from)
        if (best[i].value) out.push_back(*best[i].value);
    std::ranges::reverse(out);
    for (std::size_t i = 0; i < out.size(); ++i) out[i].field.name = std::to_string(i + 1);
    return out;
}

}  // namespace cruscotto
