#include "app/document/time_cursor.h"

#include <algorithm>

namespace cruscotto {

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
