#pragma once

#include <QPointer>
#include <QWidget>
#include <optional>

#include "core/control/pattern.h"

namespace cruscotto {

/// What is played, drawn over its time and edited there: points are dragged, a double click adds one (a pulse, of
/// states), Delete takes the chosen one away; arrows move it, Ctrl+Left and Right choose another. A drag is one change.
class PatternStrip : public QWidget {
    Q_OBJECT
public:
    explicit PatternStrip(QWidget* parent = nullptr);
    struct Look {
        double low = 0, high = 1;  ///< what the output can be set to
        bool states = false;       ///< on and off, called so
        bool lines = false;        ///< straight lines between the points, else steps
        double lasts = 0;          ///< seconds; 0: until the last point
        int colour = 0;            ///< of the theme's signals
        QString unit = {}, onWord = {}, offWord = {};
        double extent = 0;  ///< seconds at the right end, where others stand above or below it; 0: its own
        bool flat = false;  ///< one row of several: less high, and its times stand at another
    };
    /// Its times stand below those of the other, however wide it is itself.
    void alignTo(const PatternStrip* other) { like_ = other; }
    /// While a point is dragged nothing else is taken.
    void show(const Pattern& pattern, const Look& look);
    using QWidget::show;
    /// Where it is being played now, in seconds from its beginning.
    void setNow(std::optional<double> seconds);
    [[nodiscard]] const Pattern& pattern() const { return pattern_; }
    [[nodiscard]] std::optional<std::size_t> chosen() const { return chosen_; }
    /// Seconds that it would show by itself.
    [[nodiscard]] double ownExtent() const;
    [[nodiscard]] QPointF placeOf(std::size_t point) const;
    [[nodiscard]] QSize sizeHint() const override;

Q_SIGNALS:
    void changed(const Pattern& pattern);

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    bool event(QEvent* event) override;

private:
    [[nodiscard]] QRectF plot() const;
    [[nodiscard]] double end() const;  ///< seconds at the right end
    [[nodiscard]] double step() const { return roundStep(end()); }
    [[nodiscard]] double xOf(double seconds) const;
    [[nodiscard]] double yOf(double value) const;
    [[nodiscard]] double secondsAt(double x) const;
    [[nodiscard]] double valueAtY(double y) const;
    [[nodiscard]] std::optional<std::size_t> pointAt(QPointF at) const;
    void take(Pattern next);
    [[nodiscard]] QString wordsOf(double value) const;

    Pattern pattern_;
    QPointer<const PatternStrip> like_;
    Look look_;
    std::optional<std::size_t> chosen_, dragged_;
    double dragEnd_ = 1;  ///< the right end while a point is dragged
    Pattern before_;
    std::optional<double> now_;
};

}  // namespace cruscotto
