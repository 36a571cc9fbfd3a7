#include "devices/link/scan_buffer.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace cruscotto {

namespace {

template <class T>
T held(double value) {
    if constexpr (std::is_floating_point_v<T>) return static_cast<T>(value);
    if (std::isnan(value)) return T{};
    return static_cast<T>(std::clamp(std::round(value), static_cast<double>(std::numeric_limits<T>::min()),
                                     static_cast<double>(std::numeric_limits<T>::max())));
}

}  // namespace

ScanBuffer::ScanBuffer(std::string device, std::string name, std::vector<Channel> channels) {
    auto group = std::make_shared<ScanGroup>();
    group->device = std::move(device);
    group->name = std::move(name);
    group->channels = std::move(channels);
    for (const Channel& c : group->channels) columns_.push_back(makeSamples(c.type, 0));
    quality_.resize(columns_.size());
    group_ = std::move(group);
}

void ScanBuffer::add(Instant at, std::span<const double> values, std::span<const Quality> qualities) {
    if (last_ && at <= *last_) at = *last_ + nanoseconds(1);
    last_ = at;
    if (coming_) {
        gap_ = std::exchange(coming_, std::nullopt);
        gap_->to = at;
    }
    const std::size_t n = times_.size();
    times_.push_back(at);
    for (std::size_t i = 0; i < columns_.size(); ++i) {
        const double value = i < values.size() ? values[i] : std::nan("");
        std::visit(
            [&](auto& column) { column.push_back(held<typename std::decay_t<decltype(column)>::value_type>(value)); },
            columns_[i]);
        Quality q = i < qualities.size() ? qualities[i] : Quality::good;
        if (q == Quality::good && std::isnan(value)) q = Quality::outOfRange;
        if (q == Quality::good) continue;
        auto& intervals = quality_[i];
        if (!intervals.empty() && intervals.back().end == n && intervals.back().quality == q)
            ++intervals.back().end;
        else
            intervals.push_back({n, n + 1, q});
    }
}

void ScanBuffer::away(Instant since, const std::string& cause, Quality quality) {
    if (!last_ || coming_) return;
    since = std::max(since, *last_);
    coming_ = Gap{since, since, 0, cause, quality};
    quiet_ = true;
}

void ScanBuffer::deliver(DeviceSink& sink) {
    if (times_.empty()) {
        if (std::exchange(quiet_, false)) sink.quiet(group_);
        return;
    }
    quiet_ = false;
    auto block = std::make_shared<Block>();
    block->group = group_;
    block->firstIndex = next_;
    block->t0 = times_.front();
    block->gapBefore = std::exchange(gap_, std::nullopt);
    next_ += times_.size();
    block->times = std::exchange(times_, {});
    for (std::size_t i = 0; i < columns_.size(); ++i) {
        const SampleType type = group_->channels[i].type;
        block->columns.push_back(std::exchange(columns_[i], makeSamples(type, 0)));
        block->quality.push_back(std::exchange(quality_[i], {}));
    }
    sink.deliver(std::move(block));
}

}  // namespace cruscotto
