#include "app/chain/raw_watch.h"

#include <QPainter>
#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {

constexpr Duration shownTime{10'000'000'000};
constexpr std::size_t mostMoments = 600;

/// With three digits, but whole counts whole.
QString figures(double v) {
    constexpr double large = 1000;
    if (std::fabs(v) >= large) return shown(readingText(v, 0));
    return shown(shortNumber(std::strtod(fmt::format("{:.3g}", v).c_str(), nullptr))).replace('-', QChar(0x2212));
}

}  // namespace

RawWatch::RawWatch(const SignalSpec& spec, QWidget* parent) : QWidget(parent), kind_(spec.kind) {
    setFixedHeight(48);
    setAccessibleName(tr("What the terminal does"));
}

void RawWatch::look(const Source& source, const SignalSpec& spec, const std::vector<double>& stages, Instant t) {
    double v = stages.empty() ? source.at(spec.id, t).value : stages[0];
    unit_ = spec.output ? spec.unit() : rawUnit(spec.kind);
    for (std::size_t i = 0; i < spec.chain.size() && i + 1 < stages.size(); ++i)
        if (unitBefore(spec.chain, i + 1, spec.kind) == "V") {
            v = stages[i + 1];
            unit_ = "V";
            break;
        }
    if (range_ != spec.range || chain_ != spec.chain) {
        constexpr Duration untilTaken = milliseconds(500);
        if (!last_.empty()) from_ = t + untilTaken;
        range_ = spec.range;
        chain_ = spec.chain;
        last_.clear();
        low_.reset();
        high_.reset();
    }
    if (t < from_) return;
    if (std::isnan(v) || (!last_.empty() && t <= last_.back().at)) return;
    last_.push_back({t, v});
    std::erase_if(last_, [&](const Moment& m) { return m.at < t - shownTime; });
    if (last_.size() > mostMoments) last_.erase(last_.begin());
    // Within the time since it was looked at last, more can have happened than is at its end.
    std::vector<Point> between;
    const Instant from = last_.size() > 1 ? last_[last_.size() - 2].at : t;
    if (isDigital(kind_)) {
        constexpr std::size_t most = 20'000;
        (void)source.points(spec.id, {from, t + Duration{1}}, most, between);
        for (const Point& p : between) {
            if (std::isnan(p.value)) continue;
            if (on_ && p.value > 0.5 && !*on_) ++changes_;
            on_ = p.value > 0.5;
        }
    } else {
        low_ = std::min(low_.value_or(v), v);
        high_ = std::max(high_.value_or(v), v);
    }
    if (fit_) {
        const auto smallest = smallestRange(ranges_, spec);
        fit_->setVisible(smallest.has_value());
        if (smallest)
            fit_->setText(
                tr("Use %1 to %2 V: it fits, and is finer").arg(figures(smallest->low), figures(smallest->high)));
    }
    update();
}

void RawWatch::setRanges(std::vector<Scale> ranges) {
    ranges_ = std::move(ranges);
}

std::optional<Scale> RawWatch::smallestRange(const std::vector<Scale>& ranges, const SignalSpec& spec) const {
    constexpr std::size_t enough = 10;  // looks
    if (unit_ != "V" || !low_ || last_.size() < enough || ranges.size() < 2) return std::nullopt;
    const Scale now = spec.range.value_or(ranges.back());
    const double spare = 0.1;
    for (const Scale& r : ranges) {
        if (!(r.high - r.low < now.high - now.low)) continue;
        if (*low_ >= r.low * (1 - spare) && *high_ <= r.high * (1 - spare)) return r;
    }
    return std::nullopt;
}

QString RawWatch::words() const {
    if (isDigital(kind_)) {
        if (isOutput(kind_)) return {};
        return changes_ == 0
                   ? tr("Not switched on since you opened this.")
                   : counted(static_cast<std::uint64_t>(changes_), tr("Switched on once since you opened this."),
                             tr("Switched on %1 times since you opened this."));
    }
    if (!low_) return tr("Nothing has come since you opened this.");
    return tr("%1 to %2 %3 since you opened this.").arg(figures(*low_), figures(*high_), shown(unitText(unit_)));
}

void RawWatch::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    const QRectF strip(0.5, 2.5, width() - 1, 24);
    p.setRenderHint(QPainter::Antialiasing);
    p.fillRect(strip, t.track);
    if (last_.size() > 1) {
        double low = isDigital(kind_) ? 0 : last_.front().value, high = isDigital(kind_) ? 1 : low;
        for (const Moment& m : last_) low = std::min(low, m.value), high = std::max(high, m.value);
        const double span = high > low ? high - low : 1;
        QPolygonF line;
        const Instant end = last_.back().at;
        for (const Moment& m : last_) {
            const double x = strip.right() - (end - m.at).seconds() / shownTime.seconds() * strip.width();
            const double y = strip.bottom() - 3 - (m.value - low) / span * (strip.height() - 6);
            if (isDigital(kind_) && !line.isEmpty()) line << QPointF(x, line.back().y());
            line << QPointF(x, high > low ? y : strip.center().y());
        }
        p.setPen(QPen(t.ink, 1.2));
        p.drawPolyline(line);
    }
    p.setFont(uiFont(11));
    p.setPen(t.muted);
    p.drawText(QRectF(0, 30, width(), 16), Qt::AlignLeft | Qt::AlignVCenter, words());
}

}  // namespace cruscotto
