// A trace that stands still, what is drawn behind it, and other runs laid over: a part of the trace tile.
#include "app/page/tiles/plot_library.h"
#include "app/page/tiles/trace_tile.h"

#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

bool TraceTile::holdsStill() const {
    return settingOf(spec_, "hold") != "no";
}

std::string TraceTile::holdSignal() const {
    const std::string& chosen = settingOf(spec_, "hold-on");
    return !chosen.empty() ? chosen : shown_.empty() ? std::string() : shown_.front().spec->id;
}

Duration TraceTile::behindHold() const {
    constexpr double percent = 100;
    return seconds(timeShown().seconds() * (1 - numberOf(spec_, "hold-before").value_or(0) / percent));
}

void TraceTile::hold(Instant t) {
    if (!holdsStill()) {
        held_.reset();
        holdWords_.clear();
        return;
    }
    if (held_ && settingOf(spec_, "hold-again") == "once") return;
    const SignalSpec* s = session_.bench().signal(holdSignal());
    const HoldOn on{holdSignal(), numberOf(spec_, "hold-level"), settingOf(spec_, "hold") == "rise"};
    constexpr std::size_t mostBehind = 16;
    const std::size_t most = settingOf(spec_, "behind") == "nothing" ? 1 : mostBehind + 1;
    const auto found = heldAt(session_.source(), session_.bench(), on, t, behindHold(), timeShown(), most);
    if (!found.empty()) held_ = found.front();
    behindAt_.clear();
    for (std::size_t i = 1; i < found.size(); ++i) behindAt_.push_back(found[i].at);
    const QString name = s ? tagOf(*s) : QString();
    const QString through =
        on.level && s ? tr(" through %1 %2").arg(session_.numberText(*s, *on.level), unitOf(*s)) : QString();
    holdWords_ = !found.empty() && on.rises ? tr("stands on the rise of %1%2").arg(name, through)
                 : !found.empty()           ? tr("stands on the fall of %1%2").arg(name, through)
                 : on.rises                 ? tr("nothing to stand on: %1 does not rise%2").arg(name, through)
                                            : tr("nothing to stand on: %1 does not fall%2").arg(name, through);
}

double TraceTile::levelY() const {
    if (!holdsStill() || !held_) return std::nan("");
    for (const auto& lane : lanes_)
        for (const Line& line : lane->lines)
            if (shown_[line.shownIndex].spec->id == holdSignal())
                return lane->rect->axis(QCPAxis::atLeft)->coordToPixel(held_->level);
    return std::nan("");
}

void TraceTile::feedBehind() {
    const std::string& what = settingOf(spec_, "behind");
    const bool any = holdsStill() && held_ && what != "nothing" && !behindAt_.empty();
    std::size_t used = 0;
    const auto graph = [&](Lane& lane) {
        if (used == behind_.size()) {
            auto* made = plot_->addGraph(lane.rect->axis(QCPAxis::atBottom), lane.rect->axis(QCPAxis::atLeft));
            made->setAdaptiveSampling(false);
            behind_.push_back(made);
        }
        QCPGraph* g = behind_[used++];
        g->setKeyAxis(lane.rect->axis(QCPAxis::atBottom));
        g->setValueAxis(lane.rect->axis(QCPAxis::atLeft));
        return g;
    };
    const Duration window = timeShown(), after = behindHold();
    const auto n = static_cast<std::size_t>(std::max(16, lanes_.front()->rect->width() / 2));
    const Duration width{std::max<std::int64_t>(1, window.ns / static_cast<std::int64_t>(n))};
    if (any)
        for (const auto& lane : lanes_)
            for (const Line& line : lane->lines) {
                const SignalSpec& s = *shown_[line.shownIndex].spec;
                std::vector<std::vector<double>> pictures;
                for (const Instant at : behindAt_)
                    pictures.push_back(pictureOf(session_.source(), s, at + after - window, width, n));
                const auto draw = [&](const std::vector<double>& values, const QPen& pen) {
                    QVector<QCPGraphData> places;
                    places.reserve(static_cast<int>(values.size()));
                    for (std::size_t i = 0; i < values.size(); ++i)
                        places.append({-window.seconds() + width.seconds() * static_cast<double>(i), values[i]});
                    QCPGraph* g = graph(*lane);
                    g->setPen(pen);
                    g->data()->set(places, true);
                };
                QColor faint = colourOf(s);
                if (what == "last") {
                    faint.setAlpha(60);
                    for (const auto& picture : pictures) draw(picture, QPen(faint, 1));
                    continue;
                }
                pictures.push_back(pictureOf(session_.source(), s, held_->at + after - window, width, n));
                const PictureSpread spread = spreadOf(pictures);
                faint.setAlpha(140);
                if (what == "mean") draw(spread.mean, QPen(theme().ink, 1.6));
                if (what == "envelope") draw(spread.low, QPen(faint, 1)), draw(spread.high, QPen(faint, 1));
            }
    while (behind_.size() > used) {
        plot_->removeGraph(behind_.back());
        behind_.pop_back();
    }
}

void TraceTile::showLevel() {
    if (!levelLine_ && holdsStill()) {
        levelLine_ = new QCPItemStraightLine(plot_);
        levelLine_->setPen(QPen(theme().accent, 1, Qt::DashLine));
    }
    if (!levelLine_) return;
    levelLine_->setVisible(false);
    if (!held_ || !holdsStill()) return;
    for (const auto& lane : lanes_)
        for (const Line& line : lane->lines)
            if (shown_[line.shownIndex].spec->id == holdSignal()) {
                levelLine_->setClipAxisRect(lane->rect);
                for (QCPItemPosition* p : levelLine_->positions())
                    p->setAxes(lane->rect->axis(QCPAxis::atBottom), lane->rect->axis(QCPAxis::atLeft));
                levelLine_->point1->setCoords(-1, held_->level);
                levelLine_->point2->setCoords(0, held_->level);
                levelLine_->setPen(QPen(theme().accent, 1, Qt::DashLine));
                levelLine_->setVisible(true);
            }
}

void TraceTile::dragLevel(double y) {
    const SignalSpec* s = session_.bench().signal(holdSignal());
    for (const auto& lane : lanes_)
        for (const Line& line : lane->lines)
            if (s && shown_[line.shownIndex].spec->id == s->id) {
                const Scale scale = laneScale(*lane);
                const double v = std::clamp(lane->rect->axis(QCPAxis::atLeft)->pixelToCoord(y), scale.low, scale.high);
                Q_EMIT settingChosen("hold-level", QString::number(v, 'g', 5), tr("Level to stand on"),
                                     "hold level " + shown(spec().id));
                return;
            }
}

}  // namespace cruscotto
