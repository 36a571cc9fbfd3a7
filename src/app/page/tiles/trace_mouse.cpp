// What the mouse does on a trace: time, scales, the stretch and its ends, the level: a part of the trace tile.
#include "app/page/tiles/plot_library.h"
#include "app/page/tiles/trace_tile.h"

#include <QContextMenuEvent>
#include <QMouseEvent>
#include <QWheelEvent>
#include <algorithm>
#include <cmath>

#include "app/widgets/words.h"
#include "core/bench/stretch_ends.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

void TraceTile::showStretch() {
    const auto stretch = session_.stretch();
    if (!stretch || lens() || lanes_.empty()) return shade_->show({}, {});
    // in the lanes only
    const QRect first = lanes_.front()->rect->rect(), last = lanes_.back()->rect->rect();
    shade_->setGeometry(first.left(), first.top(), first.width(), last.bottom() - first.top());
    shade_->show(std::pair(xOf(stretch->from) - first.left(), xOf(stretch->to) - first.left()),
                 lengthText(stretch->to - stretch->from));
}

std::optional<Instant> TraceTile::gripAt(double x) const {
    const auto stretch = session_.stretch();
    if (!stretch || lanes_.empty()) return {};
    const double from = std::fabs(xOf(stretch->from) - x), to = std::fabs(xOf(stretch->to) - x);
    if (std::min(from, to) > stretchGrip) return {};
    return from < to ? stretch->to : stretch->from;
}

Instant TraceTile::endAt(double x, bool settles) const {
    const Span all{session_.source().extent().from, session_.end()};
    const Instant t = std::clamp(timeAt(x), all.from, std::max(all.from, all.to));
    if (!settles) return t;
    std::vector<SettlingSignal> among;
    for (const Shown& s : shown_) {
        SettlingSignal signal{s.spec.get(), {}};
        // through zero, and through the middle of what is shown of it
        const StretchSummary seen =
            session_.source().summaryOver(s.spec->id, {drawnTo_ - timeShown(), drawnTo_ + nanoseconds(1)});
        if (seen.count > 0) {
            signal.levels.push_back((seen.min + seen.max) / 2);
            if (seen.min < 0 && seen.max > 0) signal.levels.push_back(0);
        }
        among.push_back(std::move(signal));
    }
    std::vector<Instant> marks;
    for (const Mark& mark : session_.marks()) marks.push_back(mark.at);
    const double perPixel = timeShown().seconds() / std::max(16, lanes_.front()->rect->width());
    return settled(session_.source(), among, marks, t, seconds(stretchGrip * perPixel));
}

TraceTile::Lane* TraceTile::laneAt(QPointF at) {
    for (const auto& lane : lanes_)
        if (lane->rect->outerRect().contains(at.toPoint())) return lane.get();
    return lanes_.empty() ? nullptr : lanes_.front().get();
}

bool TraceTile::eventFilter(QObject* watched, QEvent* event) {
    if (watched != plot_ || lanes_.empty()) return Tile::eventFilter(watched, event);
    TimeCursor& cursor = session_.cursor();
    if (event->type() == QEvent::ContextMenu) {
        contextMenuEvent(static_cast<QContextMenuEvent*>(event));
        return true;
    }
    if (event->type() == QEvent::Wheel) {
        const auto* wheel = static_cast<QWheelEvent*>(event);
        const double factor = std::pow(1.25, -wheel->angleDelta().y() / 120.0);
        if (wheel->modifiers() & Qt::ControlModifier) {
            if (Lane* lane = laneAt(wheel->position()); lane && !lane->key.states && !lane->key.difference) {
                const Scale s = laneScale(*lane);
                const double at = lane->rect->axis(QCPAxis::atLeft)->pixelToCoord(wheel->position().y());
                Q_EMIT scalesChosen({{scaleKey(lane->key), {at - (at - s.low) * factor, at + (s.high - at) * factor}}},
                                    tr("Zoom scale"), "zoom " + shown(spec().id));
            }
        } else {
            if (ownTime())
                Q_EMIT settingChosen("time-s", QString::number(ownTime()->seconds() * factor, 'g', 6), tr("Time shown"),
                                     "time " + shown(spec().id));
            else
                cursor.setWindow(seconds(cursor.window().seconds() * factor));
        }
        return true;
    }
    if (event->type() == QEvent::MouseButtonDblClick) {
        fitScale();
        return true;
    }
    if (event->type() == QEvent::MouseButtonPress) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        Q_EMIT chosen();
        setFocus();
        if (mouse->button() == Qt::LeftButton) {
            const double x = mouse->position().x();
            if (std::fabs(mouse->position().y() - levelY()) < 5) {
                levelDragged_ = true;
                return true;
            }
            if (const auto threshold = session_.isRun() ? std::nullopt : thresholdAt(mouse->position())) {
                dragged_ = threshold;
                return true;
            }
            if (const auto other = gripAt(x)) {
                otherEnd_ = other;
                cursor.setDragging(true);
                return true;
            }
            if (mouse->modifiers() & Qt::ShiftModifier) {
                otherEnd_ = endAt(x, !(mouse->modifiers() & Qt::AltModifier));
                cursor.setDragging(true);
                return true;
            }
            if (mouse->modifiers() & Qt::ControlModifier)
                if (const auto run = besideAt(mouse->position())) {
                    heldRun_ = HeldRun{*run, x};
                    return true;
                }
            panning_ = true;
            panFrom_ = mouse->position();
            panAt_ = session_.shownAt();
        }
        return mouse->button() == Qt::LeftButton;
    }
    if (event->type() == QEvent::Leave) {
        hoverX_.reset();
        tellHovered();
        return false;
    }
    if (event->type() == QEvent::MouseMove && !panning_) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        hoverX_ = mouse->position().x();
        if (levelDragged_) {
            dragLevel(mouse->position().y());
            return true;
        }
        if (dragged_) {
            dragThreshold(mouse->position().y());
            return true;
        }
        if (heldRun_) {
            dragBeside(*hoverX_);
            return true;
        }
        if (otherEnd_) {
            cursor.stretchOver({*otherEnd_, endAt(*hoverX_, !(mouse->modifiers() & Qt::AltModifier))});
            showStretch();
        } else {
            const bool onLevel = std::fabs(mouse->position().y() - levelY()) < 5 ||
                                 (!session_.isRun() && thresholdAt(mouse->position()));
            const bool onRun = mouse->modifiers() & Qt::ControlModifier && besideAt(mouse->position());
            plot_->setCursor(onLevel                     ? Qt::SizeVerCursor
                             : onRun || gripAt(*hoverX_) ? Qt::SizeHorCursor
                                                         : Qt::ArrowCursor);
        }
        tellHovered();
        return otherEnd_.has_value();
    }
    if (event->type() == QEvent::MouseMove && panning_) {
        const auto* mouse = static_cast<QMouseEvent*>(event);
        const double dx = mouse->position().x() - panFrom_.x();
        if (std::fabs(dx) < 3 && cursor.atEnd()) return true;
        const double perPixel = timeShown().seconds() / std::max(16, lanes_.front()->rect->width());
        const Instant wanted = panAt_ - seconds(dx * perPixel);
        if (wanted >= session_.end())
            cursor.goToEnd();
        else
            cursor.goTo(std::max(wanted, session_.source().extent().from));
        return true;
    }
    if (event->type() == QEvent::MouseButtonRelease) {
        panning_ = false;
        levelDragged_ = false;
        heldRun_.reset();
        dropThreshold();
        otherEnd_.reset();
        cursor.setDragging(false);
        return true;
    }
    return Tile::eventFilter(watched, event);
}

}  // namespace cruscotto
