#include "app/chain/stage_trace.h"

#include <QMouseEvent>
#include <QPainter>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/analysis/straight_line.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

constexpr double traceHeight = 106, plotHeight = 72;
constexpr std::size_t mostSamples = 400'000;
constexpr Duration forLevels{60'000'000'000}, forFilters{2'000'000'000};

/// The standard deviation about the straight line through them: noise, without what changes slowly.
double noiseOf(const std::vector<double>& v) {
    std::vector<double> at, there;
    for (std::size_t i = 0; i < v.size(); ++i)
        if (std::isfinite(v[i])) at.push_back(static_cast<double>(i)), there.push_back(v[i]);
    constexpr std::size_t fewest = 10;
    if (there.size() < fewest) return std::nan("");
    return std::sqrt(straightLine(at, there).rest / static_cast<double>(there.size() - 2));
}

/// The unit of the same kind in which a difference of this size is easiest to read, and the factor to it.
std::pair<std::string, double> unitFor(double size, const std::string& unit) {
    std::pair<std::string, double> out{unit, 1};
    for (const std::string& other : compatibleUnits(unit)) {
        const auto in = convertUnit(unit, other);
        if (!in || !(size > 0)) continue;
        const auto distance = [&](double factor) { return std::fabs(std::log10(size * factor) - 1); };
        if (distance(in->factor) < distance(out.second) - 1) out = {other, in->factor};
    }
    return out;
}

QString inThreeFigures(double v) {
    return shown(shortNumber(std::strtod(fmt::format("{:.3g}", v).c_str(), nullptr))).replace('-', QChar(0x2212));
}

}  // namespace

StageTrace::StageTrace(QWidget* parent) : QWidget(parent) {
    setFixedHeight(static_cast<int>(traceHeight));
    setMouseTracking(true);
    setAccessibleName(tr("What comes into the stage"));
}

bool StageTrace::suits(const Stage& stage) {
    return !stage.isOff() && (stage.kind().smooths || !stage.kind().levels.empty());
}

void StageTrace::look(const Source& source, const std::string& signal, std::size_t index, const Stage& stage,
                      const std::string& unitBefore, Instant t) {
    if (dragged_ >= 0) return;  // it holds still under the hand
    // Up to a minute of samples is gone through: once a second is enough, and at once where the stage is another.
    constexpr Duration often = milliseconds(1000);
    if (stage_ == stage && lookedAt_ && !in_.empty() && t >= *lookedAt_ && t - *lookedAt_ < often) return;
    lookedAt_ = t;
    stage_ = stage;
    unit_ = unitBefore;
    const bool levels = !stage.kind().levels.empty();
    const Span span{t - (levels ? forLevels : forFilters), t + Duration{1}};
    if (!source.stageSeries(signal, index, span, mostSamples, in_, times_)) in_.clear();
    out_.clear();
    std::vector<Instant> when;
    if (!levels && !in_.empty()) (void)source.stageSeries(signal, index + 1, span, mostSamples, out_, when);
    low_ = INFINITY;
    high_ = -INFINITY;
    const auto reach = [&](double v) {
        if (std::isfinite(v)) low_ = std::min(low_, v), high_ = std::max(high_, v);
    };
    for (const double v : in_) reach(v);
    for (const std::string& field : stage.kind().levels) reach(stage.number(field));
    if (!(low_ < high_)) low_ = low_ - 1, high_ = high_ + 1;
    count();
    update();
}

void StageTrace::count() {
    if (!stage_ || in_.empty()) {
        words_ = tr("Nothing has come yet.");
        return;
    }
    if (stage_->kind().tried) {
        const double held = (times_.back() - times_.front()).seconds();
        words_ = tr("In the last %1 s: %2").arg(held, 0, 'f', 0).arg(shown(stage_->kind().tried(*stage_, in_, times_)));
        return;
    }
    const double before = noiseOf(in_), behind = noiseOf(out_);
    const double interval =
        times_.size() > 1 ? (times_.back() - times_.front()).seconds() / static_cast<double>(times_.size() - 1) : 0;
    // Of samples without a clock the interval is never quite the same; the delay is told in three figures.
    const bool known = delay_ && delay_->of == *stage_ && std::fabs(delay_->interval - interval) < 1e-3 * interval;
    if (!known) delay_ = Delay{*stage_, interval, delayOf(*stage_, unit_, interval)};
    const double late = delay_->seconds;
    QStringList all;
    if (!std::isnan(before) && !std::isnan(behind)) {
        const auto [unit, factor] = unitFor(before, unit_);
        all << tr("Noise %1 %3 before, %2 %3 behind.")
                   .arg(inThreeFigures(before * factor), inThreeFigures(behind * factor), shown(unitText(unit)));
    }
    if (!std::isnan(late)) all << tr("%1 ms later.").arg(inThreeFigures(late * 1000));
    words_ = all.join(' ');
}

double StageTrace::yOf(double value) const {
    return plotHeight - 4 - (value - low_) / (high_ - low_) * (plotHeight - 8);
}

double StageTrace::valueAt(double y) const {
    return low_ + (plotHeight - 4 - y) / (plotHeight - 8) * (high_ - low_);
}

int StageTrace::nearestLevel(double y) const {
    if (!stage_) return -1;
    constexpr double near = 9;
    int out = -1;
    double best = near;
    for (std::size_t i = 0; i < stage_->kind().levels.size(); ++i)
        if (const double d = std::fabs(yOf(stage_->number(stage_->kind().levels[i])) - y); d < best) {
            best = d;
            out = static_cast<int>(i);
        }
    return out;
}

void StageTrace::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.setRenderHint(QPainter::Antialiasing);
    p.fillRect(QRectF(0, 0, width(), plotHeight), t.track);
    // Two points a column: the least and the greatest of it.
    const auto draw = [&](const std::vector<double>& v, const QColor& colour, double thick) {
        if (v.size() < 2) return;
        QPolygonF line;
        const auto columns = static_cast<std::size_t>(std::max(1, width()));
        for (std::size_t c = 0; c < columns; ++c) {
            const std::size_t a = c * v.size() / columns, b = std::max(a + 1, (c + 1) * v.size() / columns);
            double low = INFINITY, high = -INFINITY;
            for (std::size_t i = a; i < std::min(b, v.size()); ++i)
                if (std::isfinite(v[i])) low = std::min(low, v[i]), high = std::max(high, v[i]);
            if (low > high) continue;
            line << QPointF(static_cast<double>(c), yOf(low));
            if (high > low) line << QPointF(static_cast<double>(c), yOf(high));
        }
        p.setPen(QPen(colour, thick));
        p.drawPolyline(line);
    };
    draw(in_, out_.empty() ? t.ink : t.muted, 1);
    draw(out_, t.accent, 1.6);
    if (stage_)
        for (std::size_t i = 0; i < stage_->kind().levels.size(); ++i) {
            const double v = stage_->number(stage_->kind().levels[i]), y = yOf(v);
            p.setPen(QPen(t.accent, 1.5));
            p.drawLine(QPointF(0, y), QPointF(width(), y));
            p.setBrush(t.accent);
            p.drawRect(QRectF(width() - 10, y - 4, 10, 8));
            p.setBrush(Qt::NoBrush);
        }
    p.setFont(uiFont(11));
    p.setPen(t.muted);
    p.drawText(QRectF(0, plotHeight + 3, width(), traceHeight - plotHeight - 3), Qt::AlignLeft | Qt::TextWordWrap,
               words_);
    setToolTip(words_);
}

void StageTrace::mousePressEvent(QMouseEvent* event) {
    if (event->button() == Qt::LeftButton) dragged_ = nearestLevel(event->position().y());
}

void StageTrace::mouseMoveEvent(QMouseEvent* event) {
    const double y = event->position().y();
    if (dragged_ < 0) {
        setCursor(nearestLevel(y) >= 0 ? Qt::SizeVerCursor : Qt::ArrowCursor);
        return;
    }
    const std::string& field = stage_->kind().levels[static_cast<std::size_t>(dragged_)];
    const double v = valueAt(std::clamp(y, 0.0, plotHeight));
    // No finer than a pixel can tell.
    const double grain = std::pow(10, std::floor(std::log10((high_ - low_) / plotHeight)));
    stage_ = stage_->with(field, std::round(v / grain) * grain);
    count();
    update();
}

void StageTrace::mouseReleaseEvent(QMouseEvent*) {
    const int dragged = std::exchange(dragged_, -1);
    if (dragged < 0) return;
    const std::string& field = stage_->kind().levels[static_cast<std::size_t>(dragged)];
    Q_EMIT levelAsked(shown(field), stage_->number(field));
}

}  // namespace cruscotto
