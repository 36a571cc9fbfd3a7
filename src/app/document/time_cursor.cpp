#include "app/document/time_cursor.h"

#include <algorithm>

namespace cruscotto {

std::optional<Span> TimeCursor::stretch(Instant end) const {
    if (last_) return Span{end - *last_, end};
    return fixed_;
}

void TimeCursor::stretchOver(Span span) {
    if (span.to < span.from) std::swap(span.from, span.to);
    if (span.to == span.from) return endStretch();
    if (!last_ && fixed_ == span) return;
    last_.reset();
    fixed_ = span;
    Q_EMIT stretched();
}

void TimeCursor::stretchOfLast(Duration last) {
    last = std::clamp(last, milliseconds(1), seconds(365.0 * 86400));
    if (last_ == last) return;
    fixed_.reset();
    last_ = last;
    Q_EMIT stretched();
}

void TimeCursor::endStretch() {
    if (!hasStretch()) return;
    fixed_.reset();
    last_.reset();
    Q_EMIT stretched();
}

void TimeCursor::goTo(Instant t) {
    if (!atEnd_ && at_ == t) return;
    atEnd_ = false;
    at_ = t;
    Q_EMIT moved();
}

void TimeCursor::goToEnd() {
    if (atEnd_) return;
    atEnd_ = true;
    Q_EMIT moved();
}

void TimeCursor::setWindow(Duration window) {
    window = std::clamp(window, milliseconds(1), seconds(365.0 * 86400));
    if (window == window_) return;
    window_ = window;
    Q_EMIT windowChanged();
}

}  // namespace cruscotto
