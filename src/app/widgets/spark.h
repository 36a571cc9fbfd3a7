#pragma once

#include <QPainter>
#include <vector>

#include "core/bench/bench.h"
#include "core/history/source.h"

namespace cruscotto {

/// The columns of a spark line that ends at `t`. An output stands where it was set until it is set again.
void readSpark(const Source& source, const SignalSpec& s, const ColumnRequest& columns, Instant t,
               std::vector<Column>& out);
/// Columns as a line in a rectangle, on a scale of their own extremes, but of no less than `leastSpan`: noise must not
/// look like news. Broken where there are none.
void paintSpark(QPainter& p, const QRectF& where, const std::vector<Column>& columns, const QColor& colour, bool steps,
                double leastSpan);
/// A twentieth of where the signal's readings are expected; 0 where that is not known.
inline double leastSparkSpan(const SignalSpec& s) {
    return s.scale ? (s.scale->high - s.scale->low) / 20 : 0;
}

}  // namespace cruscotto
