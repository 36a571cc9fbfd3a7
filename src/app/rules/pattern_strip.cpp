#include "app/rules/pattern_strip.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"

namespace cruscotto {

namespace {
constexpr double reach = 9;  // pixels
}  // namespace

PatternStrip::PatternStrip(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAccessibleName(tr("What is played, over time"));
    setToolTip(tr(
        "Drag a point; double-click to add one; Delete takes the chosen one away.\nArrows move it, with Shift by ten "
        "steps; Ctrl+Left and Ctrl+Right choose another, Insert adds one."));
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
}

QSize PatternStrip::sizeHint() const {
    constexpr int wide = 400, states = 150, values = 260, flatStates = 52, flatValues = 104;
    return {wide, look_.flat ? (look_.states ? flatStates : flatValues) : look_.states ? states : values};
}

void PatternStrip::show(const Pattern& pattern, const Look& look) {
    if (dragged_) return;
    const bool taller = look.states != look_.states || look.flat != look_.flat;
    look_ = look;
    pattern_ = pattern;
    if (chosen_ && *chosen_ >= pattern_.size()) chosen_.reset();
    if (taller) updateGeometry();
    update();
}

void PatternStrip::setNow(std::optional<double> seconds) {
    if (seconds == now_) return;
    now_ = seconds;
    update();
}

QRectF PatternStrip::plot() const {
    // Where others stand below it they may have a scroll bar beside them.
    constexpr double left = 64, top = 10, times = 24, alone = 14, ofSeveral = 34;
    const double wide = like_ ? like_->plot().width() : width() - left - (look_.extent > 0 ? ofSeveral : alone);
    return {left, top, wide, height() - top - (look_.flat ? top : times)};
}

double PatternStrip::end() const {
    if (dragged_) return dragEnd_;
    return std::max(look_.extent, ownExtent());
}

double PatternStrip::ownExtent() const {
    const double last = pattern_.empty() ? 0 : pattern_.back().first;
    // Room behind the last point, to drag it into.
    constexpr double room = 1.15, least = 1;
    return look_.lasts > 0 ? std::max(look_.lasts, last) : std::max(last * room, least);
}

double PatternStrip::xOf(double seconds) const {
    const QRectF box = plot();
    return box.left() + seconds / end() * box.width();
}
double PatternStrip::yOf(double value) const {
    const QRectF box = plot();
    return box.bottom() - (value - look_.low) / (look_.high - look_.low) * box.height();
}
double PatternStrip::secondsAt(double x) const {
    const QRectF box = plot();
    const double s = (x - box.left()) / box.width() * end();
    return std::max(0.0, std::round(s / step()) * step());
}
double PatternStrip::valueAtY(double y) const {
    const QRectF box = plot();
    const double v = look_.low + (box.bottom() - y) / box.height() * (look_.high - look_.low);
    if (look_.states) return v > (look_.low + look_.high) / 2 ? 1 : 0;
    const double by = roundStep(look_.high - look_.low);
    return std::clamp(std::round(v / by) * by, look_.low, look_.high);
}

QPointF PatternStrip::placeOf(std::size_t point) const {
    const auto& [t, v] = pattern_.at(point);
    // An edge is taken hold of in its middle.
    return {xOf(t), look_.states ? plot().center().y() : yOf(v)};
}

std::optional<std::size_t> PatternStrip::pointAt(QPointF at) const {
    std::optional<std::size_t> out;
    double nearest = reach;
    for (std::size_t i = 0; i < pattern_.size(); ++i) {
        const QPointF d = placeOf(i) - at;
        const double away = look_.states ? std::fabs(d.x()) : std::hypot(d.x(), d.y());
        if (away < nearest) {
            nearest = away;
            out = i;
        }
    }
    return out;
}

QString PatternStrip::wordsOf(double value) const {
    if (look_.states) return value > 0.5 ? look_.onWord : look_.offWord;
    return shown(shortNumber(value));
}

void PatternStrip::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    const Theme& t = theme();
    const QRectF box = plot();
    p.setFont(uiFont(12));
    const double middle = (look_.low + look_.high) / 2;
    for (const double v :
         look_.states ? std::vector<double>{0, 1} : std::vector<double>{look_.low, middle, look_.high}) {
        p.setPen(t.hairline);
        p.drawLine(QPointF(box.left(), yOf(v)), QPointF(box.right(), yOf(v)));
        p.setPen(t.muted);
        p.drawText(QRectF(0, yOf(v) - 9, box.left() - 8, 18), Qt::AlignRight | Qt::AlignVCenter, wordsOf(v));
    }
    // Five to ten times are named.
    const double tick = roundStep(end()) * 10;
    for (double s = 0; s <= end() * (1 + 1e-9); s += tick) {
        p.setPen(t.hairline);
        p.drawLine(QPointF(xOf(s), box.top()), QPointF(xOf(s), box.bottom() + 4));
        if (look_.flat) continue;
        p.setPen(t.muted);
        const bool last = s + tick > end() * (1 + 1e-9);
        p.drawText(QRectF(xOf(s) - 40, box.bottom() + 5, 80, 18), Qt::AlignHCenter,
                   shown(shortNumber(s)) + (last ? tr(" s") : QString()));
    }
    if (pattern_.empty()) return;
    QPolygonF line;
    const double until = look_.lasts > 0 ? std::min(look_.lasts, end()) : end();
    line << QPointF(box.left(), yOf(pattern_.front().second));
    for (std::size_t i = 0; i < pattern_.size(); ++i) {
        const auto& [s, v] = pattern_[i];
        if (!look_.lines && i > 0) line << QPointF(xOf(s), yOf(pattern_[i - 1].second));
        line << QPointF(xOf(s), yOf(v));
    }
    line << QPointF(xOf(std::max(until, pattern_.back().first)), yOf(pattern_.back().second));
    const QColor colour = t.signal[static_cast<std::size_t>(look_.colour)];
    QColor fill = colour;
    fill.setAlphaF(0.12F);
    QPolygonF area = line;
    area << QPointF(line.back().x(), box.bottom()) << box.bottomLeft();
    p.setPen(Qt::NoPen);
    p.setBrush(fill);
    p.drawPolygon(area);
    p.setBrush(Qt::NoBrush);
    p.setPen(QPen(colour, 2));
    p.drawPolyline(line);
    for (std::size_t i = 0; i < pattern_.size(); ++i) {
        const bool is = chosen_ == i;
        const double r = is && hasFocus() ? 6 : 4.5;
        p.setPen(QPen(is ? t.ink : colour, 1.5));
        p.setBrush(is ? t.ink : t.ground);
        if (look_.states)
            p.drawRect(QRectF(placeOf(i) - QPointF(3, r + 2), QSizeF(6, 2 * r + 4)));
        else
            p.drawEllipse(placeOf(i), r, r);
    }
    if (now_ && *now_ >= 0 && *now_ <= end()) {
        p.setPen(QPen(t.ink, 1));
        p.drawLine(QPointF(xOf(*now_), box.top() - 4), QPointF(xOf(*now_), box.bottom()));
    }
    if (chosen_ && *chosen_ < pattern_.size()) {
        const auto& [s, v] = pattern_[*chosen_];
        const QString words =
            tr("%1 s: %2 %3").arg(shown(shortNumber(s)), wordsOf(v), look_.states ? QString() : look_.unit);
        QRectF at(placeOf(*chosen_) + QPointF(8, -22), QSizeF(p.fontMetrics().horizontalAdvance(words) + 10, 18));
        if (at.right() > width()) at.moveRight(placeOf(*chosen_).x() - 8);
        if (at.top() < 0) at.moveTop(placeOf(*chosen_).y() + 8);
        p.setPen(Qt::NoPen);
        p.setBrush(t.ground);
        p.drawRect(at);
        p.setPen(t.ink);
        p.drawText(at, Qt::AlignCenter, words);
    }
}

void PatternStrip::take(Pattern next) {
    if (next == pattern_) return;
    pattern_ = std::move(next);
    if (chosen_ && *chosen_ >= pattern_.size()) chosen_.reset();
    update();
    Q_EMIT changed(pattern_);
}

void PatternStrip::mousePressEvent(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton || !isEnabled()) return QWidget::mousePressEvent(event);
    chosen_ = pointAt(event->position());
    if (chosen_) {
        dragEnd_ = end();
        dragged_ = chosen_;
        before_ = pattern_;
    }
    update();
}

void PatternStrip::mouseMoveEvent(QMouseEvent* event) {
    if (!dragged_) {
        const bool near = pointAt(event->position()).has_value();
        setCursor(!near ? Qt::ArrowCursor : look_.states ? Qt::SplitHCursor : Qt::SizeAllCursor);
        return;
    }
    const double v = look_.states ? before_[*dragged_].second : valueAtY(event->position().y());
    pattern_ = movedPoint(before_, *dragged_, secondsAt(event->position().x()), v, step());
    update();
}

void PatternStrip::mouseReleaseEvent(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton || !dragged_) return QWidget::mouseReleaseEvent(event);
    dragged_.reset();
    Pattern next = std::exchange(pattern_, before_);
    take(std::move(next));
}

void PatternStrip::mouseDoubleClickEvent(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton || !isEnabled() || pointAt(event->position())) return;
    const double at = secondsAt(event->position().x());
    dragged_.reset();
    constexpr double widthInSteps = 10;
    Pattern next = look_.states ? withPulse(pattern_, at, widthInSteps * step())
                                : withPoint(pattern_, at, valueAtY(event->position().y()), step());
    take(std::move(next));
    chosen_ = pointAt({xOf(at), event->position().y()});
    update();
}

bool PatternStrip::event(QEvent* event) {
    // Delete and the arrows are the strip's own while it has the keyboard, not the window's.
    if (event->type() == QEvent::ShortcutOverride) {
        const int key = static_cast<QKeyEvent*>(event)->key();
        if (key == Qt::Key_Delete || key == Qt::Key_Left || key == Qt::Key_Right || key == Qt::Key_Up ||
            key == Qt::Key_Down || key == Qt::Key_Insert)
            event->accept();
    }
    return QWidget::event(event);
}

void PatternStrip::keyPressEvent(QKeyEvent* event) {
    if (pattern_.empty()) return QWidget::keyPressEvent(event);
    const bool right = event->key() == Qt::Key_Right, left = event->key() == Qt::Key_Left;
    if ((right || left) && (event->modifiers() & Qt::ControlModifier || !chosen_)) {
        const std::size_t last = pattern_.size() - 1;
        if (!chosen_)
            chosen_ = right ? 0 : last;
        else if (right)
            chosen_ = std::min(last, *chosen_ + 1);
        else if (*chosen_ > 0)
            chosen_ = *chosen_ - 1;
        return update();
    }
    if (event->key() == Qt::Key_Insert) {
        const double behind = chosen_ ? pattern_[*chosen_].first : pattern_.back().first;
        constexpr double steps = 10;
        const double at = behind + steps * step();
        return take(look_.states ? withPulse(pattern_, at, steps * step())
                                 : withPoint(pattern_, at, valueAt(pattern_, at, look_.lines), step()));
    }
    if (!chosen_) return QWidget::keyPressEvent(event);
    const auto [t, v] = pattern_[*chosen_];
    const double times = event->modifiers() & Qt::ShiftModifier ? 10 : 1;
    if (right || left) return take(movedPoint(pattern_, *chosen_, t + (right ? times : -times) * step(), v, step()));
    const bool up = event->key() == Qt::Key_Up;
    if ((up || event->key() == Qt::Key_Down) && !look_.states) {
        const double by = (up ? times : -times) * roundStep(look_.high - look_.low);
        return take(movedPoint(pattern_, *chosen_, t, std::clamp(v + by, look_.low, look_.high), step()));
    }
    if (event->key() == Qt::Key_Delete) return take(withoutPoint(pattern_, *chosen_, look_.states));
    QWidget::keyPressEvent(event);
}

}  // namespace cruscotto
