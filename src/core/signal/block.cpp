#include "core/signal/block.h"

#include <algorithm>
#include <array>
#include <numeric>

namespace cruscotto {

namespace {
constexpr std::array kindNames{"analog-input",  "digital-input",  "counter-input",
                               "analog-output", "digital-output", "computed"};
}

int severity(Quality q) {
    switch (q) {
        case Quality::good:
            return 0;
        case Quality::suspect:
            return 1;
        case Quality::outOfRange:
            return 2;
        case Quality::clipped:
            return 3;
        case Quality::openSensor:
            return 4;
        case Quality::stale:
            return 5;
        case Quality::gap:
            return 6;
    }
    return severity(Quality::suspect);
}

Quality qualityFromNumber(std::int64_t number) {
    const bool known = number >= 0 && number <= static_cast<std::int64_t>(Quality::suspect);
    return known ? static_cast<Quality>(number) : Quality::suspect;
}

std::vector<Quality> worstOfEach(std::span<const QualityInterval> intervals, std::size_t n) {
    std::vector<Quality> out(n, Quality::good);
    for (const QualityInterval& q : intervals)
        for (std::size_t i = q.begin; i < std::min(q.end, n); ++i) out[i] = worse(out[i], q.quality);
    return out;
}

const char* qualityWord(Quality q) {
    switch (q) {
        case Quality::good:
            return "good";
        case Quality::clipped:
            return "clipped";
        case Quality::outOfRange:
            return "out of range";
        case Quality::openSensor:
            return "open sensor";
        case Quality::stale:
            return "stale";
        case Quality::gap:
            return "gap";
        case Quality::suspect:
            return "suspect";
    }
    return "unknown";
}

std::size_t sampleBytes(SampleType type) {
    switch (type) {
        case SampleType::int16:
            return 2;
        case SampleType::int32:
        case SampleType::uint32:
        case SampleType::float32:
            return 4;
        case SampleType::float64:
            return 8;
        case SampleType::bit:
            return 1;
    }
    return 0;
}

const char* sampleTypeName(SampleType type) {
    constexpr std::array names{"int16", "int32", "uint32", "float32", "float64", "bit"};
    return names.at(static_cast<std::size_t>(type));
}

const char* channelKindName(ChannelKind kind) {
    return kindNames.at(static_cast<std::size_t>(kind));
}

std::optional<ChannelKind> channelKindFromName(const std::string& name) {
    for (std::size_t i = 0; i < kindNames.size(); ++i)
        if (name == kindNames[i]) return static_cast<ChannelKind>(i);
    return std::nullopt;
}

SampleType typeOf(const Samples& samples) {
    return static_cast<SampleType>(samples.index());
}

std::size_t sizeOf(const Samples& samples) {
    return std::visit([](const auto& v) { return v.size(); }, samples);
}

Samples makeSamples(SampleType type, std::size_t n) {
    switch (type) {
        case SampleType::int16:
            return std::vector<std::int16_t>(n);
        case SampleType::int32:
            return std::vector<std::int32_t>(n);
        case SampleType::uint32:
            return std::vector<std::uint32_t>(n);
        case SampleType::float32:
            return std::vector<float>(n);
        case SampleType::float64:
            return std::vector<double>(n);
        case SampleType::bit:
            break;
    }
    return std::vector<std::uint8_t>(n);
}

void appendAsDouble(const Samples& samples, std::vector<double>& out) {
    std::visit([&](const auto& v) { out.insert(out.end(), v.begin(), v.end()); }, samples);
}

std::span<const std::byte> bytesOf(const Samples& samples) {
    return std::visit([](const auto& v) { return std::as_bytes(std::span(v)); }, samples);
}

BlockPtr inOrderOfTime(const BlockPtr& block, Instant notBefore, std::uint64_t& moved) {
    const std::vector<Instant>& times = block->times;
    if (times.empty() || (times.front() >= notBefore && std::is_sorted(times.begin(), times.end()))) return block;
    std::vector<std::size_t> order(times.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return times[a] < times[b]; });
    auto out = std::make_shared<Block>(*block);
    Instant newest = notBefore;
    for (std::size_t i = 0; i < order.size(); ++i) {
        // Out of order is what comes behind a later one.
        moved += times[i] < newest;
        newest = std::max(newest, times[i]);
        out->times[i] = std::max(times[order[i]], notBefore);
    }
    out->t0 = out->times.front();
    for (std::size_t c = 0; c < out->columns.size(); ++c)
        std::visit(
            [&](auto& to) {
                const auto& from = std::get<std::decay_t<decltype(to)>>(block->columns[c]);
                for (std::size_t i = 0; i < order.size(); ++i) to[i] = from[order[i]];
            },
            out->columns[c]);
    for (std::size_t c = 0; c < out->quality.size(); ++c) {
        std::vector<Quality> each(order.size(), Quality::good);
        for (const QualityInterval& q : block->quality[c])
            for (std::size_t i = q.begin; i < std::min(q.end, each.size()); ++i) each[i] = q.quality;
        out->quality[c].clear();
        for (std::size_t i = 0; i < order.size(); ++i)
            if (const Quality q = each[order[i]]; q != Quality::good) out->quality[c].push_back({i, i + 1, q});
    }
    return out;
}

BlockPtr partOf(const BlockPtr& block, std::size_t begin, std::size_t end) {
    const Block& b = *block;
    if (begin == 0 && end == b.size()) return block;
    auto out = std::make_shared<Block>();
    out->group = b.group;
    out->firstIndex = b.firstIndex + begin;
    out->t0 = b.timeOf(begin);
    out->dtNs = b.dtNs;
    if (!b.times.empty())
        out->times.assign(b.times.begin() + static_cast<std::ptrdiff_t>(begin),
                          b.times.begin() + static_cast<std::ptrdiff_t>(end));
    for (const Samples& column : b.columns)
        std::visit(
            [&](const auto& v) {
                using V = std::decay_t<decltype(v)>;
                out->columns.emplace_back(
                    V(v.begin() + static_cast<std::ptrdiff_t>(begin), v.begin() + static_cast<std::ptrdiff_t>(end)));
            },
            column);
    for (const auto& intervals : b.quality) {
        auto& kept = out->quality.emplace_back();
        for (const QualityInterval& q : intervals)
            if (q.begin < end && q.end > begin)
                kept.push_back({std::max(q.begin, begin) - begin, std::min(q.end, end) - begin, q.quality});
    }
    if (begin == 0) out->gapBefore = b.gapBefore;
    return out;
}

}  // namespace cruscotto
