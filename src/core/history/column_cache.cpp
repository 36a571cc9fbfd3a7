#include "core/history/column_cache.h"

namespace cruscotto {

namespace {
std::int64_t floorTo(std::int64_t t, std::int64_t width) {
    const std::int64_t q = t / width;
    return (q - (t % width < 0 ? 1 : 0)) * width;
}
}  // namespace

void ColumnCache::clear() {
    columns_.clear();
}

const std::deque<Column>& ColumnCache::update(const Source& source, const std::string& signal, Span span,
                                              Duration width, Instant settled) {
    const std::int64_t w = width.ns;
    const std::int64_t begin = floorTo(span.from.ns, w);
    const std::int64_t end = floorTo(span.to.ns, w) + w;
    const std::uint64_t revision = source.revision();
    if (width != width_ || revision != revision_) columns_.clear();
    width_ = width;
    revision_ = revision;
    while (!columns_.empty() && columns_.back().begin.ns + w > std::min(end, settled.ns)) columns_.pop_back();
    while (!columns_.empty() && columns_.front().begin.ns < begin) columns_.pop_front();
    if (!columns_.empty() && columns_.front().begin.ns != begin) columns_.clear();
    const std::int64_t from = columns_.empty() ? begin : columns_.back().begin.ns + w;
    if (from < end) {
        source.columns(signal, {{from}, width, static_cast<std::size_t>((end - from) / w)}, scratch_);
        columns_.insert(columns_.end(), scratch_.begin(), scratch_.end());
    }
    return columns_;
}

}  // namespace cruscotto
