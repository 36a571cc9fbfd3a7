#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <variant>
#include <vector>

#include "core/base/time.h"

namespace cruscotto {

/// How far a reading can be trusted. The numbers are stored in runs: frozen.
enum class Quality : std::uint8_t {
    good = 0,
    clipped = 1,     ///< the converter stood at an end of its range
    outOfRange = 2,  ///< the scaling law does not hold there
    openSensor = 3,  ///< the wire or the sensor is broken
    stale = 4,       ///< nothing new has come for longer than it should
    gap = 5,         ///< nothing was measured
    suspect = 6,     ///< something is the matter, and nothing says what
};
/// Of a stored number; suspect for one that this version does not know.
Quality qualityFromNumber(std::int64_t number);
/// One or two lower-case English words.
const char* qualityWord(Quality q);
/// How bad it is, more for worse: good < suspect < out of range < clipped < open sensor < stale < gap. Apart from the
/// stored numbers.
int severity(Quality q);
inline Quality worse(Quality a, Quality b) {
    return severity(b) > severity(a) ? b : a;
}

/// Samples [begin, end) of a block, counted from the block's first sample, have this quality. What no interval
/// covers is good.
struct QualityInterval {
    std::size_t begin = 0;
    std::size_t end = 0;
    Quality quality = Quality::good;
    bool operator==(const QualityInterval&) const = default;
};

/// The worst that the intervals say of each of n samples, in whatever order they stand and however they overlap.
std::vector<Quality> worstOfEach(std::span<const QualityInterval> intervals, std::size_t n);

/// How a channel's samples are stored. The numbers are stored in runs: frozen.
enum class SampleType : std::uint8_t { int16 = 0, int32 = 1, uint32 = 2, float32 = 3, float64 = 4, bit = 5 };
std::size_t sampleBytes(SampleType type);
const char* sampleTypeName(SampleType type);

/// What kind of terminal a channel hangs on; computed: on none.
enum class ChannelKind : std::uint8_t {
    analogInput,
    digitalInput,
    counterInput,
    analogOutput,
    digitalOutput,
    computed
};
const char* channelKindName(ChannelKind kind);
std::optional<ChannelKind> channelKindFromName(const std::string& name);
inline bool isOutput(ChannelKind k) {
    return k == ChannelKind::analogOutput || k == ChannelKind::digitalOutput;
}
inline bool isDigital(ChannelKind k) {
    return k == ChannelKind::digitalInput || k == ChannelKind::digitalOutput;
}

struct Channel {
    std::string terminal;
    SampleType type = SampleType::float64;
    ChannelKind kind = ChannelKind::analogInput;
    bool operator==(const Channel&) const = default;
};

/// Channels that share a clock. Immutable; blocks of one group share the object.
struct ScanGroup {
    std::string device;  ///< the device's id in the bench
    std::string name;    ///< unique within the device
    double rateHz = 0;   ///< 0: unclocked, every sample has its own time
    std::vector<Channel> channels;
    [[nodiscard]] bool clocked() const { return rateHz > 0; }
};

/// Samples in the hardware's own type; bits are one byte each, 0 or 1. The alternative's index is the SampleType.
using Samples = std::variant<std::vector<std::int16_t>, std::vector<std::int32_t>, std::vector<std::uint32_t>,
                             std::vector<float>, std::vector<double>, std::vector<std::uint8_t>>;
SampleType typeOf(const Samples& samples);
std::size_t sizeOf(const Samples& samples);
Samples makeSamples(SampleType type, std::size_t n);
/// Appends the samples as doubles.
void appendAsDouble(const Samples& samples, std::vector<double>& out);
/// The samples' bytes, little endian as in memory. Valid as long as the samples are.
std::span<const std::byte> bytesOf(const Samples& samples);

/// Nothing was measured in [from, to).
struct Gap {
    Instant from;
    Instant to;
    std::uint64_t lostSamples = 0;  ///< per channel; 0 when the device cannot tell
    std::string cause;
    Quality quality = Quality::gap;  ///< of what stands there meanwhile: gap, or stale where only nothing new came
};

/// An immutable run of samples of one scan group, one column a channel, all of one length.
struct Block {
    std::shared_ptr<const ScanGroup> group;
    std::uint64_t firstIndex = 0;  ///< number of the first sample since the device began
    Instant t0;                    ///< clocked: time of the first sample
    double dtNs = 0;               ///< clocked: nanoseconds between samples
    std::vector<Instant> times;    ///< unclocked: one a sample, never decreasing
    std::vector<Samples> columns;
    std::vector<std::vector<QualityInterval>> quality;  ///< a list a column; may be empty: all good
    std::optional<Gap> gapBefore;

    [[nodiscard]] std::size_t size() const { return columns.empty() ? times.size() : sizeOf(columns.front()); }
    [[nodiscard]] Instant timeOf(std::size_t i) const {
        return times.empty() ? Instant{t0.ns + std::llround(static_cast<double>(i) * dtNs)} : times[i];
    }
};
using BlockPtr = std::shared_ptr<const Block>;

/// The block with its samples in the order of their times, none of them before `notBefore`: a sample that comes too
/// late for its place gets that time. The block itself where it is in order already, as clocked ones are. Adds to
/// `moved` how many samples were out of order.
BlockPtr inOrderOfTime(const BlockPtr& block, Instant notBefore, std::uint64_t& moved);

/// Samples [begin, end) of the block, as one of its own; the block itself where these are all. What was missing before
/// the first sample goes with that. Precondition: begin <= end <= block->size().
BlockPtr partOf(const BlockPtr& block, std::size_t begin, std::size_t end);

}  // namespace cruscotto
