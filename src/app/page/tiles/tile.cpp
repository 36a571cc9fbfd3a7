#include "app/page/tiles/tile.h"

#include <QApplication>
#include <QContextMenuEvent>
#include <QMouseEvent>
#include <cmath>

#include "app/page/tiles/tile_form.h"
#include "app/widgets/scale_end.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/stretch_measures.h"
#include "core/bench/tile_settings.h"
#include "core/bench/uncertainty.h"

namespace cruscotto {

namespace {
constexpr int headerHeight = 24;
constexpr int cornerSize = 14;
constexpr int margin = 8;
}  // namespace

Span chosenSpan(const Session& session, const TileSpec& tile, Instant t) {
    if (const auto stretch = session.stretch()) return *stretch;
    const double time = numberOf(tile, "of").value_or(session.cursor().window().seconds());
    return {t - seconds(time), t + nanoseconds(1)};
}

const TileForm& tileForm(TileKind kind) {
    switch (kind) {
#define CRUSCOTTO_FORM(name) \
    case TileKind::name:     \
        return tile_forms::name();
        CRUSCOTTO_TILES(CRUSCOTTO_FORM)
#undef CRUSCOTTO_FORM
    }
    return tile_forms::number();
}

Tile::Tile(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAttribute(Qt::WA_OpaquePaintEvent);
}

void Tile::setSpec(const TileSpec& spec) {
    spec_ = spec;
    std::vector<Shown> next;
    for (const std::string& id : spec.signals)
        for (const auto& s : session_.bench().signals)
            if (s->id == id) {
                Shown shown;
                shown.spec = s;
                for (const Shown& old : shown_)
                    if (old.spec->id == id) shown.text = old.text, shown.reading = old.reading;
                shown.scale = scaleOf(*s);
                next.push_back(std::move(shown));
            }
    shown_ = std::move(next);
    QStringList names;
    for (const Shown& s : shown_) names << shown(s.spec->name);
    setAccessibleName(QString::fromLatin1(tileKindName(spec.kind)) + ": " + names.join(", "));
    rebuild();
    update();
}

void Tile::setSelected(bool selected) {
    if (selected_ == selected) return;
    selected_ = selected;
    update();
}

void Tile::readStretch(Shown& s, Span stretch) const {
    s.over = session_.source().summaryOver(s.spec->id, stretch);
    const bool any = s.over->count > 0;
    s.reading = {s.over->mean, any ? Quality::good : Quality::gap, stretch.to, !s.over->exact};
    s.spread.clear();
    if (s.spec->isState()) {
        const StateOver state = stateOver(session_.source(), *s.spec, stretch);
        s.reading.value = state.share;
        if (!std::isnan(state.share)) s.reading.quality = Quality::good;
        if (state.changes)
            s.spread = *state.changes == 0   ? tr("did not change")
                       : *state.changes == 1 ? tr("changed once")
                                             : tr("changed %1 times").arg(countText(*state.changes));
    } else if (s.over->count > 1) {
        const double deviation = s.over->deviation();
        s.spread = tr("spread %1").arg(shown(readingText(deviation, deviation > 0 ? decimalsFor(deviation) : 0)));
    }
}

bool Tile::read(Instant t, bool digits) {
    bool changed = false, rescaled = false;
    const auto stretch = showsStretch() ? session_.stretch() : std::nullopt;
    const bool another =
        stretch.has_value() != stretch_.has_value() || (!session_.cursor().stretchHangsOnNow() && stretch != stretch_);
    digits = digits || another;
    stretch_ = stretch;
    // One that stands comes to the same until more is known of it.
    const std::uint64_t revision = session_.source().revision();
    const bool fills = stretch && session_.end() - stretch->to < seconds(2);
    const bool anew = another || std::exchange(stretchRevision_, revision) != revision || (digits && fills);
    for (Shown& s : shown_) {
        const Reading before = s.reading;
        if (stretch) {
            if (anew || !s.over) readStretch(s, *stretch);
        } else {
            s.over.reset();
            s.reading = session_.source().at(s.spec->id, t);
        }
        if (s.reading.quality != before.quality) changed = true;
        if (digits) {
            auto evidence = session_.source().evidenceAt(s.spec->id, t);
            if (evidence != s.evidence) changed = true;
            s.evidence = std::move(evidence);
        }
        if (!digits && !s.text.isEmpty()) continue;
        if (!stretch) session_.seen().look(*s.spec, session_.source(), s.reading.value);
        const Scale scale = scaleOf(*s.spec);
        rescaled = rescaled || scale != s.scale;
        s.scale = scale;
        const QString text = !s.spec->isState() ? session_.numberText(*s.spec, s.reading.value)
                             : stretch          ? shareText(*s.spec, s.reading.value)
                                                : stateWord(*s.spec, s.reading.value);
        const bool onScale = !hasScale() || s.spec->isState();
        const OffScale off = onScale ? OffScale::no : offScale(scale, s.reading.value);
        if (text != s.text || off != s.offScale) {
            s.text = text;
            s.offScale = off;
            changed = true;
        }
    }
    if (rescaled) rebuild();
    return changed || rescaled || another;
}

void Tile::printOn(QPaintDevice& device) {
    QPainter p(&device);
    render(&p, QPoint(), QRegion(), DrawChildren);
}

QString Tile::numbers() const {
    QStringList out;
    for (const Shown& s : shown_) {
        QStringList row{shown(s.spec->tag), shown(s.spec->name), s.text,
                        s.spec->isState() ? QString() : unitOf(*s.spec)};
        if (!s.spread.isEmpty()) row << s.spread;
        out << row.join('\t');
    }
    return out.join('\n');
}

Remark Tile::remarkOn(const Shown& s) const {
    if (s.over) {
        if (s.reading.quality != Quality::good) return {tr("nothing was read"), theme().muted};
        return {s.over->exact ? s.spread : tr("about; %1").arg(s.spread), theme().muted};
    }
    if (isOutput(s.spec->kind) && std::isnan(s.reading.value) && session_.outputsAtRest())
        return {tr("at rest"), theme().muted};
    Remark remark = cruscotto::remarkOn(*s.spec, s.reading, s.evidence);
    const Alarm* alarm = session_.cursor().atEnd() ? session_.alarmOn(s.spec->id) : nullptr;
    if (alarm && s.reading.quality == Quality::good)
        return {QFontMetricsF(uiFont(12)).elidedText(alarmText(*alarm), Qt::ElideRight, body().width() * 0.95),
                theme().red};
    if (remark.words.isEmpty() && s.offScale != OffScale::no)
        remark = {s.offScale == OffScale::above ? tr("↑ above the scale") : tr("↓ below the scale"), theme().muted};
    return remark;
}

Scale Tile::scaleOf(const SignalSpec& s) const {
    if (const auto it = spec_.scales.find(s.unit()); it != spec_.scales.end()) return it->second;
    return session_.seen().scaleOf(s);
}

QColor Tile::colourOf(const SignalSpec& s) const {
    return theme().signal[static_cast<std::size_t>(s.colour)];
}

QFont Tile::fitted(QFont font, double room) const {
    const Shown& s = shown_.front();
    const bool digital = s.spec->isState();
    double wide = figuresWidth(font, s.text);
    for (const double end : {digital ? 0 : scale().low, digital ? 1 : scale().high})
        wide =
            std::max(wide, figuresWidth(font, digital ? stateWord(*s.spec, end) : session_.numberText(*s.spec, end)));
    if (wide > room) font.setPixelSize(std::max(14, static_cast<int>(font.pixelSize() * room / wide)));
    return font;
}

QRectF Tile::body() const {
    return QRectF(rect()).adjusted(margin, headerHeight, -margin, -6);
}

bool Tile::readExtremes(Instant t) {
    if (const auto& over = shown_.front().over) {
        const auto before =
            std::exchange(extremes_, over->count > 0 ? std::optional(Scale{over->min, over->max}) : std::nullopt);
        return before != extremes_;
    }
    const Duration window = session_.cursor().window();
    const StretchSummary s = session_.source().summaryOver(first()->id, {t - window, t + nanoseconds(1)});
    const auto before = std::exchange(extremes_, s.count > 0 ? std::optional(Scale{s.min, s.max}) : std::nullopt);
    return before != extremes_;
}

void Tile::paintFrame(QPainter& p) const {
    const Theme& t = theme();
    p.fillRect(rect(), t.ground);
    p.setPen(QPen(selected_ ? t.accent : t.hairline, 1));
    p.drawLine(QPointF(margin, 0.5), QPointF(width() - margin, 0.5));
    if (selected_) {
        p.fillRect(QRectF(margin, 0, width() - 2 * margin, 2), t.accent);
        p.setPen(QPen(t.muted, 1));
        const QPointF c(width() - 4, height() - 4);
        p.drawLine(c, c - QPointF(8, 0));
        p.drawLine(c, c - QPointF(0, 8));
    }
    if (tileForm(spec_.kind).manySignals) {
        // Tags stand at the traces' ends; the caption names them in their colours.
        double x = margin;
        for (const Shown& s : shown_) {
            p.setFont(captionFont());
            p.setPen(colourOf(*s.spec));
            const QString name =
                p.fontMetrics().elidedText(shown(s.spec->name), Qt::ElideRight, static_cast<int>(width() - x - margin));
            p.drawText(QPointF(x, 16), name);
            x += p.fontMetrics().horizontalAdvance(name) + 16;
            if (x > width() - 40) break;
        }
        if (learning()) {
            p.setPen(t.accent);
            p.drawText(QRectF(0, 4, width() - margin, 16), Qt::AlignRight, tr("learning the range"));
        }
        return;
    }
    if (!first()) return;
    const SignalSpec& s = *first();
    QFont tag = uiFont(11, QFont::Bold);
    p.setFont(tag);
    p.setPen(colourOf(s));
    p.drawText(QPointF(margin, 16), shown(s.tag));
    const double x = margin + (s.tag.empty() ? 0 : p.fontMetrics().horizontalAdvance(shown(s.tag)) + 6);
    p.setFont(captionFont());
    p.setPen(learning() ? t.accent : t.muted);
    const bool mean = shown_.front().over && !s.isState() && showsMean();
    const QString name = learning() ? tr("learning the range")
                         : mean     ? tr("%1: mean").arg(shown(s.name))
                                    : shown(s.name);
    p.drawText(QPointF(x, 16),
               p.fontMetrics().elidedText(name, Qt::ElideRight, static_cast<int>(width() - x - margin)));
}

void Tile::placeEnds(ScaleEnd* low, ScaleEnd* high, const Scale& s) const {
    const int decimals = decimalsFor(s.low, s.high);
    low->show(s.low, decimals);
    high->show(s.high, decimals);
}

void Tile::connectEnds(ScaleEnd* low, ScaleEnd* high) {
    const auto take = [this](double lowEnd, double highEnd) {
        if (!first()) return;
        if (lowEnd > highEnd) std::swap(lowEnd, highEnd);
        if (lowEnd == highEnd) return rebuild();
        Q_EMIT scalesChosen({{first()->unit(), {lowEnd, highEnd}}}, tr("Change scale"));
    };
    connect(low, &ScaleEnd::typed, this, [this, take](double v) { take(v, scale().high); });
    connect(high, &ScaleEnd::typed, this, [this, take](double v) { take(scale().low, v); });
}

void Tile::setScaleFrom(Span span, const QString& effect) {
    std::map<std::string, StretchSummary> byUnit;
    for (const Shown& s : shown_)
        byUnit[s.spec->unit()].add(session_.source().summaryOver(s.spec->id, {span.from, span.to + nanoseconds(1)}));
    std::map<std::string, Scale> scales;
    for (const auto& [unit, summary] : byUnit)
        if (summary.count) scales[unit] = niceScale(summary.min, summary.max);
    if (!scales.empty()) Q_EMIT scalesChosen(scales, effect);
}

void Tile::fitScale() {
    const Instant t = session_.shownAt();
    setScaleFrom({t - session_.cursor().window(), t}, tr("Fit scale"));
}

void Tile::scaleFromZero(bool inTheMiddle) {
    std::map<std::string, Scale> scales;
    for (const Shown& s : shown_) {
        if (s.spec->isState()) continue;
        const Scale now = scaleOf(*s.spec);
        const double most = std::max(std::fabs(now.low), std::fabs(now.high));
        Scale& scale = scales[s.spec->unit()];
        const double end = std::max(most, scale.high);
        // of what is below zero the zero is the upper end
        scale = inTheMiddle ? Scale{-end, end} : now.high <= 0 ? Scale{-end, 0} : Scale{0, end};
    }
    if (!scales.empty()) Q_EMIT scalesChosen(scales, inTheMiddle ? tr("Zero in the middle") : tr("Zero at the bottom"));
}

void Tile::beginLearning() {
    learningSince_ = session_.end();
    update();
}

void Tile::endLearning() {
    if (!learningSince_) return;
    const Span span{*learningSince_, session_.end()};
    learningSince_.reset();
    setScaleFrom(span, tr("Learn range"));
    update();
}

bool Tile::overCorner(QPointF at) const {
    return at.x() > width() - cornerSize && at.y() > height() - cornerSize;
}

void Tile::mousePressEvent(QMouseEvent* event) {
    Q_EMIT chosen();
    if (event->button() != Qt::LeftButton) return;
    dragging_ = false;
    pressedAt_ = event->globalPosition().toPoint();
    drag_ = overCorner(event->position())          ? Drag::resize
            : event->position().y() < headerHeight ? Drag::move
                                                   : Drag::none;
}

void Tile::mouseMoveEvent(QMouseEvent* event) {
    if (!(event->buttons() & Qt::LeftButton)) {
        setCursor(overCorner(event->position())          ? Qt::SizeFDiagCursor
                  : event->position().y() < headerHeight ? Qt::OpenHandCursor
                                                         : Qt::ArrowCursor);
        return;
    }
    const QPoint at = event->globalPosition().toPoint();
    if (drag_ == Drag::none) return;
    if (!dragging_ && (at - pressedAt_).manhattanLength() < QApplication::startDragDistance()) return;
    if (!dragging_) {
        dragging_ = true;
        if (drag_ == Drag::move)
            Q_EMIT moveBegan(pressedAt_);
        else
            Q_EMIT resizeBegan(pressedAt_);
    }
    Q_EMIT moved(at);
}

void Tile::mouseReleaseEvent(QMouseEvent*) {
    if (dragging_) Q_EMIT moveEnded();
    dragging_ = false;
    drag_ = Drag::none;
}

void Tile::mouseDoubleClickEvent(QMouseEvent* event) {
    if (event->button() == Qt::LeftButton && first()) Q_EMIT chainAsked(shown(first()->id));
}

void Tile::contextMenuEvent(QContextMenuEvent* event) {
    Q_EMIT chosen();
    Q_EMIT menuAsked(event->globalPos());
}

void Tile::focusInEvent(QFocusEvent* event) {
    Q_EMIT chosen();
    QWidget::focusInEvent(event);
}

void Tile::resizeEvent(QResizeEvent* event) {
    QWidget::resizeEvent(event);
    rebuild();
}

void Tile::changeEvent(QEvent* event) {
    QWidget::changeEvent(event);
    if (event->type() == QEvent::PaletteChange) {
        rebuild();
        update();
    }
}

}  // namespace cruscotto
