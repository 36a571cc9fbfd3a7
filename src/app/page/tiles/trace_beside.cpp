// Runs laid over a trace: paler traces, the band that they make, and what is between them and what is open.
#include <algorithm>
#include <cmath>

#include "app/page/tiles/plot_library.h"
#include "app/page/tiles/trace_tile.h"
#include "app/widgets/scale_end.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/units.h"
#include "core/compare/band.h"
#include "core/signal/scale.h"

namespace cruscotto {

QCPGraph* TraceTile::besideGraph(std::size_t& used, const Lane& lane, std::optional<std::size_t> run) {
    if (used == beside_.size()) {
        auto* made = plot_->addGraph(lane.rect->axis(QCPAxis::atBottom), lane.rect->axis(QCPAxis::atLeft));
        made->setAdaptiveSampling(false);
        beside_.push_back({made, run});
    }
    beside_[used].run = run;
    QCPGraph* graph = beside_[used++].graph;
    graph->setKeyAxis(lane.rect->axis(QCPAxis::atBottom));
    graph->setValueAxis(lane.rect->axis(QCPAxis::atLeft));
    graph->setChannelFillGraph(nullptr);
    graph->setBrush(Qt::NoBrush);
    return graph;
}

QVector<QCPGraphData> TraceTile::besidePlaces(const LaidOver& run, const SignalSpec& signal, Instant from, Instant to,
                                              Duration width) const {
    QVector<QCPGraphData> places;
    const auto n = static_cast<std::size_t>(std::max<std::int64_t>(16, (to - from).ns / width.ns));
    const Span span = run.own({from, to});
    const auto x = [&](Instant t) { return (t + run.shift - to).seconds(); };
    std::vector<Point> points;
    if (run.source->points(signal.id, span, n, points)) {
        for (const Point& p : points) {
            if (holds(signal) && !places.isEmpty()) places.append({x(p.t), places.back().value});
            places.append({x(p.t), p.value});
        }
        return places;
    }
    std::vector<Column> columns;
    run.source->columns(signal.id, {span.from, width, n}, columns);
    for (const Column& c : columns) {
        const double at = x(c.begin) + 0.5 * width.seconds();
        if (c.broken()) places.append({at, std::nan("")});
        if (c.summary.count == 0) continue;
        places.append({at, c.summary.min});
        if (c.summary.max != c.summary.min) places.append({at, c.summary.max});
    }
    return places;
}

void TraceTile::feedBeside(Instant from, Instant to, Duration width) {
    const RunsBeside& beside = session_.beside();
    std::size_t used = 0;
    const auto n = static_cast<std::size_t>(std::max<std::int64_t>(16, (to - from).ns / width.ns));
    for (const auto& lane : lanes_) {
        if (lane->key.difference) continue;
        for (const Line& line : lane->lines) {
            const SignalSpec& s = *shown_[line.shownIndex].spec;
            const std::vector<LaidOver> runs = beside.having(s);
            QColor pale = colourOf(s);
            constexpr int faint = 80, fainter = 46;
            if (beside.view().drawn == RunsBeside::Drawn::band && runs.size() > 1 && !s.isState()) {
                const RunBand band = bandOf(s.id, runs, {from, width, n});
                QVector<QCPGraphData> low, high;
                for (std::size_t i = 0; i < band.at.size(); ++i) {
                    const double at = (from - to).seconds() + (static_cast<double>(i) + 0.5) * width.seconds();
                    const double half = beside.view().limits.halfWidth(band.at[i]);
                    low.append({at, band.at[i].mean - half});
                    high.append({at, band.at[i].mean + half});
                }
                QCPGraph* lower = besideGraph(used, *lane, {});
                QCPGraph* upper = besideGraph(used, *lane, {});
                pale.setAlpha(faint);
                for (QCPGraph* graph : {lower, upper}) graph->setPen(QPen(pale, 1));
                lower->data()->set(low, true);
                upper->data()->set(high, true);
                pale.setAlpha(fainter);
                upper->setBrush(pale);
                upper->setChannelFillGraph(lower);
                continue;
            }
            pale.setAlpha(faint);
            std::size_t number = 0;
            for (std::size_t which = 0; which < beside.runs().size(); ++which) {
                const auto& run = beside.runs()[which];
                const SignalSpec* theirs = run->there ? run->bench().signal(s.id) : nullptr;
                const auto in = theirs ? convertUnit(theirs->unit(), lane->key.unit) : std::nullopt;
                if (!in) continue;
                QVector<QCPGraphData> places = besidePlaces(run->laid(), *theirs, from, to, width);
                for (QCPGraphData& place : places)
                    place.value = placed(*lane, line, place.value * in->factor + in->offset);
                QCPGraph* graph = besideGraph(used, *lane, which);
                graph->setPen(QPen(pale, 1.2, number++ % 2 == 0 ? Qt::SolidLine : Qt::DashLine));
                graph->data()->set(places, true);
            }
        }
    }
    while (beside_.size() > used) {
        plot_->removeGraph(beside_.back().graph);
        beside_.pop_back();
    }
    for (const auto& lane : lanes_)
        if (lane->key.difference) feedDifference(*lane, from, to, width);
}

std::optional<std::size_t> TraceTile::besideAt(QPointF at) const {
    constexpr double near = 24;  // pixels: paler lines are thin
    double nearest = near;
    std::optional<std::size_t> run;
    for (const BesideGraph& b : beside_) {
        if (!b.run || !b.graph->keyAxis()->axisRect()->rect().contains(at.toPoint())) continue;
        if (const double d = b.graph->selectTest(at, false); d >= 0 && d < nearest) {
            nearest = d;
            run = b.run;
        }
    }
    return run;
}

void TraceTile::dragBeside(double x) {
    const double perPixel = timeShown().seconds() / std::max(16, lanes_.front()->rect->width());
    const double step = std::pow(10, std::floor(std::log10(perPixel)));  // no more digits than the hand means
    const Duration moved = seconds(std::round((x - heldRun_->x) * perPixel / step) * step);
    session_.beside().shift(heldRun_->run, moved - heldRun_->moved);
    heldRun_->moved = moved;
}

void TraceTile::feedDifference(Lane& lane, Instant from, Instant to, Duration width) {
    const auto n = static_cast<std::size_t>(std::max<std::int64_t>(16, (to - from).ns / width.ns));
    double most = 0;
    std::vector<Column> own, other;
    for (Line& line : lane.lines) {
        const SignalSpec& s = *shown_[line.shownIndex].spec;
        const auto held = session_.beside().held(s);
        QVector<QCPGraphData> places;
        line.endY = std::nan("");
        if (held) {
            session_.source().columns(s.id, {from, width, n}, own);
            held->source->columns(s.id, {from - held->shift, width, n}, other);
            std::optional<double> a, b;  // what each was, where readings come slower than the columns
            const Instant ends = std::min(session_.end(), held->source->extent().to + held->shift);
            for (std::size_t i = 0; i < std::min(own.size(), other.size()); ++i) {
                for (auto* side : {&own, &other}) {
                    std::optional<double>& stands = side == &own ? a : b;
                    const Column& c = (*side)[i];
                    if (c.summary.count > 0)
                        stands = c.summary.mean;
                    else if (c.broken())
                        stands.reset();
                }
                const double at = (own[i].begin - to).seconds() + 0.5 * width.seconds();
                const bool both = a && b && own[i].begin < ends;
                places.append({at, both ? *a - *b : std::nan("")});
                if (both) most = std::max(most, std::fabs(*a - *b));
            }
        }
        line.graph->data()->set(places, true);
    }
    // The scale goes along, but not with every pixel of it.
    constexpr double tooWide = 0.3;
    const double is = lane.own ? lane.own->high : 0;
    if (most > is || most < tooWide * is || !lane.own) {
        const Scale fits = niceScale(-std::max(most, 1e-12), std::max(most, 1e-12));
        const double end = std::max(-fits.low, fits.high);
        lane.own = Scale{-end, end};
        scaleLane(lane);
    }
    const QRect r = lane.rect->rect();
    for (Line& line : lane.lines)
        for (auto place = line.graph->data()->constEnd(); place != line.graph->data()->constBegin();)
            if ((--place), !std::isnan(place->value)) {
                line.endY = plot_->y() + r.bottom() - laneFraction(lane, place->value) * r.height();
                break;
            }
}

}  // namespace cruscotto
