#pragma once

#include <algorithm>
#include <cmath>
#include <compare>
#include <cstdint>
#include <string>

namespace cruscotto {

/// A length of time in nanoseconds.
struct Duration {
    std::int64_t ns = 0;
    auto operator<=>(const Duration&) const = default;
    [[nodiscard]] double seconds() const { return static_cast<double>(ns) * 1e-9; }
};

/// A moment on the one time axis of a bench: nanoseconds since the bench began to measure (or, in a run, the same
/// axis as when it was recorded). Wall-clock anchors tell what time of day that was; see WallAnchor.
struct Instant {
    std::int64_t ns = 0;
    auto operator<=>(const Instant&) const = default;
    [[nodiscard]] double seconds() const { return static_cast<double>(ns) * 1e-9; }
};

/// Half open: [from, to).
struct Span {
    Instant from;
    Instant to;
    bool operator==(const Span&) const = default;
};

/// "At this instant the wall clock showed so many nanoseconds since 1970-01-01T00:00Z."
struct WallAnchor {
    Instant at;
    std::int64_t unixNs = 0;
};

inline constexpr Duration nanoseconds(std::int64_t n) {
    return {n};
}
inline constexpr Duration milliseconds(std::int64_t n) {
    return {n * 1'000'000};
}
/// No moment of a bench lies further from its beginning, forwards or back: 63 years. Sums and differences of two such
/// moments, and of one with a wall clock's (WallAnchor), can be held. What comes from files is checked against it.
inline constexpr std::int64_t furthestNs = 2'000'000'000'000'000'000;
inline constexpr bool plausible(Instant t) {
    return t.ns >= -furthestNs && t.ns <= furthestNs;
}
inline constexpr bool plausible(const WallAnchor& a) {
    return plausible(a.at) && a.unixNs >= -2 * furthestNs && a.unixNs <= 2 * furthestNs;
}
/// Rounded to the nearest nanosecond, and to `furthestNs` at most; 0 for what is no number.
inline Duration fromNs(double ns) {
    constexpr auto most = static_cast<double>(furthestNs);
    return {ns == ns ? std::llround(std::clamp(ns, -most, most)) : 0};
}
inline Duration seconds(double s) {
    return fromNs(s * 1e9);
}

inline constexpr Duration operator-(Instant a, Instant b) {
    return {a.ns - b.ns};
}
inline constexpr Instant operator+(Instant a, Duration d) {
    return {a.ns + d.ns};
}
inline constexpr Instant operator-(Instant a, Duration d) {
    return {a.ns - d.ns};
}
inline constexpr Duration operator+(Duration a, Duration b) {
    return {a.ns + b.ns};
}
inline constexpr Duration operator-(Duration a, Duration b) {
    return {a.ns - b.ns};
}

/// "00:12:31", whole seconds, for a stretch of time; hours go past 24. Negative stretches begin with a minus.
std::string clockText(Duration d);
/// Exact decimal seconds with up to nine places and no trailing zeros: "12.5", "0", "-0.000000001".
std::string secondsText(std::int64_t ns);
/// "2 h 5 min", "31 h", "45 s": one or two parts, for people.
std::string roughText(Duration d);
/// Reads "10s", "250ms", "1.5min", "2h", or a bare number of seconds. False if it is none of them.
bool parseDuration(const std::string& text, Duration& out);

}  // namespace cruscotto
