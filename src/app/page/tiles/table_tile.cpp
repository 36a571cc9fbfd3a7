#include "app/page/tiles/table_tile.h"
#include "app/page/tiles/tile_form.h"

#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/tile_settings.h"
#include "core/bench/uncertainty.h"

namespace cruscotto {

void TableTile::refresh(Instant t, bool digits) {
    read(t, digits);
    if (!digits) return;
    const auto columns = severalOf(spec_, "columns");
    std::vector<QStringList> next;
    QStringList head{QString(), QString()};
    for (const TileSetting& setting : tileSettings(TileKind::table))
        for (const std::string& column : columns)
            for (const auto& [key, title] : setting.choices)
                if (key == column) head << shown(title);
    head << tr("unit");
    next.push_back(head);
    const Span span = chosenSpan(session_, spec_, t);
    for (const Shown& s : shown_) {
        const StretchSummary over = s.over ? *s.over : session_.source().summaryOver(s.spec->id, span);
        const bool state = s.spec->isState();
        const auto number = [&](double v) {
            return std::isnan(v) ? QStringLiteral("–")
                   : state       ? stateWord(*s.spec, v)
                                 : session_.numberText(*s.spec, v);
        };
        QStringList row{shown(s.spec->tag), shown(s.spec->name)};
        for (const std::string& column : columns) {
            const double deviation = over.deviation();
            row << (column == "value"     ? s.text
                    : column == "mean"    ? (state ? shareText(*s.spec, over.mean) : number(over.mean))
                    : column == "lowest"  ? number(over.min)
                    : column == "highest" ? number(over.max)
                    : column == "spread"
                        ? (state || std::isnan(deviation)
                               ? QStringLiteral("–")
                               : shown(readingText(deviation, deviation > 0 ? decimalsFor(deviation) : 0)))
                        : (s.spec->limits.low ? number(*s.spec->limits.low) : QString()) +
                              (s.spec->limits.low || s.spec->limits.high ? tr(" to ") : QStringLiteral("–")) +
                              (s.spec->limits.high ? number(*s.spec->limits.high) : QString()));
        }
        row << unitOf(*s.spec);
        next.push_back(row);
    }
    if (next == cells_) return;
    cells_ = std::move(next);
    update();
}

void TableTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    if (cells_.empty()) return;
    const Theme& t = theme();
    const QRectF b = body();
    const QFont head = uiFont(11), name = uiFont(13), figures = uiFont(13, QFont::Medium);
    const int columns = static_cast<int>(cells_.front().size());
    std::vector<double> wide(static_cast<std::size_t>(columns), 0);
    for (std::size_t r = 0; r < cells_.size(); ++r)
        for (int c = 0; c < columns; ++c) {
            const double w = c == 1 ? QFontMetricsF(name).horizontalAdvance(cells_[r][c])
                                    : figuresWidth(r == 0 ? head : figures, cells_[r][c]);
            wide[static_cast<std::size_t>(c)] = std::max(wide[static_cast<std::size_t>(c)], w);
        }
    constexpr double gap = 16;
    double used = gap * (columns - 1);
    for (int c = 0; c < columns; ++c)
        if (c != 1) used += wide[static_cast<std::size_t>(c)];
    wide[1] = std::max(40.0, std::min(wide[1], b.width() - used));
    const double room = b.height() / static_cast<double>(cells_.size());
    const double high = std::clamp(room, 18.0, 28.0);
    p.setRenderHint(QPainter::Antialiasing);
    for (std::size_t r = 0; r < cells_.size(); ++r) {
        const double baseline = b.top() + high * static_cast<double>(r) + high * 0.68;
        if (baseline > b.bottom() + 4) break;
        double x = b.left();
        const Shown* s = r > 0 ? &shown_[r - 1] : nullptr;
        for (int c = 0; c < columns; ++c) {
            const double w = wide[static_cast<std::size_t>(c)];
            const QString& text = cells_[r][c];
            p.setPen(r == 0 || c + 1 == columns ? t.muted : c == 0 ? colourOf(*s->spec) : t.ink);
            if (c == 1 || c + 1 == columns) {
                p.setFont(r == 0 ? head : name);
                p.drawText(QPointF(x, baseline),
                           p.fontMetrics().elidedText(text, Qt::ElideRight, static_cast<int>(w) + 1));
            } else if (c == 0) {
                p.setFont(uiFont(11, QFont::Bold));
                p.drawText(QPointF(x, baseline), text);
            } else {
                const QFont& font = r == 0 ? head : figures;
                drawFigures(p, QPointF(x + w - figuresWidth(font, text), baseline), font, text);
            }
            x += w + gap;
        }
        if (r + 1 < cells_.size()) {
            p.setPen(t.hairline);
            const double y = b.top() + high * static_cast<double>(r + 1);
            p.drawLine(QPointF(b.left(), y), QPointF(b.right(), y));
        }
    }
}

const TileForm& tile_forms::table() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a table"),
                               .make = makeTile<TableTile>,
                               .leastWidth = 4,
                               .leastHeight = 2,
                               .manySignals = true};
    return form;
}

}  // namespace cruscotto
