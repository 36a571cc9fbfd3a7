#include "app/run/ribbon.h"

#include <QDateTime>
#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QToolTip>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/bench/stretch_ends.h"
#include "core/signal/scale.h"

namespace cruscotto {

Ribbon::Ribbon(Session& session, QWidget* parent) : QWidget(parent), session_(session), live_(new QToolButton(this)) {
    setFixedHeight(88);
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAttribute(Qt::WA_OpaquePaintEvent);
    setAccessibleName(tr("Ribbon: all the time there is"));
    live_->setToolTip(tr("Back to the newest (End)"));
    connect(live_, &QToolButton::clicked, this, [this] { session_.cursor().goToEnd(); });
    connect(&session_.cursor(), &TimeCursor::moved, this, [this] { refresh(true); });
    connect(&session_.cursor(), &TimeCursor::windowChanged, this, [this] { update(); });
    connect(&session_.cursor(), &TimeCursor::stretched, this, [this] { update(); });
}

QRectF Ribbon::strip() const {
    return {16, 14, width() - 16.0 - 132, 44};
}

double Ribbon::xOf(Instant t) const {
    const QRectF s = strip();
    const double all = std::max(1.0, static_cast<double>((extent_.to - extent_.from).ns));
    return s.left() + static_cast<double>((t - extent_.from).ns) / all * s.width();
}

Instant Ribbon::timeAt(double x) const {
    const QRectF s = strip();
    const double f = std::clamp((x - s.left()) / s.width(), 0.0, 1.0);
    return extent_.from +
           nanoseconds(static_cast<std::int64_t>(f * static_cast<double>((extent_.to - extent_.from).ns)));
}

void Ribbon::refresh(bool digits) {
    if (!digits) return;
    extent_ = session_.source().extent();
    extent_.to = std::max(extent_.to, session_.end());
    if (extent_.to <= extent_.from) extent_.to = extent_.from + seconds(1);
    const auto n = static_cast<std::int64_t>(std::max(16.0, strip().width()));
    const Duration width{std::max<std::int64_t>(1, (extent_.to - extent_.from).ns / n + 1)};
    std::string signal = session_.bench().ribbonSignal;
    if (!session_.bench().signal(signal) && !session_.bench().signals.empty())
        signal = session_.bench().signals.front()->id;
    session_.source().columns(signal, {extent_.from, width, static_cast<std::size_t>(n)}, columns_);
    const bool atEnd = session_.cursor().atEnd();
    const QString word = session_.isRun() ? tr("End of run") : tr("Live");
    live_->setText(word);
    live_->setEnabled(!atEnd);
    update();
}

void Ribbon::resizeEvent(QResizeEvent*) {
    live_->setGeometry(width() - 116, 22, 100, 28);
    refresh(true);
}

void Ribbon::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.fillRect(rect(), t.panel);
    p.setPen(t.hairline);
    p.drawLine(0, 0, width(), 0);
    const QRectF s = strip();
    p.setPen(Qt::NoPen);
    p.fillRect(s, t.ground);

    // what was recorded
    for (const Span& span : session_.recordedSpans())
        p.fillRect(QRectF(QPointF(xOf(span.from), s.bottom() + 1),
                          QPointF(std::max(xOf(span.from) + 2, xOf(span.to)), s.bottom() + 5)),
                   t.accent);

    // the window that the traces show
    const Instant at = std::min(session_.shownAt(), extent_.to);  // which may be newer than what was last looked at
    const double x = xOf(at);
    const double from = std::max(s.left(), xOf(at - session_.cursor().window()));
    p.fillRect(QRectF(from, s.top(), x - from, s.height()), t.track);

    std::string id = session_.bench().ribbonSignal;
    const SignalSpec* signal = session_.bench().signal(id);
    if (!signal && !session_.bench().signals.empty()) signal = session_.bench().signals.front().get();
    if (signal) {
        Summary all;
        for (const Column& c : columns_) all.add(c.summary);
        if (all.count) {
            const double span = std::max(all.max - all.min, 1e-12);
            const auto y = [&](double v) { return s.bottom() - 4 - (v - all.min) / span * (s.height() - 8); };
            const QColor colour = t.signal[static_cast<std::size_t>(signal->colour)];
            p.setPen(QPen(colour, 1));
            const double dx = s.width() / static_cast<double>(columns_.size());
            const bool steps = holds(*signal);
            QPointF last(std::nan(""), 0);
            for (std::size_t i = 0; i < columns_.size(); ++i) {
                const Summary& c = columns_[i].summary;
                if (columns_[i].broken()) last.setX(std::nan(""));
                if (!c.count) continue;
                const QPointF now(s.left() + dx * (static_cast<double>(i) + 0.5), y(c.mean));
                double top = y(c.max), bottom = y(c.min);
                if (now.x() - last.x() > 1.5 * dx) {
                    // A slow signal: nothing in between, and nothing missing.
                    const QPointF held = steps ? QPointF(now.x(), last.y()) : now;
                    p.drawLine(last, held);
                    if (steps) p.drawLine(held, now);
                } else if (!std::isnan(last.x())) {
                    top = std::min(top, last.y());
                    bottom = std::max(bottom, last.y());
                }
                p.drawLine(QPointF(now.x(), top), QPointF(now.x(), bottom + 0.6));
                last = now;
            }
        }
        p.setFont(uiFont(11, QFont::Bold));
        p.setPen(t.signal[static_cast<std::size_t>(signal->colour)]);
        p.drawText(QPointF(s.left() + 4, s.top() + 12), shown(signal->tag));
    }

    if (const auto stretch = session_.stretch()) {
        const double a = std::clamp(xOf(stretch->from), s.left(), s.right());
        const double b = std::clamp(xOf(stretch->to), s.left(), s.right());
        QColor soft = t.accent;
        soft.setAlpha(t.night ? 70 : 50);
        p.fillRect(QRectF(QPointF(a, s.top()), QPointF(std::max(b, a + 1), s.bottom())), soft);
        p.setPen(QPen(t.accent, 1));
        for (const double end : {a, b}) p.drawLine(QPointF(end, s.top() - 4), QPointF(end, s.bottom()));
    }

    // the time of day
    const WallAnchor anchor = session_.source().anchor();
    const long long toWall = anchor.unixNs - anchor.at.ns;
    const long long zone = QDateTime::fromMSecsSinceEpoch(anchor.unixNs / 1'000'000).offsetFromUtc() * 1'000'000'000LL;
    p.setFont(uiFont(11));
    long long step = 0;
    for (const long long tick : timeTicksFor(extent_.from.ns + toWall, extent_.to.ns + toWall,
                                             std::max(2, static_cast<int>(s.width() / 110)), zone, &step)) {
        const double tx = xOf({tick - toWall});
        p.setPen(t.hairline);
        p.drawLine(QPointF(tx, s.bottom() + 1), QPointF(tx, s.bottom() + 6));
        p.setPen(t.muted);
        if (!session_.cursor().atEnd() && std::fabs(tx - x) < 76) continue;  // the handle's own label stands there
        const QString label = wallTimeText(session_.source(), {tick - toWall}, step < 1'000'000'000);
        drawFigures(p,
                    {std::clamp(tx - figuresWidth(uiFont(11), label) / 2, s.left(), s.right() - 60), s.bottom() + 20},
                    uiFont(11), label);
    }
    p.setPen(QPen(t.red, 1));
    double last = -10;
    for (const Instant at_ : session_.alarmTimes()) {
        const double ax = xOf(at_);
        if (ax - last < 2) continue;  // as many as can be told apart
        last = ax;
        p.drawLine(QPointF(ax, s.top() - 4), QPointF(ax, s.bottom()));
        p.setBrush(t.red);
        p.drawPolygon(QPolygonF({{ax - 4, s.top() - 4}, {ax + 4, s.top() - 4}, {ax, s.top() - 11}}));
        p.setBrush(Qt::NoBrush);
    }
    for (const Mark& mark : session_.marks()) {
        const double mx = xOf(mark.at);
        p.setPen(QPen(t.ink, 1));
        p.drawLine(QPointF(mx, s.top() - 8), QPointF(mx, s.bottom()));
        p.setBrush(t.ink);
        p.drawPolygon(QPolygonF({{mx, s.top() - 10}, {mx + 7, s.top() - 7}, {mx, s.top() - 4}}));
        p.setBrush(Qt::NoBrush);
    }

    // the handle
    p.setRenderHint(QPainter::Antialiasing);
    const bool atEnd = session_.cursor().atEnd();
    p.setPen(QPen(hasFocus() || !atEnd ? t.accent : t.ink, 2));
    p.drawLine(QPointF(x, s.top() - 6), QPointF(x, s.bottom() + 6));
    p.setBrush(atEnd ? t.ink : t.accent);
    if (hasFocus()) p.setBrush(t.accent);
    p.setPen(Qt::NoPen);
    p.drawRoundedRect(QRectF(x - 4, s.top() + s.height() / 2 - 9, 8, 18), 2, 2);
    if (!atEnd) {
        const QFont font = uiFont(12, QFont::Medium);
        const QString label = wallTimeText(session_.source(), at, true);
        const double w = figuresWidth(font, label) + 12;
        const double lx = std::clamp(x - w / 2, s.left(), s.right() - w);
        p.setBrush(t.accent);
        p.drawRoundedRect(QRectF(lx, s.bottom() + 8, w, 18), 3, 3);
        p.setPen(t.ground);
        drawFigures(p, {lx + 6, s.bottom() + 21.5}, font, label);
    }
}

void Ribbon::dragTo(double x) {
    if (x >= strip().right() - 1)
        session_.cursor().goToEnd();
    else
        session_.cursor().goTo(timeAt(x));
}

std::optional<Instant> Ribbon::gripAt(double x) const {
    constexpr double grip = 4;
    const auto stretch = session_.stretch();
    if (!stretch) return {};
    const double from = std::fabs(xOf(stretch->from) - x), to = std::fabs(xOf(stretch->to) - x);
    if (std::min(from, to) > grip) return {};
    return from < to ? stretch->to : stretch->from;
}

void Ribbon::dragEnd(double x) {
    constexpr double settles = 5;
    // At marks, at edges of states, and where its own signal goes through zero or its middle.
    std::vector<SettlingSignal> among;
    for (const auto& signal : session_.bench().signals) {
        if (!signal->isState() && signal->id != session_.bench().ribbonSignal) continue;
        SettlingSignal one{signal.get(), {}};
        Summary seen;
        if (!signal->isState())
            for (const Column& c : columns_) seen.add(c.summary);
        if (seen.count > 0) one.levels.push_back((seen.min + seen.max) / 2);
        if (seen.count > 0 && seen.min < 0 && seen.max > 0) one.levels.push_back(0);
        among.push_back(std::move(one));
    }
    std::vector<Instant> marks;
    for (const Mark& mark : session_.marks()) marks.push_back(mark.at);
    const Instant t = settled(session_.source(), among, marks, timeAt(x), timeAt(x + settles) - timeAt(x));
    session_.cursor().stretchOver({*otherEnd_, std::min(t, session_.end())});
}

void Ribbon::mousePressEvent(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton) return;
    const double x = event->position().x();
    otherEnd_ = gripAt(x);
    if (!otherEnd_ && (event->modifiers() & Qt::ShiftModifier)) otherEnd_ = timeAt(x);
    session_.cursor().setDragging(otherEnd_.has_value());
    if (!otherEnd_) dragTo(x);
}

void Ribbon::mouseReleaseEvent(QMouseEvent*) {
    otherEnd_.reset();
    session_.cursor().setDragging(false);
}

void Ribbon::mouseMoveEvent(QMouseEvent* event) {
    setCursor(strip().adjusted(-6, -10, 6, 10).contains(event->position()) ? Qt::SizeHorCursor : Qt::ArrowCursor);
    if (!(event->buttons() & Qt::LeftButton)) return;
    if (otherEnd_)
        dragEnd(event->position().x());
    else
        dragTo(event->position().x());
}

void Ribbon::keyPressEvent(QKeyEvent* event) {
    const Duration step{session_.cursor().window().ns / (event->modifiers() & Qt::ShiftModifier ? 1 : 10)};
    const Instant at = session_.shownAt();
    if (event->key() == Qt::Key_Left) return session_.cursor().goTo(std::max(extent_.from, at - step));
    if (event->key() == Qt::Key_Right) {
        if (at + step >= session_.end()) return session_.cursor().goToEnd();
        return session_.cursor().goTo(at + step);
    }
    if (event->key() == Qt::Key_Home) return session_.cursor().goTo(extent_.from);
    QWidget::keyPressEvent(event);
}

bool Ribbon::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip) {
        const auto* help = static_cast<QHelpEvent*>(event);
        for (const Mark& mark : session_.marks())
            if (std::fabs(xOf(mark.at) - help->pos().x()) < 6) {
                QToolTip::showText(help->globalPos(),
                                   wallTimeText(session_.source(), mark.at) + "  " + shown(mark.words), this);
                return true;
            }
        QToolTip::hideText();
        return true;
    }
    return QWidget::event(event);
}

}  // namespace cruscotto
