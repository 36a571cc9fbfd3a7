#include "app/page/tiles/port_tile.h"
#include "app/page/tiles/tile_form.h"

#include <QMouseEvent>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

namespace {
constexpr double headHeight = 26, foot = 20;
constexpr std::size_t mostBits = 64;
}  // namespace

Span PortTile::shownSpan() const {
    const auto stretch = session_.stretch();
    return stretch ? *stretch : Span{drawnTo_ - session_.cursor().window(), drawnTo_};
}

double PortTile::nameWidth() const {
    double wide = 40;
    const QFontMetricsF metrics(uiFont(12));
    for (const Shown& s : shown_) wide = std::max(wide, metrics.horizontalAdvance(shown(s.spec->name)) + 12);
    return std::min(wide, width() * 0.35);
}

QRectF PortTile::rowRect(std::size_t row) const {
    const QRectF b = body().adjusted(nameWidth(), headHeight, 0, -foot);
    const double high = b.height() / static_cast<double>(std::max<std::size_t>(1, shown_.size()));
    return {b.left(), b.top() + high * static_cast<double>(row), b.width(), high};
}

void PortTile::refresh(Instant t, bool digits) {
    const bool changed = read(t, digits);
    const auto n = static_cast<std::size_t>(std::max(16.0, rowRect(0).width()));
    const Duration window =
        session_.stretch() ? session_.stretch()->to - session_.stretch()->from : session_.cursor().window();
    const Duration width{std::max<std::int64_t>(1, window.ns / static_cast<std::int64_t>(n))};
    const Instant to = session_.stretch() ? session_.stretch()->to : Instant{t.ns / width.ns * width.ns};
    if (to == drawnTo_ && !changed) return;
    drawnTo_ = to;
    rows_.resize(shown_.size());
    for (std::size_t i = 0; i < shown_.size(); ++i)
        session_.source().columns(shown_[i].spec->id, {to - window, width, n}, rows_[i]);
    std::uint64_t all = 0;
    bool known = shown_.size() <= mostBits;
    for (std::size_t i = 0; i < shown_.size() && known; ++i) {
        const Reading& r = shown_[i].reading;
        known = !std::isnan(r.value) && r.quality != Quality::gap;
        if (known && r.value > 0.5) all |= std::uint64_t{1} << i;
    }
    const int digitsOfHex = static_cast<int>((shown_.size() + 3) / 4);
    value_ = known ? QStringLiteral("0x%1  %2")
                         .arg(QString::number(all, 16).toUpper().rightJustified(digitsOfHex, '0'), QString::number(all))
                   : QStringLiteral("–");
    update();
}

QString PortTile::numbers() const {
    QStringList out;
    for (const Shown& s : shown_) out << shown(s.spec->tag) + '\t' + shown(s.spec->name) + '\t' + s.text;
    return out.join('\n') + '\n' + value_;
}

QString PortTile::betweenEdges(std::size_t row, Instant at) const {
    if (row >= shown_.size()) return {};
    const Span span = shownSpan();
    std::vector<Point> points;
    constexpr std::size_t most = 200'000;
    if (!session_.source().points(shown_[row].spec->id, span, most, points)) return {};
    std::optional<Instant> before, after;
    for (std::size_t i = 1; i < points.size(); ++i) {
        if (std::isnan(points[i].value) || std::isnan(points[i - 1].value)) continue;
        if ((points[i].value > 0.5) == (points[i - 1].value > 0.5)) continue;
        if (points[i].t <= at) before = points[i].t;
        if (points[i].t > at && !after) after = points[i].t;
    }
    if (!before || !after) return {};
    return lengthText(*after - *before);
}

void PortTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    const Theme& t = theme();
    const QRectF b = body();
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(t.ink);
    drawFigures(p, QPointF(b.left(), b.top() + 17), uiFont(16, QFont::Medium), value_);
    p.setRenderHint(QPainter::Antialiasing, false);
    for (std::size_t i = 0; i < shown_.size() && i < rows_.size(); ++i) {
        const QRectF r = rowRect(i);
        const double gap = std::min(6.0, r.height() * 0.22);
        const double top = std::round(r.top() + gap), bottom = std::round(r.bottom() - gap);
        p.setFont(uiFont(12));
        p.setPen(t.ink);
        p.drawText(QRectF(b.left(), r.top(), r.left() - b.left() - 8, r.height()), Qt::AlignVCenter | Qt::AlignLeft,
                   p.fontMetrics().elidedText(shown(shown_[i].spec->name), Qt::ElideRight,
                                              static_cast<int>(r.left() - b.left() - 8)));
        p.setPen(t.hairline);
        p.drawLine(QPointF(r.left(), bottom), QPointF(r.right(), bottom));
        const double dx = r.width() / static_cast<double>(std::max<std::size_t>(1, rows_[i].size()));
        // what it was before the first column
        const Reading first = session_.source().at(shown_[i].spec->id, shownSpan().from);
        double is = std::isnan(first.value) || first.quality == Quality::gap ? std::nan("") : first.value > 0.5;
        const QColor colour = colourOf(*shown_[i].spec);
        p.setPen(QPen(colour, 1.6));
        for (std::size_t k = 0; k < rows_[i].size(); ++k) {
            const Column& c = rows_[i][k];
            const double x = r.left() + dx * static_cast<double>(k);
            if (c.broken()) is = std::nan("");
            if (c.summary.count > 0) {
                const double low = c.summary.min > 0.5, high = c.summary.max > 0.5;
                if (low != high) {  // an edge, or more of them
                    p.drawLine(QPointF(x, top), QPointF(x, bottom));
                    const Reading behind = session_.source().at(
                        shown_[i].spec->id,
                        k + 1 < rows_[i].size() ? rows_[i][k + 1].begin - nanoseconds(1) : drawnTo_);
                    is = behind.value > 0.5;
                } else {
                    if (!std::isnan(is) && is != high) p.drawLine(QPointF(x, top), QPointF(x, bottom));
                    is = high;
                }
            }
            if (std::isnan(is)) continue;
            const double y = is > 0.5 ? top : bottom;
            if (is > 0.5) {
                QColor soft = colour;
                soft.setAlpha(60);
                // whole pixels: none is shaded twice
                p.fillRect(QRectF(std::floor(x), top, std::floor(x + dx) - std::floor(x), bottom - top), soft);
            }
            p.drawLine(QPointF(x, y), QPointF(x + dx, y));
        }
    }
    const QRectF last = rowRect(shown_.empty() ? 0 : shown_.size() - 1);
    p.setRenderHint(QPainter::Antialiasing);
    const Span span = shownSpan();
    p.setPen(t.muted);
    const QString all = lengthText(span.to - span.from);
    drawFigures(p, QPointF(last.right() - figuresWidth(uiFont(11), all), b.bottom() - 4), uiFont(11), all);
    if (!pointer_) return;
    for (std::size_t i = 0; i < shown_.size(); ++i) {
        const QRectF r = rowRect(i);
        if (!r.contains(*pointer_)) continue;
        const Instant at =
            span.from + seconds((pointer_->x() - r.left()) / r.width() * (span.to - span.from).seconds());
        const QString words = betweenEdges(i, at);
        p.setPen(QPen(t.ink, 1));
        p.drawLine(QPointF(std::floor(pointer_->x()) + 0.5, rowRect(0).top()),
                   QPointF(std::floor(pointer_->x()) + 0.5, last.bottom()));
        if (words.isEmpty()) break;
        const QFont font = uiFont(12, QFont::Medium);
        const double wide = figuresWidth(font, words) + 8;
        const QRectF box(std::min(pointer_->x() + 6, r.right() - wide), r.center().y() - 9, wide, 18);
        p.fillRect(box, t.ground);
        drawFigures(p, QPointF(box.left() + 4, box.bottom() - 4.5), font, words);
        break;
    }
}

void PortTile::mouseMoveEvent(QMouseEvent* event) {
    pointer_ = event->position();
    update();
    Tile::mouseMoveEvent(event);
}

void PortTile::leaveEvent(QEvent* event) {
    pointer_.reset();
    update();
    Tile::leaveEvent(event);
}

const TileForm& tile_forms::port() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("timing rows of states"),
                               .make = makeTile<PortTile>,
                               .leastWidth = 4,
                               .leastHeight = 2,
                               .manySignals = true};
    return form;
}

}  // namespace cruscotto
