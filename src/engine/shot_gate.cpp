#include "engine/shot_gate.h"

#include <algorithm>

namespace cruscotto {

namespace {

std::size_t bytesOf(const Block& block) {
    std::size_t sum = 256 + block.times.size() * sizeof(Instant);
    for (const Samples& c : block.columns) sum += cruscotto::bytesOf(c).size();
    return sum;
}

/// Samples [begin, end) of the part, as one of its own.
ShotGate::Part slice(const ShotGate::Part& part, std::size_t begin, std::size_t end) {
    if (begin == 0 && end == part.block->size()) return part;
    return {partOf(part.block, begin, end), part.columns, {}};
}

/// Number of the first sample at or after t.
std::size_t firstAt(const Block& b, Instant t) {
    std::size_t lo = 0, hi = b.size();
    while (lo < hi) {
        const std::size_t mid = (lo + hi) / 2;
        if (b.timeOf(mid) < t)
            lo = mid + 1;
        else
            hi = mid;
    }
    return lo;
}

}  // namespace

void ShotGate::look(const std::string& signal, const Readings& readings, const Block& block) {
    if (signal != plan_.signal) return;
    std::optional<Instant> when;
    detector_.look(readings.values, [&](std::size_t i, bool above) {
        const Instant t = block.timeOf(i);
        if (above != plan_.falling && !when && t >= until_) when = t;
    });
    if (when) trigger(*when);
}

void ShotGate::trigger(Instant at) {
    if (at < until_ || (plan_.most > 0 && shots_ >= plan_.most)) return;  // one at a time
    ++shots_;
    triggeredAt_ = at;
    from_ = at - plan_.before;
    until_ = at + plan_.after;
    auto waited = std::exchange(waiting_, {});
    waitingBytes_ = 0;
    for (Part& part : waited) pass(std::move(part));
}

void ShotGate::pass(Part part) {
    const Block& b = *part.block;
    if (plan_.at && shots_ == 0 && b.timeOf(b.size() - 1) >= *plan_.at) trigger(*plan_.at);
    std::size_t end = 0;
    if (shots_ > 0) {
        const std::size_t begin = firstAt(b, from_);
        end = std::max(begin, firstAt(b, until_));
        if (begin < end) give(slice(part, begin, end));
    }
    // What comes behind a shot may be the time before the next one.
    if (end < b.size() && (plan_.most == 0 || shots_ < plan_.most)) keep(slice(part, end, b.size()));
}

void ShotGate::give(const Part& part) {
    const Block& b = *part.block;
    Last& last = last_[{b.group->device, b.group->name}];
    Part out = part;
    if (last.next > 0 && b.firstIndex != last.next && !b.gapBefore) {
        auto marked = std::make_shared<Block>(b);
        marked->gapBefore = Gap{last.end, b.timeOf(0), 0, "Between two shots nothing is recorded."};
        out.block = std::move(marked);
    }
    last = {b.times.empty() ? b.timeOf(b.size()) : b.times.back(), b.firstIndex + b.size()};
    take_(std::move(out));
}

void ShotGate::keep(Part part) {
    waitingBytes_ += bytesOf(*part.block);
    const Instant newest = part.block->timeOf(part.block->size() - 1);
    waiting_.push_back(std::move(part));
    while (waiting_.size() > 1) {
        const Block& oldest = *waiting_.front().block;
        if (oldest.timeOf(oldest.size() - 1) + plan_.before + seconds(0.5) >= newest &&
            waitingBytes_ <= plan_.memoryBytes)
            break;
        waitingBytes_ -= bytesOf(oldest);
        waiting_.pop_front();
    }
}

}  // namespace cruscotto
