#pragma once

#include <deque>

#include "core/history/source.h"

namespace cruscotto {

/// The columns of one scrolling trace: asks the source only for those that it has not got yet or that may still change.
/// Confined to one thread.
class ColumnCache {
public:
    /// Columns of `width` from the one that holds `from` up to (not with) the one that holds `to`; their edges lie on
    /// multiples of the width. What lies later than `settled` is asked for again the next time. The result stays
    /// valid until the next call.
    const std::deque<Column>& update(const Source& source, const std::string& signal, Span span, Duration width,
                                     Instant settled);
    void clear();

private:
    std::deque<Column> columns_;
    Duration width_;
    std::uint64_t revision_ = 0;
    std::vector<Column> scratch_;
};

}  // namespace cruscotto
