#include "core/run/sample_codec.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>
#include <type_traits>
#include <utility>

// A frame: one byte, width | mode << 6; the base, one sample wide; then, for every bit of width, 32 bytes. Sample i of
// a frame lies in lane i mod L of L = 256 / (bits of the type) lanes; a lane packs its samples from the lowest bit up
// into words of the type's size; word k of all lanes stands before word k + 1. So whole rows of lanes are packed and
// unpacked at once, which compilers turn into vector instructions. Mode 0: value = base + packed. Mode 1: value = value
// before + base + packed, where the value before the frame's first one stands behind the base. All arithmetic wraps in
// the type's width.

// A sanitizer's checks in every unrolled row take half a minute to compile.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__) || defined(__clang__)
#define CRUSCOTTO_UNROLL
#else
#define CRUSCOTTO_UNROLL _Pragma("GCC unroll 32")
#endif

namespace cruscotto::codec {

namespace {

constexpr std::size_t shortestPackedTail = 128;  // a shorter rest is kept raw

template <class U>
constexpr std::size_t bitsOf = sizeof(U) * 8;
/// One row: a sample of every lane, as a vector of the compiler's own; 32 bytes of any type.
template <class U>
struct RowOf {
    typedef U type __attribute__((vector_size(32)));
};
template <class U>
using Row = typename RowOf<U>::type;
template <class U>
constexpr std::size_t lanes = sizeof(Row<U>) / sizeof(U);
template <class U>
constexpr std::size_t rows = frameSamples / lanes<U>;

template <class U>
void loadRow(Row<U>& row, const U* from) {
    std::memcpy(&row, from, sizeof row);
}
template <class U>
void storeRow(U* to, const Row<U>& row) {
    std::memcpy(to, &row, sizeof row);
}

template <class U, unsigned W>
void packFrame(const U* in, U base, U* out) {
    constexpr int bits = bitsOf<U>;
    Row<U> word{};
    int filled = 0;
    CRUSCOTTO_UNROLL
    for (std::size_t row = 0; row < rows<U>; ++row) {
        Row<U> v;
        loadRow(v, in + row * lanes<U>);
        v -= base;
        word |= v << filled;
        filled += static_cast<int>(W);
        if (filled >= bits) {
            storeRow(out, word);
            out += lanes<U>;
            filled -= bits;
            const int used = static_cast<int>(W) - filled;  // bits of v that went into the word just stored
            if (used >= bits)
                word = Row<U>{};
            else
                word = v >> used;
        }
    }
}

template <class U, unsigned W>
void unpackFrame(const U* in, U* out) {
    constexpr int bits = bitsOf<U>;
    constexpr U mask = W >= bits ? static_cast<U>(~U{0}) : static_cast<U>((U{1} << (W % bits)) - 1);
    int at = 0;
    CRUSCOTTO_UNROLL
    for (std::size_t row = 0; row < rows<U>; ++row) {
        Row<U> v;
        loadRow(v, in);
        v >>= at;
        const int left = bits - at;
        if (static_cast<int>(W) > left) {
            Row<U> next;
            loadRow(next, in + lanes<U>);
            v |= next << left;
        }
        v &= mask;
        storeRow(out + row * lanes<U>, v);
        at += static_cast<int>(W);
        if (at >= bits) {
            at -= bits;
            in += lanes<U>;
        }
    }
}

/// Lowest and highest of a frame.
template <class T>
std::pair<T, T> extremes(const T* v) {
    Row<T> low, high, x;
    loadRow(low, v);
    high = low;
    for (std::size_t row = 1; row < rows<T>; ++row) {
        loadRow(x, v + row * lanes<T>);
        low = x < low ? x : low;
        high = x > high ? x : high;
    }
    T least = low[0], most = high[0];
    for (std::size_t l = 1; l < lanes<T>; ++l) {
        least = std::min<T>(least, low[l]);
        most = std::max<T>(most, high[l]);
    }
    return {least, most};
}

template <class U>
using Packer = void (*)(const U*, U, U*);
template <class U>
using Unpacker = void (*)(const U*, U*);
template <class U, unsigned... W>
constexpr std::array<Packer<U>, sizeof...(W)> packers(std::integer_sequence<unsigned, W...>) {
    return {packFrame<U, W + 1>...};
}
template <class U, unsigned... W>
constexpr std::array<Unpacker<U>, sizeof...(W)> unpackers(std::integer_sequence<unsigned, W...>) {
    return {unpackFrame<U, W + 1>...};
}
template <class U>
constexpr auto packer = packers<U>(std::make_integer_sequence<unsigned, bitsOf<U>>());
template <class U>
constexpr auto unpacker = unpackers<U>(std::make_integer_sequence<unsigned, bitsOf<U>>());

/// Packs one frame.
template <class T, class U = std::make_unsigned_t<T>, class S = std::make_signed_t<T>>
void encodeFrame(const T* v, std::vector<std::byte>& out) {
    // every sample less the one before; the first has none and takes the second's difference
    std::array<U, frameSamples> value, difference;
    std::memcpy(value.data(), v, sizeof value);
    for (std::size_t row = 0; row < rows<U>; ++row) {
        const std::size_t at = row * lanes<U>;
        Row<U> now, before{};
        loadRow(now, value.data() + at);
        if (row > 0) loadRow(before, value.data() + at - 1);
        now -= before;
        storeRow(difference.data() + at, now);
    }
    for (std::size_t l = 1; l < lanes<U>; ++l) difference[l] = static_cast<U>(value[l] - value[l - 1]);
    difference[0] = difference[1];
    const auto [low, high] = extremes(v);
    std::array<S, frameSamples> step;
    std::memcpy(step.data(), difference.data(), sizeof step);
    const auto [lowStep, highStep] = extremes(step.data());
    const auto width = [](U range) { return static_cast<unsigned>(std::bit_width(range)); };
    const unsigned plain = width(static_cast<U>(static_cast<U>(high) - static_cast<U>(low)));
    const unsigned steps = width(static_cast<U>(static_cast<U>(highStep) - static_cast<U>(lowStep)));
    const bool bySteps = steps < plain;
    const unsigned w = bySteps ? steps : plain;
    const std::size_t head = 1 + (bySteps ? 2 : 1) * sizeof(U);
    const U base = bySteps ? static_cast<U>(lowStep) : static_cast<U>(low);
    const std::size_t payload = frameSamples / 8 * w;
    std::array<std::byte, 1 + 2 * sizeof(U)> front;
    std::byte* p = front.data();
    *p = static_cast<std::byte>(w | (bySteps ? 0x40U : 0U));
    std::memcpy(p + 1, &base, sizeof base);
    if (bySteps) {
        const U before = static_cast<U>(static_cast<U>(v[0]) - difference[0]);
        std::memcpy(p + 1 + sizeof base, &before, sizeof before);
    }
    out.insert(out.end(), p, p + head);
    if (w == 0) return;
    std::array<U, frameSamples> packed;
    packer<U>[w - 1](bySteps ? difference.data() : value.data(), base, packed.data());
    const auto* bytes = reinterpret_cast<const std::byte*>(packed.data());
    out.insert(out.end(), bytes, bytes + payload);
}

/// Takes one frame off the front of `data`.
template <class T, class U = std::make_unsigned_t<T>>
bool decodeFrame(std::span<const std::byte>& data, T* out) {
    if (data.size() < 1 + sizeof(U)) return false;
    const auto first = std::to_integer<unsigned>(data[0]);
    const unsigned w = first & 0x3fU, mode = first >> 6;
    const std::size_t head = 1 + (mode == 1 ? 2 : 1) * sizeof(U);
    const std::size_t payload = frameSamples / 8 * w;
    if (w > bitsOf<U> || mode > 1 || data.size() < head + payload) return false;
    U base, before = 0;
    std::memcpy(&base, data.data() + 1, sizeof base);
    if (mode == 1) std::memcpy(&before, data.data() + 1 + sizeof base, sizeof before);
    std::array<U, frameSamples> rest{};
    if (w) {
        std::array<U, frameSamples + lanes<U>> packed;  // one row may be looked at too far
        std::memcpy(packed.data(), data.data() + head, payload);
        unpacker<U>[w - 1](packed.data(), rest.data());
    }
    data = data.subspan(head + payload);
    if (mode == 0) {
        for (std::size_t i = 0; i < frameSamples; ++i) out[i] = static_cast<T>(static_cast<U>(rest[i] + base));
    } else {
        U value = before;
        for (std::size_t i = 0; i < frameSamples; ++i) {
            value = static_cast<U>(value + base + rest[i]);
            out[i] = static_cast<T>(value);
        }
    }
    return true;
}

template <class T>
bool encodeFrames(const std::vector<T>& v, std::vector<std::byte>& out) {
    const std::size_t start = out.size();
    std::size_t i = 0;
    for (; i + frameSamples <= v.size(); i += frameSamples) encodeFrame(v.data() + i, out);
    if (const std::size_t rest = v.size() - i; rest >= shortestPackedTail) {
        std::array<T, frameSamples> frame;
        frame.fill(v.back());
        std::copy(v.begin() + static_cast<std::ptrdiff_t>(i), v.end(), frame.begin());
        encodeFrame(frame.data(), out);
    } else {
        const auto* bytes = reinterpret_cast<const std::byte*>(v.data() + i);
        out.insert(out.end(), bytes, bytes + rest * sizeof(T));
    }
    if (out.size() - start < v.size() * sizeof(T)) return true;
    out.resize(start);
    return false;
}

template <class T>
bool decodeFrames(std::span<const std::byte> data, std::size_t n, std::vector<T>& out) {
    using U = std::make_unsigned_t<T>;
    // A frame has at least its head: what could never hold n samples is not given the memory for them.
    if (n / frameSamples * (1 + sizeof(U)) > data.size()) return false;
    out.resize(n);
    std::size_t i = 0;
    for (; i + frameSamples <= n; i += frameSamples)
        if (!decodeFrame(data, out.data() + i)) return false;
    if (const std::size_t rest = n - i; rest >= shortestPackedTail) {
        std::array<T, frameSamples> frame;
        if (!decodeFrame(data, frame.data())) return false;
        std::copy_n(frame.begin(), rest, out.begin() + static_cast<std::ptrdiff_t>(i));
    } else {
        if (data.size() != rest * sizeof(T)) return false;
        if (rest) std::memcpy(out.data() + i, data.data(), rest * sizeof(T));
        data = {};
    }
    return data.empty();
}

}  // namespace

Packing encode(const Samples& samples, std::vector<std::byte>& out) {
    const bool packed = std::visit(
        [&](const auto& v) {
            if constexpr (std::is_integral_v<typename std::decay_t<decltype(v)>::value_type>)
                return encodeFrames(v, out);
            else
                return false;
        },
        samples);
    if (packed) return Packing::frames;
    const auto bytes = bytesOf(samples);
    out.insert(out.end(), bytes.begin(), bytes.end());
    return Packing::raw;
}

bool decode(Packing packing, std::span<const std::byte> data, SampleType type, std::size_t n, Samples& out) {
    out = makeSamples(type, 0);
    return std::visit(
        [&](auto& v) {
            using T = typename std::decay_t<decltype(v)>::value_type;
            if (packing == Packing::raw) {
                if (data.size() != n * sizeof(T)) return false;
                v.resize(n);
                if (n) std::memcpy(v.data(), data.data(), data.size());
                return true;
            }
            if constexpr (std::is_integral_v<T>)
                return packing == Packing::frames && decodeFrames(data, n, v);
            else
                return false;
        },
        out);
}

}  // namespace cruscotto::codec
