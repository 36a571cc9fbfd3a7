#include "app/page/tiles/trace_tile.h"
#include "app/page/tiles/plot_library.h"
#include "app/page/tiles/tile_form.h"

#include <QContextMenuEvent>
#include <QMouseEvent>
#include <QWheelEvent>
#include <algorithm>
#include <cmath>
#include <limits>

#include "app/widgets/scale_end.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/stretch_ends.h"
#include "core/bench/tile_settings.h"
#include "core/signal/scale.h"

namespace cruscotto {

namespace {
constexpr int leftMargin = 52;
constexpr int leastTagMargin = 34, mostTagMargin = 120;
constexpr int rightMargin = 14;  // half of the label at the axis' end
constexpr int laneGap = 24;
constexpr int timeLabels = 20;
}  // namespace

TraceTile::TraceTile(Session& session, QWidget* parent)
    : Tile(session, parent),
      plot_(new QCustomPlot(this)),
      shade_(new StretchShade(plot_)),
      hover_(new TraceHover(plot_)) {
    plot_->plotLayout()->clear();
    plot_->plotLayout()->setRowSpacing(0);
    plot_->plotLayout()->setMargins({});
    plot_->setNotAntialiasedElements(QCP::AntialiasedElements(QCP::aeAll) &
                                     ~QCP::AntialiasedElements(QCP::aePlottables));
    plot_->setPlottingHint(QCP::phFastPolylines, true);
    plot_->setPlottingHint(QCP::phCacheLabels, true);
    plot_->setFocusPolicy(Qt::NoFocus);
    plot_->installEventFilter(this);
    plot_->setMouseTracking(true);
    connect(&session_.cursor(), &TimeCursor::windowChanged, this, [this] { lastEdge_ = -1; });
    connect(&session_.cursor(), &TimeCursor::moved, this, [this] { lastEdge_ = -1; });
    connect(&session_.beside(), &RunsBeside::changed, this, [this] {
        lastEdge_ = -1;
        std::vector<LaneKey> now;
        for (const auto& lane : lanes_) now.push_back(lane->key);
        if (now != lanesWanted()) rebuild();
    });
    connect(&session_.cursor(), &TimeCursor::stretched, this, [this] {
        if (settingOf(spec_, "lens") == "yes") lastEdge_ = -1;
        showStretch();
    });
}

TraceTile::~TraceTile() = default;

Scale TraceTile::laneScale(const Lane& lane) const {
    if (lane.key.difference) return lane.own.value_or(Scale{-1, 1});
    if (lane.key.states) return {0, static_cast<double>(std::max<std::size_t>(1, lane.lines.size()))};
    if (const auto it = spec_.scales.find(scaleKey(lane.key)); it != spec_.scales.end()) return it->second;
    std::optional<Scale> all;
    for (const Line& line : lane.lines) {
        const Scale& s = shown_[line.shownIndex].scale;
        all = all ? Scale{std::min(all->low, s.low), std::max(all->high, s.high)} : s;
    }
    Scale out = all.value_or(Scale{0, 1});
    // Decades have no zero: as many as are worth looking at.
    constexpr double decades = 1e-4;
    if (logarithmic(out)) out.low = std::max(out.low, out.high * decades);
    return out;
}

bool TraceTile::logarithmic(const Scale& scale) const {
    return settingOf(spec_, "values") == "logarithmic" && scale.high > 0 && scale.low >= 0;
}

double TraceTile::laneFraction(const Lane& lane, double v) const {
    const Scale scale = laneScale(lane);
    if (!logarithmic(scale)) return fractionOf(scale, v);
    return std::log(std::max(v, scale.low * 1e-3) / scale.low) / std::log(scale.high / scale.low);
}

double TraceTile::placed(const Lane& lane, const Line& line, double v) {
    if (!lane.key.states) return v;
    constexpr double air = 0.15;
    const auto row = static_cast<double>(lane.lines.size() - 1) - static_cast<double>(&line - lane.lines.data());
    return row + air + (1 - 2 * air) * v;
}

TraceTile::LaneKey TraceTile::laneOf(const SignalSpec& s) const {
    const auto alone = severalOf(spec_, "own-lanes");
    const bool own = !s.isState() && std::ranges::find(alone, s.id) != alone.end();
    return {s.unit(), s.isState(), false, own ? s.id : std::string()};
}

std::vector<TraceTile::LaneKey> TraceTile::lanesWanted() const {
    std::vector<LaneKey> out;
    const auto want = [&](const LaneKey& key) {
        if (std::ranges::find(out, key) == out.end()) out.push_back(key);
    };
    for (const Shown& s : shown_)
        if (!s.spec->isState()) want(laneOf(*s.spec));
    if (session_.beside().view().difference)
        for (const Shown& s : shown_)
            if (!s.spec->isState() && session_.beside().held(*s.spec)) want({s.spec->unit(), false, true, {}});
    for (const Shown& s : shown_)
        if (s.spec->isState()) want(laneOf(*s.spec));
    return out;
}

void TraceTile::rebuild() {
    const Theme& t = theme();
    const auto units = lanesWanted();
    std::vector<LaneKey> now;
    std::size_t lines = 0;
    for (const auto& lane : lanes_) {
        now.push_back(lane->key);
        if (!lane->key.difference) lines += lane->lines.size();
    }
    bool same = now == units && lines == shown_.size();
    for (const auto& lane : lanes_)
        for (const Line& line : lane->lines)
            same = same && line.shownIndex < shown_.size() && shown_[line.shownIndex].spec->unit() == lane->key.unit &&
                   (lane->key.difference || laneOf(*shown_[line.shownIndex].spec) == lane->key);
    if (!same) {
        plot_->clearGraphs();
        plot_->clearItems();
        behind_.clear();
        beside_.clear();
        thresholds_.clear();
        dragged_.reset();
        thresholdWords_ = nullptr;
        levelLine_ = nullptr;
        plot_->plotLayout()->clear();
        for (auto& lane : lanes_) {
            for (ScaleEnd* end : {lane->low, lane->high}) {
                end->disconnect(this);
                end->hide();
                end->deleteLater();
            }
        }
        lanes_.clear();
        for (std::size_t u = 0; u < units.size(); ++u) {
            auto lane = std::make_unique<Lane>();
            lane->key = units[u];
            lane->rect = new QCPAxisRect(plot_);
            plot_->plotLayout()->addElement(static_cast<int>(u), 0, lane->rect);
            lane->low = new ScaleEnd(tr("lower end of the scale"), this);
            lane->high = new ScaleEnd(tr("upper end of the scale"), this);
            for (ScaleEnd* end : {lane->low, lane->high}) {
                end->setAlignment(Qt::AlignRight);
                end->setVisible(true);
            }
            const auto wordsAt = [&](double y, Qt::AlignmentFlag edge) {
                auto* item = new QCPItemText(plot_);
                item->setClipAxisRect(lane->rect);
                item->position->setAxisRect(lane->rect);
                item->position->setType(QCPItemPosition::ptAxisRectRatio);
                item->position->setCoords(0.5, y);
                item->setPositionAlignment(Qt::AlignHCenter | edge);
                item->setPadding({6, 4, 6, 4});
                item->setVisible(false);
                return item;
            };
            lane->above = wordsAt(0, Qt::AlignTop);
            lane->below = wordsAt(1, Qt::AlignBottom);
            for (std::size_t i = 0; i < shown_.size(); ++i)
                if (lane->key.difference ? shown_[i].spec->unit() == lane->key.unit && !shown_[i].spec->isState()
                                         : laneOf(*shown_[i].spec) == lane->key) {
                    Line line;
                    line.shownIndex = i;
                    line.graph =
                        plot_->addGraph(lane->rect->axis(QCPAxis::atBottom), lane->rect->axis(QCPAxis::atLeft));
                    line.graph->setAdaptiveSampling(false);
                    lane->lines.push_back(std::move(line));
                }
            Lane* raw = lane.get();
            const auto take = [this, raw](double low, double high) {
                if (low > high) std::swap(low, high);
                if (low == high) return rebuild();
                Q_EMIT scalesChosen({{scaleKey(raw->key), {low, high}}}, tr("Change scale"));
            };
            if (lane->key.states || lane->key.difference) {
                for (ScaleEnd* end : {lane->low, lane->high})
                    end->setEnabled(false), end->setVisible(!lane->key.states);
            } else {
                connect(lane->low, &ScaleEnd::typed, this,
                        [this, raw, take](double v) { take(v, laneScale(*raw).high); });
                connect(lane->high, &ScaleEnd::typed, this,
                        [this, raw, take](double v) { take(laneScale(*raw).low, v); });
            }
            lanes_.push_back(std::move(lane));
        }
    }
    plot_->setBackground(QBrush(t.ground));
    for (std::size_t u = 0; u < lanes_.size(); ++u) {
        Lane& lane = *lanes_[u];
        QCPAxis* x = lane.rect->axis(QCPAxis::atBottom);
        QCPAxis* y = lane.rect->axis(QCPAxis::atLeft);
        const bool last = u + 1 == lanes_.size();
        lane.rect->setupFullAxesBox(false);
        for (QCPAxis* other : {lane.rect->axis(QCPAxis::atTop), lane.rect->axis(QCPAxis::atRight)})
            other->setVisible(false);
        lane.rect->setAutoMargins(QCP::msNone);
        lane.rect->setMargins(
            QMargins(leftMargin, u == 0 ? 8 : laneGap / 2, rightMargin, last ? timeLabels : laneGap / 2));
        for (QCPAxis* axis : {x, y}) {
            axis->setBasePen(QPen(t.hairline, 1));
            axis->setTickPen(Qt::NoPen);
            axis->setSubTickPen(Qt::NoPen);
            axis->setTickLength(0, 0);
            axis->setTickLabelFont(uiFont(11));
            axis->setTickLabelColor(t.muted);
            axis->grid()->setPen(QPen(t.hairline, 1, Qt::SolidLine));
            axis->grid()->setZeroLinePen(axis == y ? QPen(t.muted, 1) : QPen(t.hairline, 1));
            axis->setTickLabelPadding(6);
        }
        x->setTickLabels(last);
        scaleLane(lane);
        for (QCPItemText* item : {lane.above, lane.below}) {
            item->setFont(uiFont(12, QFont::Medium));
            item->setColor(t.ink);
            item->setBrush(t.ground);
        }
        for (const Line& line : lane.lines) line.graph->setPen(QPen(colourOf(*shown_[line.shownIndex].spec), 1.4));
    }
    for (std::size_t u = 0; u < lanes_.size(); ++u) {
        constexpr double perRow = 0.14, most = 0.8;
        const Lane& lane = *lanes_[u];
        const double rows = static_cast<double>(lane.lines.size());
        plot_->plotLayout()->setRowStretchFactor(
            static_cast<int>(u), lane.key.states && lanes_.size() > 1 ? std::min(most, perRow * (rows + 1)) : 1);
    }
    showThresholds();
    for (const auto& lane : lanes_)
        for (Line& line : lane->lines) line.cache.clear();
    held_.reset();
    behindAt_.clear();
    holdWords_.clear();
    layOut();
    ticksFor_ = {};
    lastEdge_ = -1;
}

void TraceTile::scaleLane(Lane& lane) {
    QCPAxis* y = lane.rect->axis(QCPAxis::atLeft);
    const Scale s = laneScale(lane);
    placeEnds(lane.low, lane.high, s);
    if (logarithmic(s)) {
        constexpr int digits = 2;
        lane.low->show(s.low, std::clamp(digits - 1 - static_cast<int>(std::floor(std::log10(s.low))), 0, 9));
    }
    y->setScaleType(logarithmic(s) ? QCPAxis::stLogarithmic : QCPAxis::stLinear);
    y->setRange(s.low, s.high);
    QSharedPointer<QCPAxisTickerText> ticker(new QCPAxisTickerText);
    // The ends of the scale are written there by themselves, to be typed over.
    const double laneHeight = body().height() / static_cast<double>(lanes_.size());
    std::vector<double> ticks =
        ticksBetweenEnds(s, std::clamp(static_cast<int>(laneHeight / 26), 2, 6), 16 / laneHeight);
    const int decimals = decimalsOf(ticks);
    if (logarithmic(s)) {
        ticks.clear();
        for (double tick = std::pow(10, std::ceil(std::log10(s.low * 2.5))); tick < s.high * 0.8; tick *= 10)
            ticks.push_back(tick);
    }
    for (const double tick : ticks)
        ticker->addTick(tick, shown(logarithmic(s) ? shortNumber(tick) : readingText(tick, decimals)));
    y->setTicker(ticker);
    if (lane.key.states) y->setTicker(QSharedPointer<QCPAxisTickerText>(new QCPAxisTickerText));
}

void TraceTile::layOut() {
    double widest = 0;
    for (const Shown& s : shown_)
        widest = std::max(widest, QFontMetricsF(uiFont(12, QFont::Bold)).horizontalAdvance(tagOf(*s.spec)));
    // Names without a tag may be long: they leave the traces their room.
    tagMargin_ = std::clamp(static_cast<int>(widest) + 14, leastTagMargin,
                            std::clamp(QWidget::width() / 5, leastTagMargin, mostTagMargin));

    const QRect b = body().toRect();
    plot_->setGeometry(b.left() - 8, b.top(), b.width() + 8 - tagMargin_, b.height());
    // Replot once so that the lanes have their places, which the scale ends stand beside.
    plot_->plotLayout()->update(QCPLayoutElement::upPreparation);
    plot_->plotLayout()->setOuterRect(plot_->rect());
    for (const auto phase : {QCPLayoutElement::upPreparation, QCPLayoutElement::upMargins, QCPLayoutElement::upLayout})
        plot_->plotLayout()->update(phase);
    for (const auto& lane : lanes_) {
        const QRect r = lane->rect->rect();
        const int x = plot_->x() + 4;
        lane->high->setGeometry(x, plot_->y() + r.top() - 9, leftMargin - 10, 18);
        lane->low->setGeometry(x, plot_->y() + r.bottom() - 9, leftMargin - 10, 18);
        lane->high->raise();
        lane->low->raise();
    }
}

std::optional<Duration> TraceTile::ownTime() const {
    constexpr double shortest = 1e-4, longest = 1e7;
    const auto own = numberOf(spec_, "time-s");
    if (!own || !(*own > 0)) return {};
    return seconds(std::clamp(*own, shortest, longest));
}
std::optional<Span> TraceTile::lens() const {
    const auto stretch = session_.stretch();
    return stretch && settingOf(spec_, "lens") == "yes" && stretch->from < stretch->to ? stretch : std::nullopt;
}
Duration TraceTile::timeShown() const {
    if (const auto stretch = lens()) return stretch->to - stretch->from;
    return ownTime().value_or(session_.cursor().window());
}

void TraceTile::setTimeTicks() {
    const Duration window = timeShown();
    const bool atEnd = session_.cursor().atEnd() && !lens();
    const std::optional<Duration> behind = holdsStill() && held_ ? std::optional(behindHold()) : std::nullopt;
    if (ticksFor_ == window && ticksAtEnd_ == atEnd && ticksBehind_ == behind) return;
    ticksFor_ = window;
    ticksAtEnd_ = atEnd;
    ticksBehind_ = behind;
    QSharedPointer<QCPAxisTickerText> ticker(new QCPAxisTickerText);
    long long step = 1;
    const int most = std::max(2, plot_->width() / 90);
    const bool live = session_.engine() && atEnd && !behind && !lens();
    const long long shift = behind ? behind->ns : 0;  // of the moment that it stands on, before the right end
    for (const long long t : timeTicksFor(shift - window.ns, shift + 1, most, 0, &step)) {
        const double s = static_cast<double>(t) * 1e-9;
        QString label;
        if (t == 0)
            label = live ? tr("now") : behind ? QStringLiteral("0") : QString();
        else if (step >= 3'600'000'000'000LL)
            label = tr("%1 h").arg(s / 3600);
        else if (step >= 60'000'000'000LL)
            label = tr("%1 min").arg(s / 60);
        else if (step >= 1'000'000'000LL)
            label = tr("%1 s").arg(s);
        else
            label = tr("%1 ms").arg(s * 1e3);
        if (static_cast<double>(t - shift + window.ns) < 0.04 * static_cast<double>(window.ns)) label.clear();
        ticker->addTick(static_cast<double>(t - shift) * 1e-9, label.replace('-', QChar(0x2212)));
    }
    for (const auto& lane : lanes_) {
        QCPAxis* x = lane->rect->axis(QCPAxis::atBottom);
        x->setTicker(ticker);
        x->setRange(-window.seconds(), 0);
    }
}

void TraceTile::feed(Lane& lane, Line& line, Instant from, Instant to, Duration width) {
    const Shown& s = shown_[line.shownIndex];
    const Source& source = session_.source();
    QVector<QCPGraphData> plotted;
    const auto x = [&](Instant t) { return (t - to).seconds(); };
    const Scale scaled = laneScale(lane);
    const double perPixel = logarithmic(scaled) ? 0 : (scaled.high - scaled.low) / std::max(1, lane.rect->height());
    double last = std::numeric_limits<double>::quiet_NaN();
    std::vector<Point> points;
    const auto pixels = static_cast<std::size_t>(std::max(16, lane.rect->width()));
    if (source.points(s.spec->id, {from, to}, pixels, points)) {
        const bool steps = holds(*s.spec);
        constexpr std::size_t roomForDots = 10;  // pixels each
        const bool few = !steps && points.size() * roomForDots < pixels;
        line.graph->setScatterStyle(few ? QCPScatterStyle(QCPScatterStyle::ssDisc, 4.5) : QCPScatterStyle());
        plotted.reserve(static_cast<int>(points.size()) * 2 + 1);
        for (const Point& p : points) {
            if (steps && !plotted.isEmpty() && p.t <= to) plotted.append({x(p.t), plotted.back().value});
            if (p.t > to) continue;
            plotted.append({x(p.t), placed(lane, line, p.value)});
            last = p.value;
        }
        if (steps && !plotted.isEmpty() && s.reading.quality != Quality::gap) plotted.append({0, plotted.back().value});
    } else {
        line.graph->setScatterStyle(QCPScatterStyle());
        const auto& columns =
            line.cache.update(source, s.spec->id, {from, to}, width, session_.end() - milliseconds(500));
        plotted.reserve(static_cast<int>(columns.size()) * 2);
        for (const Column& c : columns) {
            if (c.broken()) plotted.append({x(c.begin), std::numeric_limits<double>::quiet_NaN()});
            if (!c.summary.count) continue;
            const double at = x(c.begin) + 0.5 * width.seconds();
            if (c.summary.max - c.summary.min < perPixel) {  // less than a pixel: one quiet point
                plotted.append({at, placed(lane, line, c.summary.mean)});
                last = c.summary.mean;
                continue;
            }
            // From the end that lies nearer to where the line stands: no false zigzag.
            const bool lowFirst = !(std::fabs(c.summary.max - last) < std::fabs(c.summary.min - last));
            plotted.append({at, placed(lane, line, lowFirst ? c.summary.min : c.summary.max)});
            last = lowFirst ? c.summary.max : c.summary.min;
            if (c.summary.max != c.summary.min) plotted.append({at, placed(lane, line, last)});
        }
    }
    // What is not a number lies nowhere, and hides nothing.
    bool any = false, allAbove = true, allBelow = true;
    for (const QCPGraphData& p : plotted) {
        if (std::isnan(p.value)) continue;
        any = true;
        allAbove = allAbove && p.value > scaled.high;
        allBelow = allBelow && p.value < scaled.low;
        if (!allAbove && !allBelow) break;
    }
    line.unseen = any && allAbove ? OffScale::above : any && allBelow ? OffScale::below : OffScale::no;
    line.graph->data()->set(plotted, true);
    // The tag stands where the reading is, not where the noise's last extreme happened to be; in a gap, where the line
    // ended, as long as that is in sight.
    double reading = placed(lane, line, s.reading.value);
    if (s.reading.quality == Quality::gap || std::isnan(reading)) {
        const auto seen = std::find_if(plotted.crbegin(), plotted.crend(),
                                       [&](const QCPGraphData& p) { return !std::isnan(p.value) && p.key >= x(from); });
        reading = seen == plotted.crend() ? std::numeric_limits<double>::quiet_NaN() : seen->value;
    }
    const QRect r = lane.rect->rect();
    line.end = offScale(scaled, reading);
    line.endY = std::isnan(reading) ? std::numeric_limits<double>::quiet_NaN()
                                    : plot_->y() + r.bottom() - laneFraction(lane, reading) * r.height();
}

void TraceTile::printOn(QPaintDevice& device) {
    QCPPainter p;  // the plot draws onto no other
    p.begin(&device);
    p.save();
    paintAround(p);
    p.restore();
    p.save();
    p.translate(plot_->pos());
    plot_->toPainter(&p, plot_->width(), plot_->height());
    p.restore();
    for (const auto& lane : lanes_)
        for (ScaleEnd* end : {lane->low, lane->high})
            if (end->isVisible()) end->render(&p, end->pos(), QRegion(), DrawChildren);
    if (shade_->isVisible()) shade_->render(&p, plot_->pos() + shade_->pos(), QRegion(), DrawChildren);
    p.end();
}

QString TraceTile::numbers() const {
    // All lines by the times of the one with most points; what it was then.
    const Line* finest = nullptr;
    QStringList head{tr("seconds before the right end")};
    for (const auto& lane : lanes_)
        for (const Line& line : lane->lines) {
            if (lane->key.difference) continue;
            if (!finest || line.graph->dataCount() > finest->graph->dataCount()) finest = &line;
            const SignalSpec& s = *shown_[line.shownIndex].spec;
            head << shown(s.name) + (s.isState() ? QString() : QStringLiteral(" / ") + unitOf(s));
        }
    if (!finest) return {};
    QStringList out{head.join('\t')};
    for (const QCPGraphData& at : *finest->graph->data()) {
        QStringList row{QString::number(at.key, 'g', 12)};
        const Instant t = drawnTo_ + seconds(at.key);
        for (const auto& lane : lanes_)
            for (const Line& line : lane->lines) {
                if (lane->key.difference) continue;
                const double v =
                    &line == finest ? at.value : session_.source().at(shown_[line.shownIndex].spec->id, t).value;
                row << (std::isnan(v) ? QString() : QString::number(v, 'g', 12));
            }
        out << row.join('\t');
    }
    return out.join('\n');
}

void TraceTile::tellUnseen() {
    QStringList all;
    for (const auto& lane : lanes_)
        for (QCPItemText* item : {lane->above, lane->below}) {
            const OffScale off = item == lane->above ? OffScale::above : OffScale::below;
            QStringList tags;
            for (const Line& line : lane->lines)
                if (line.unseen == off) tags << tagOf(*shown_[line.shownIndex].spec);
            const QString words = tags.isEmpty()
                                      ? QString()
                                      : (off == OffScale::above ? tr("↑ %1 above the scale: a double click fits it")
                                                                : tr("↓ %1 below the scale: a double click fits it"))
                                            .arg(tags.join(QStringLiteral(", ")));
            item->setVisible(!words.isEmpty());
            item->setText(words);
            if (!words.isEmpty()) all << words;
        }
    setAccessibleDescription(all.join(QChar(' ')));
}

void TraceTile::tellHovered() {
    if (!hoverX_ || lanes_.empty() || panning_) return hover_->leave();
    const QCPAxis* axis = lanes_.front()->rect->axis(QCPAxis::atBottom);
    const double back = axis->pixelToCoord(*hoverX_);
    if (back < -timeShown().seconds() || back > 0) return hover_->leave();
    const Instant at = drawnTo_ + seconds(back);
    hover_->setGeometry(plot_->rect());
    std::vector<TraceHover::Label> labels;
    for (const auto& lane : lanes_)
        for (const Line& line : lane->lines) {
            const SignalSpec& s = *shown_[line.shownIndex].spec;
            Reading r = session_.source().at(s.id, at);
            if (lane->key.difference) {
                const auto held = session_.beside().held(s);
                const Reading other = held ? held->source->at(s.id, at - held->shift) : Reading{};
                r.value -= other.value;
                if (other.quality == Quality::gap) r.quality = other.quality;
            }
            const bool read = r.quality != Quality::gap && !std::isnan(r.value);
            const double fraction = read ? laneFraction(*lane, placed(*lane, line, r.value)) : 0.5;
            const QRect rect = lane->rect->rect();
            const QString unit = unitOf(s);
            labels.push_back({rect.bottom() - std::clamp(fraction, 0.0, 1.0) * rect.height(), colourOf(s),
                              (lane->key.difference ? QStringLiteral("Δ ") : QString()) + tagOf(s) +
                                  QStringLiteral(" ") +
                                  (!read         ? tr("nothing")
                                   : s.isState() ? stateWord(s, r.value)
                                                 : session_.numberText(s, r.value) +
                                                       (unit.isEmpty() ? QString() : QStringLiteral(" ") + unit))});
        }
    const double ago = -back;
    if (held_) {  // from the moment that it stands on
        const double off = behindHold().seconds() - ago;
        return hover_->tell(*hoverX_, (off < 0 ? QStringLiteral("−") : QString()) + lengthText(seconds(std::fabs(off))),
                            std::move(labels));
    }
    const QString moment = session_.cursor().atEnd() ? tr("%1 s ago") : tr("%1 s before");
    hover_->tell(*hoverX_, moment.arg(ago, 0, 'f', ago < 10 ? 2 : 1), std::move(labels));
}

double TraceTile::xOf(Instant t) const {
    return lanes_.front()->rect->axis(QCPAxis::atBottom)->coordToPixel((t - drawnTo_).seconds());
}
Instant TraceTile::timeAt(double x) const {
    return drawnTo_ + seconds(lanes_.front()->rect->axis(QCPAxis::atBottom)->pixelToCoord(x));
}

void TraceTile::refresh(Instant t, bool digits) {
    if (shown_.empty() || lanes_.empty()) return;
    read(t, digits);
    if (dragged_)
        if (const auto made = session_.rehearsing().take()) {
            const auto count = std::ranges::count_if(made->firings, [](const RuleFiring& f) { return f.holds; });
            sayThreshold(tr("%1 × in the last %2").arg(count).arg(shown(roughText(made->span.to - made->span.from))));
        }
    const auto stoodAt = held_;
    // The eye follows so many pictures a second; each is looked for among thousands of readings.
    constexpr Duration nextPicture = milliseconds(50);
    if (holdsStill() != held_.has_value() || t < lookedAt_ || t - lookedAt_ >= nextPicture) {
        lookedAt_ = t;
        hold(t);
    }
    setTimeTicks();
    const Duration window = timeShown();
    const Duration width{std::max<std::int64_t>(1, window.ns / std::max(16, lanes_.front()->rect->width()))};
    const bool still = holdsStill() && held_;
    const auto through = lens();
    const std::int64_t edge = still ? held_->at.ns : through ? through->to.ns : t.ns / width.ns;
    if (still != stoodAt.has_value()) lastEdge_ = -1;
    const bool live = session_.cursor().atEnd();
    // A live trace moves by whole columns of pixels; between them it would look the same.
    const std::uint64_t revision = session_.source().revision();
    if (edge == lastEdge_ && revision == lastRevision_) return showStretch();
    lastEdge_ = edge;
    lastRevision_ = revision;
    const Instant to = still ? held_->at + behindHold() : through ? through->to : live ? Instant{edge * width.ns} : t;
    const Instant from = to - window;
    drawnTo_ = to;
    for (const auto& lane : lanes_)
        if (!lane->key.difference)
            for (Line& line : lane->lines) feed(*lane, line, from, to, width);
    feedBehind();
    feedBeside(from, to, width);
    showLevel();
    tellUnseen();
    showStretch();
    tellHovered();
    plot_->replot(QCustomPlot::rpQueuedRefresh);
    if (digits || !live || holdsStill())
        update(QRect(plot_->geometry().right(), 0, QWidget::width() - plot_->geometry().right(), height()));
}

void TraceTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintAround(p);
}

void TraceTile::paintAround(QPainter& p) const {
    paintFrame(p);
    if (!beside_.empty() && holdWords_.isEmpty()) {
        QStringList names;
        for (const auto& run : session_.beside().runs())
            if (run->there) names << run->name();
        p.setFont(uiFont(11));
        p.setPen(theme().muted);
        const bool band = session_.beside().view().drawn == RunsBeside::Drawn::band && names.size() > 1;
        const auto& runs = session_.beside().runs();
        const bool moving = heldRun_ && heldRun_->run < runs.size();
        p.drawText(
            QRectF(8, 4, QWidget::width() - 16.0, 16), Qt::AlignRight,
            moving ? tr("%1: %2 %3")
                         .arg(runs[heldRun_->run]->name(), heldRun_->moved.ns < 0 ? tr("earlier by") : tr("later by"),
                              lengthText({std::abs(heldRun_->moved.ns)}))
            : band ? tr("band of %1 runs").arg(names.size())
                   : tr("paler: %1").arg(names.join(", ")));
    }
    if (!holdWords_.isEmpty()) {
        p.setFont(uiFont(11));
        p.setPen(held_ ? theme().muted : theme().amber);
        p.drawText(QRectF(8, 4, QWidget::width() - 16.0, 16), Qt::AlignRight, holdWords_);
    }
    p.setRenderHint(QPainter::Antialiasing);
    p.setFont(uiFont(12, QFont::Bold));
    for (const auto& lane : lanes_) {
        std::vector<const Line*> order;
        for (const Line& line : lane->lines)
            if (!std::isnan(line.endY)) order.push_back(&line);
        std::sort(order.begin(), order.end(), [](const Line* a, const Line* b) { return a->endY < b->endY; });
        double free = 0;
        for (const Line* line : order) {
            const double y = std::max(line->endY, free);
            free = y + 15;
            const SignalSpec& s = *shown_[line->shownIndex].spec;
            p.setPen(colourOf(s));
            const QString beyond = line->end == OffScale::above   ? QStringLiteral("↑")
                                   : line->end == OffScale::below ? QStringLiteral("↓")
                                                                  : QString();
            const QString name = (lane->key.difference ? QStringLiteral("Δ") : QString()) + tagOf(s);
            const QFontMetrics metrics = p.fontMetrics();
            p.drawText(
                QPointF(plot_->geometry().right() + 2, y + 4),
                metrics.elidedText(name, Qt::ElideRight, tagMargin_ - 4 - metrics.horizontalAdvance(beyond)) + beyond);
        }
        p.setFont(uiFont(11));
        p.setPen(theme().muted);
        const QRect r = lane->rect->rect();
        const QString unit = shown(unitText(lane->key.unit));
        p.drawText(QRectF(plot_->geometry().right() + 2, plot_->y() + r.top() - 14, tagMargin_, 14),
                   Qt::AlignLeft | Qt::AlignVCenter,
                   order.empty() || order.front()->endY > plot_->y() + r.top() + 12 ? unit : QString());
        p.setFont(uiFont(12, QFont::Bold));
    }
}

const TileForm& tile_forms::trace() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a trace"),
                               .make = makeTile<TraceTile>,
                               .leastWidth = 4,
                               .leastHeight = 3,
                               .manySignals = true};
    return form;
}

}  // namespace cruscotto
