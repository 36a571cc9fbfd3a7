#pragma once

#include <QObject>
#include <optional>

#include "core/base/time.h"

namespace cruscotto {

/// The one moment that everything on the page shows, and how much time its traces show before it; or a stretch of time,
/// and then everything shows what holds for all of it. Shared; screen thread only.
class TimeCursor : public QObject {
    Q_OBJECT
public:
    using QObject::QObject;
    /// At the newest there is, and going on with it.
    [[nodiscard]] bool atEnd() const { return atEnd_; }
    /// Where it stands; `end` is the newest there is.
    [[nodiscard]] Instant at(Instant end) const { return atEnd_ ? end : at_; }
    [[nodiscard]] Duration window() const { return window_; }

    /// A stretch stands: between two moments, or the last so long of all there is, going on with it.
    [[nodiscard]] bool hasStretch() const { return fixed_.has_value() || last_.has_value(); }
    [[nodiscard]] bool stretchHangsOnNow() const { return last_.has_value(); }
    [[nodiscard]] std::optional<Span> stretch(Instant end) const;
    /// Its ends in either order; of no length it is none.
    void stretchOver(Span span);
    void stretchOfLast(Duration last);
    /// An end is being dragged with the mouse: what would move the page away under it waits.
    void setDragging(bool dragging) { dragging_ = dragging; }
    [[nodiscard]] bool dragging() const { return dragging_; }
    /// The moment again.
    void endStretch();

    void goTo(Instant t);
    void goToEnd();
    /// Kept between a millisecond and a year.
    void setWindow(Duration window);

Q_SIGNALS:
    void moved();
    void windowChanged();
    void stretched();

private:
    bool atEnd_ = true;
    Instant at_;
    Duration window_ = seconds(30);
    std::optional<Span> fixed_;
    std::optional<Duration> last_;
    bool dragging_ = false;
};

}  // namespace cruscotto
