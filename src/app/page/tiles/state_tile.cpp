#include "app/page/tiles/state_tile.h"
#include "app/page/tiles/tile_form.h"

#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

void StateTile::refresh(Instant t, bool digits) {
    if (!first()) return;
    const bool before = shown_.front().reading.value > 0.5;
    bool changed = read(t, digits);
    const bool now = shown_.front().reading.value > 0.5;
    if (first()->isState() && before != now && !shown_.front().over) {  // a state must not wait for the digits' turn
        shown_.front().text = stateWord(*first(), shown_.front().reading.value);
        changed = true;
    }
    if (digits) {
        const auto last = session_.source().lastChange(first()->id, t);
        since_ = shown_.front().over ? shown_.front().spread
                 : last              ? tr("for %1").arg(shown(clockText(t - *last)))
                                     : tr("since the start");
        const int n = std::max(8, width() - 16);
        const Instant until = stretch_ ? stretch_->to : t;
        const Duration window = stretch_ ? stretch_->to - stretch_->from : seconds(30);
        const Duration width{std::max<std::int64_t>(1, window.ns / n)};
        const Instant from{(until.ns - window.ns) / width.ns * width.ns};
        session_.source().columns(first()->id, {from, width, static_cast<std::size_t>(n)}, columns_);
        layStrip(until);
    }
    if (changed || digits) update();
}

void StateTile::layStrip(Instant until) {
    // Between two readings it stands where it was, unless nothing was measured there.
    const auto heldAt = [&](Instant t) {
        const Reading r = session_.source().at(first()->id, t);
        const bool known = r.quality != Quality::gap && r.quality != Quality::stale && !std::isnan(r.value);
        return !known ? Stood::unknown : r.value > 0.5 ? Stood::on : Stood::off;
    };
    strip_.assign(columns_.size(), Stood::unknown);
    Stood held = columns_.empty() ? Stood::unknown : heldAt(columns_.front().begin);
    for (std::size_t i = 0; i < columns_.size(); ++i) {
        const Column& c = columns_[i];
        if (c.gapBefore)
            for (std::size_t k = i; k-- > 0 && !columns_[k].sampled;) strip_[k] = Stood::unknown;
        const bool last = i + 1 == columns_.size();
        if (c.sampled) {
            strip_[i] = held = c.summary.count == 0  ? Stood::unknown
                               : c.summary.min > 0.5 ? Stood::on
                               : c.summary.max > 0.5 ? Stood::both
                                                     : Stood::off;
            if (held == Stood::both) held = heldAt(last ? until : columns_[i + 1].begin - nanoseconds(1));
        } else {
            strip_[i] = held;
        }
    }
    // What is behind the last reading is known only while more come.
    if (heldAt(until) == Stood::unknown)
        for (std::size_t k = columns_.size(); k-- > 0 && !columns_[k].sampled;) strip_[k] = Stood::unknown;
}

std::string StateTile::stripText() const {
    std::string out;
    for (const Stood s : strip_) out += " 01x"[static_cast<std::size_t>(s)];
    return out;
}

void StateTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    if (!first()) return;
    const Shown& s = shown_.front();
    const Theme& t = theme();
    const QRectF b = body();
    const bool on = s.reading.value > 0.5;
    p.setRenderHint(QPainter::Antialiasing);
    const double stripHeight = 16;
    const QFont wanted =
        uiFont(std::clamp((b.height() - stripHeight) * 0.45, 18.0, largestDigits(b.height(), 40)), QFont::Medium);
    const QFont big = fitted(wanted, b.width() - wanted.pixelSize() * 0.6 - 12);  // beside the mark
    const bool gone = s.reading.quality == Quality::gap;
    p.setPen(gone ? t.muted : t.ink);
    const double baseline = b.top() + QFontMetricsF(big).ascent() - 2;
    // A square before the word: filled is on, hollow is off. The shape says it as well as the word.
    const double side = QFontMetricsF(big).capHeight() * 0.72;
    const QRectF mark(b.left() + 1,
                      baseline - QFontMetricsF(big).capHeight() + (QFontMetricsF(big).capHeight() - side) / 2, side,
                      side);
    p.setPen(QPen(gone ? t.muted : colourOf(*s.spec), 2));
    p.setBrush(on && !gone && !s.over ? QBrush(colourOf(*s.spec)) : Qt::NoBrush);
    p.drawRect(mark);
    if (s.over && !gone) {  // of a stretch, for how much of it
        QRectF part = mark;
        part.setTop(mark.bottom() - mark.height() * std::clamp(s.reading.value, 0.0, 1.0));
        p.fillRect(part, colourOf(*s.spec));
    }
    p.setPen(gone ? t.muted : t.ink);
    drawFigures(p, {mark.right() + 10, baseline}, big, gone ? QStringLiteral("–") : s.text);
    QString line = since_;
    p.setPen(t.muted);
    if (s.reading.quality != Quality::good) {
        const Remark remark = remarkOn(s);
        line = remark.words;
        p.setPen(remark.colour);
    }
    drawFigures(p, {b.left(), baseline + 22}, uiFont(12), line);

    p.setRenderHint(QPainter::Antialiasing, false);
    const QRectF strip(b.left(), b.bottom() - stripHeight - 2, b.width(), stripHeight);
    p.fillRect(strip, t.track);
    const double dx = strip.width() / static_cast<double>(std::max<std::size_t>(1, strip_.size()));
    p.setPen(Qt::NoPen);
    for (std::size_t i = 0; i < strip_.size(); ++i) {
        if (strip_[i] != Stood::on && strip_[i] != Stood::both) continue;
        const double x = strip.left() + dx * static_cast<double>(i);
        const double top = strip.top() + (strip_[i] == Stood::on ? 0 : 5);
        p.fillRect(QRectF(x, top, dx + 0.5, strip.bottom() - top), colourOf(*s.spec));
    }
}

const TileForm& tile_forms::state() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a state"), .make = makeTile<StateTile>, .leastHeight = 2};
    return form;
}

}  // namespace cruscotto
