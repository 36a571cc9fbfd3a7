#include "app/rules/control_plot.h"

#include <QPainter>
#include <algorithm>
#include <cmath>
#include <limits>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

ControlPlot::ControlPlot(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setMinimumHeight(260);
    setAccessibleName(tr("Signal and output of late"));
}

void ControlPlot::read(Lane& lane, const SignalSpec& s, Instant from, Duration width) {
    lane.name = shown(s.name);
    lane.unit = shown(unitText(s.unit()));
    lane.colour = theme().signal[static_cast<std::size_t>(s.colour)];
    lane.steps = holds(s);
    lane.state = s.isState() || isDigital(s.kind);
    lane.onWord = stateWord(s, 1);
    lane.offWord = stateWord(s, 0);
    session_.source().columns(
        s.id, {from, width, static_cast<std::size_t>(static_cast<double>(window_.ns) / static_cast<double>(width.ns))},
        lane.columns);
    if (const Reading held = session_.source().at(s.id, from); lane.steps && held.quality != Quality::gap)
        lane.before = held.value;
    double low = std::numeric_limits<double>::infinity(), high = -low;
    for (const Column& c : lane.columns)
        if (c.summary.count) low = std::min(low, c.summary.min), high = std::max(high, c.summary.max);
    if (lane.before) low = std::min(low, *lane.before), high = std::max(high, *lane.before);
    if (s.output) low = isDigital(s.kind) ? 0 : s.output->low, high = isDigital(s.kind) ? 1 : s.output->high;
    if (low > high) low = 0, high = 1;
    lane.low = low;
    lane.high = high;
}

void ControlPlot::show(const ControlSpec& control, const Setpoints& setpoints, Duration window) {
    lanes_.clear();
    setpoints_ = setpoints;
    window_ = window;
    width_ = Duration{window.ns / 600};
    const Instant end = session_.end();
    from_ = Instant{(end.ns - window.ns) / width_.ns * width_.ns};
    for (const std::string& id : {control.signal, control.output})
        if (const SignalSpec* s = session_.bench().signal(id)) {
            lanes_.emplace_back();
            read(lanes_.back(), *s, from_, width_);
        }
    // Another signal's setpoint has a past of its own.
    if (const SignalSpec* from = session_.bench().signal(control.setpointFrom)) {
        Lane lane;
        read(lane, *from, from_, width_);
        setpoints_.clear();
        for (const Column& c : lane.columns)
            if (c.summary.count) setpoints_.emplace_back(c.begin, c.summary.mean);
    }
    if (!lanes_.empty())
        for (const auto& [at, v] : setpoints_) {
            lanes_.front().low = std::min(lanes_.front().low, v);
            lanes_.front().high = std::max(lanes_.front().high, v);
        }
    for (Lane& lane : lanes_) {
        const double room = std::max(0.08 * (lane.high - lane.low), 1e-9 + 1e-3 * std::fabs(lane.high));
        lane.low -= room;
        lane.high += room;
    }
    update();
}

void ControlPlot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    const Theme& t = theme();
    const double gap = 34, left = 64, top = 22;
    const auto n = static_cast<double>(std::max<std::size_t>(1, lanes_.size()));
    const double each = (height() - top - 22 - gap * (n - 1)) / n;
    double y = top;
    for (std::size_t i = 0; i < lanes_.size(); ++i, y += each + gap) {
        const Lane& lane = lanes_[i];
        const QRectF box(left, y, width() - left - 8, each);
        const auto yOf = [&](double v) {
            return box.bottom() - (v - lane.low) / (lane.high - lane.low) * box.height();
        };
        const double perColumn = box.width() / std::max<double>(1, static_cast<double>(lane.columns.size()));
        p.setPen(t.ink);
        p.setFont(uiFont(12, QFont::Medium));
        p.drawText(QPointF(left, y - 7),
                   lane.name + (lane.unit.isEmpty() ? QString() : QStringLiteral(", ") + lane.unit));
        p.setPen(t.muted);
        p.setFont(uiFont(12));
        // Three to six round numbers.
        const double span = lane.high - lane.low;
        double every = lane.state ? 1 : std::pow(10, std::floor(std::log10(span / 3)));
        for (const double by : {5.0, 2.0})
            if (!lane.state && span / (every * by) >= 3) {
                every *= by;
                break;
            }
        for (double v = std::ceil(lane.low / every) * every; v <= lane.high; v += every) {
            p.setPen(t.hairline);
            p.drawLine(QPointF(box.left(), yOf(v)), QPointF(box.right(), yOf(v)));
            p.setPen(t.muted);
            p.drawText(QRectF(0, yOf(v) - 9, left - 8, 18), Qt::AlignRight | Qt::AlignVCenter,
                       lane.state ? (v > 0.5 ? lane.onWord : lane.offWord)
                                  : shown(shortNumber(std::fabs(v) < every * 1e-6 ? 0 : v)));
        }
        if (i == 0 && !setpoints_.empty()) {
            const double shownNs = static_cast<double>(width_.ns) * static_cast<double>(lane.columns.size());
            QPolygonF steps;
            for (const auto& [at, v] : setpoints_) {
                const double x =
                    box.left() + std::max(0.0, static_cast<double>((at - from_).ns) / shownNs) * box.width();
                if (!steps.isEmpty()) steps << QPointF(x, steps.back().y());
                steps << QPointF(x, yOf(v));
            }
            steps << QPointF(box.right(), steps.back().y());
            p.setPen(QPen(t.ink, 1, Qt::DashLine));
            p.drawPolyline(steps);
            p.drawText(QPointF(box.right() - 76, steps.back().y() - 4), tr("setpoint"));
        }
        QPolygonF line;
        const auto flush = [&] {
            p.setPen(QPen(lane.colour, 1.6));
            if (line.size() > 1) p.drawPolyline(line);
            line.clear();
        };
        std::optional<double> before = lane.before;
        if (before) line << QPointF(box.left(), yOf(*before));
        for (std::size_t c = 0; c < lane.columns.size(); ++c) {
            const Column& column = lane.columns[c];
            if (column.broken()) flush(), before.reset();
            const double x = box.left() + (static_cast<double>(c) + 0.5) * perColumn;
            if (column.summary.count) {
                if (lane.steps && before) line << QPointF(x, yOf(*before));
                if (!lane.steps && column.summary.max - column.summary.min > 0) {
                    p.setPen(QPen(lane.colour, 1));
                    p.drawLine(QPointF(x, yOf(column.summary.min)), QPointF(x, yOf(column.summary.max)));
                }
                before = lane.steps ? column.summary.max : column.summary.mean;
                line << QPointF(x, yOf(*before));
            } else if (lane.steps && before) {
                line << QPointF(x, yOf(*before));
            }
        }
        flush();
    }
    p.setPen(t.muted);
    p.setFont(uiFont(12));
    p.drawText(QRectF(left, height() - 18, width() - left - 8, 18), Qt::AlignLeft,
               tr("%1 s ago").arg(window_.seconds()));
    p.drawText(QRectF(left, height() - 18, width() - left - 8, 18), Qt::AlignRight, tr("now"));
}

}  // namespace cruscotto
