#pragma once

#include <QObject>

#include "core/base/time.h"

namespace cruscotto {

/// The one moment that everything on the page shows, and how much time its traces show before it. Shared; screen
/// thread only.
class TimeCursor : public QObject {
    Q_OBJECT
public:
    using QObject::QObject;
    /// At the newest there is, and going on with it.
    [[nodiscard]] bool atEnd() const { return atEnd_; }
    /// Where it stands; `end` is the newest there is.
    [[nodiscard]] Instant at(Instant end) const { return atEnd_ ? end : at_; }
    [[nodiscard]] Duration window() const { return window_; }

    void goTo(Instant t);
    void goToEnd();
    /// Kept between a millisecond and a year.
    void setWindow(Duration window);

Q_SIGNALS:
    void moved();
    void windowChanged();

private:
    bool atEnd_ = true;
    Instant at_;
    Duration window_ = seconds(30);
};

}  // namespace cruscotto
