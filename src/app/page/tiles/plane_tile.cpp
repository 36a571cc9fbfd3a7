#include "app/page/tiles/plane_tile.h"
#include "app/page/tiles/tile_form.h"

#include <QRegularExpression>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

namespace {
constexpr std::size_t mostPlaces = 400;
}

std::vector<PlaneTile::Place> PlaneTile::reference() const {
    static const QRegularExpression pairs(QStringLiteral("[;\n]+")), between(QStringLiteral("[\\s,]+"));
    std::vector<Place> out;
    for (const QString& part : shown(settingOf(spec_, "reference")).split(pairs, Qt::SkipEmptyParts)) {
        std::vector<double> numbers;
        bool fine = true;
        for (const QString& text : part.split(between, Qt::SkipEmptyParts)) {
            double v = 0;
            fine = fine && parseNumber(text.toStdString(), v);
            numbers.push_back(v);
        }
        if (!fine || numbers.size() % 2 != 0) continue;
        for (std::size_t i = 0; i < numbers.size(); i += 2) out.push_back({numbers[i], numbers[i + 1]});
    }
    return out;
}

void PlaneTile::refresh(Instant t, bool digits) {
    read(t, digits);
    if (!digits || shown_.size() < 2) return;
    const Span span = chosenSpan(session_, spec_, t);
    if (measured_ == span) return;
    measured_ = span;
    // Both by the same columns of time: what they were on average in each.
    const Duration width{std::max<std::int64_t>(1, (span.to - span.from).ns / static_cast<std::int64_t>(mostPlaces))};
    const Instant from{span.from.ns / width.ns * width.ns};
    std::vector<Column> up, across;
    session_.source().columns(shown_[0].spec->id, {from, width, mostPlaces + 1}, up);
    session_.source().columns(shown_[1].spec->id, {from, width, mostPlaces + 1}, across);
    places_.clear();
    Place last{std::nan(""), std::nan("")};
    for (std::size_t i = 0; i < up.size(); ++i) {
        if (up[i].broken() || across[i].broken()) places_.push_back({std::nan(""), std::nan("")});
        if (up[i].summary.count > 0) last.y = up[i].summary.mean;
        if (across[i].summary.count > 0) last.x = across[i].summary.mean;
        if ((up[i].summary.count > 0 || across[i].summary.count > 0) && !std::isnan(last.x) && !std::isnan(last.y))
            places_.push_back(last);
    }
    update();
}

QString PlaneTile::numbers() const {
    if (shown_.size() < 2) return {};
    QStringList out{shown(shown_[1].spec->name) + '\t' + shown(shown_[0].spec->name)};
    for (const Place& at : places_)
        if (!std::isnan(at.x)) out << QString::number(at.x, 'g', 12) + '\t' + QString::number(at.y, 'g', 12);
    return out.join('\n');
}

void PlaneTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    const Theme& t = theme();
    if (shown_.size() < 2) {
        p.setPen(t.muted);
        p.setFont(uiFont(13));
        p.drawText(body(), Qt::AlignCenter | Qt::TextWordWrap,
                   tr("Drag a second signal here: the first goes up, the second across"));
        return;
    }
    PlotAxis x, y;
    x.unit = tagOf(*shown_[1].spec) + QStringLiteral(" ") + unitOf(*shown_[1].spec);
    y.unit = tagOf(*shown_[0].spec) + QStringLiteral(" ") + unitOf(*shown_[0].spec);
    x.scale = shown_[1].scale;
    y.scale = shown_[0].scale;
    const PlotFrame frame = PlotFrame::in(body(), x, y);
    frame.paint(p);
    p.save();
    p.setClipRect(frame.area.adjusted(-4, -4, 4, 4));
    p.setRenderHint(QPainter::Antialiasing);
    const std::vector<Place> curve = reference();
    QPolygonF line;
    for (const Place& at : curve) line << QPointF(frame.xOf(at.x), frame.yOf(at.y));
    p.setPen(QPen(t.muted, 1.3, Qt::DashLine));
    p.drawPolyline(line);
    QColor colour = colourOf(*shown_[0].spec);
    for (std::size_t i = 1; i < places_.size(); ++i) {
        const Place &a = places_[i - 1], &b = places_[i];
        if (std::isnan(a.x) || std::isnan(b.x)) continue;
        // the newest at full strength
        colour.setAlpha(30 + static_cast<int>(225 * i / places_.size()));
        p.setPen(QPen(colour, 1.6));
        p.drawLine(QPointF(frame.xOf(a.x), frame.yOf(a.y)), QPointF(frame.xOf(b.x), frame.yOf(b.y)));
    }
    const double nowX = shown_[1].reading.value, nowY = shown_[0].reading.value;
    if (!std::isnan(nowX) && !std::isnan(nowY)) {
        p.setPen(QPen(t.ground, 2));
        p.setBrush(t.ink);
        p.drawEllipse(QPointF(frame.xOf(nowX), frame.yOf(nowY)), 5.5, 5.5);
    }
    p.restore();
    const QString words = shown_[1].text + QStringLiteral(" ") + unitOf(*shown_[1].spec) + QStringLiteral(", ") +
                          shown_[0].text + QStringLiteral(" ") + unitOf(*shown_[0].spec);
    const QFont font = uiFont(12, QFont::Medium);
    p.setPen(t.ink);
    drawFigures(p, QPointF(frame.area.right() - figuresWidth(font, words), frame.area.top() - 5), font, words);
}

const TileForm& tile_forms::plane() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a plane: one over the other"),
                               .make = makeTile<PlaneTile>,
                               .leastWidth = 3,
                               .leastHeight = 3,
                               .manySignals = true};
    return form;
}

}  // namespace cruscotto
