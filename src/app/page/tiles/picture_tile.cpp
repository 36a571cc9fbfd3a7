#include "app/page/tiles/picture_tile.h"
#include "app/page/tiles/tile_form.h"

#include <QBuffer>
#include <QImageReader>
#include <QMouseEvent>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

std::string PictureTile::kept(const QString& path) {
    QImageReader reader(path);
    reader.setAutoTransform(true);
    constexpr int largest = 1280;
    // A picture that says it is enormous is read smaller, not whole.
    if (const QSize size = reader.size(); size.isValid() && (size.width() > largest || size.height() > largest))
        reader.setScaledSize(size.scaled(largest, largest, Qt::KeepAspectRatio));
    QImage image = reader.read();
    if (image.isNull()) return {};
    // Smaller, until it fits into a bench.
    for (int edge = largest; edge >= 80; edge = edge * 2 / 3) {
        if (image.width() > edge || image.height() > edge)
            image = image.scaled(edge, edge, Qt::KeepAspectRatio, Qt::SmoothTransformation);
        for (const char* format : {"PNG", "JPG"}) {
            QByteArray bytes;
            QBuffer into(&bytes);
            into.open(QIODevice::WriteOnly);
            constexpr int quality = 80;
            if (!image.save(&into, format, quality)) continue;
            const QByteArray text = bytes.toBase64();
            if (static_cast<std::size_t>(text.size()) <= mostTileSetting) return text.toStdString();
        }
    }
    return {};
}

void PictureTile::rebuild() {
    const std::string& text = settingOf(spec_, "picture");
    if (text == from_) return;
    from_ = text;
    picture_ = QImage();
    QByteArray bytes = QByteArray::fromBase64(QByteArray::fromStdString(text));
    QBuffer buffer(&bytes);
    buffer.open(QIODevice::ReadOnly);
    QImageReader reader(&buffer);
    constexpr int most = 8000;
    if (const QSize size = reader.size(); size.isValid() && size.width() <= most && size.height() <= most)
        picture_ = reader.read();
}

QPointF PictureTile::pinOf(const std::string& signal) const {
    const QStringList pins = shown(settingOf(spec_, "pins")).split(';', Qt::SkipEmptyParts);
    for (const QString& pin : pins) {
        const QStringList parts = pin.simplified().split(' ');
        double x = 0, y = 0;
        if (parts.size() == 3 && parts[0].toStdString() == signal && parseNumber(parts[1].toStdString(), x) &&
            parseNumber(parts[2].toStdString(), y))
            return {std::clamp(x, 0.0, 1.0), std::clamp(y, 0.0, 1.0)};
    }
    // one below the other at the left until they are dragged
    for (std::size_t i = 0; i < shown_.size(); ++i)
        if (shown_[i].spec->id == signal)
            return {0.12, (static_cast<double>(i) + 1) / (static_cast<double>(shown_.size()) + 1)};
    return {0.5, 0.5};
}

QRectF PictureTile::frame() const {
    const QRectF room = QRectF(rect()).adjusted(8, 24, -8, -6);
    if (picture_.isNull()) return room;
    const QSizeF size = QSizeF(picture_.size()).scaled(room.size(), Qt::KeepAspectRatio);
    return {room.center().x() - size.width() / 2, room.center().y() - size.height() / 2, size.width(), size.height()};
}

QRectF PictureTile::boxOf(std::size_t i) const {
    const Shown& s = shown_[i];
    const QRectF in = frame();
    const QPointF pin = pinOf(s.spec->id);
    const QString unit = s.spec->isState() ? QString() : unitOf(*s.spec);
    const double wide = std::max(
        figuresWidth(uiFont(15, QFont::Medium), s.text) + QFontMetricsF(uiFont(11)).horizontalAdvance(unit) + 18,
        QFontMetricsF(uiFont(11, QFont::Bold)).horizontalAdvance(tagOf(*s.spec)) + 14);
    constexpr double high = 38;
    QRectF box(in.left() + pin.x() * in.width() - wide / 2, in.top() + pin.y() * in.height() - high / 2, wide, high);
    box.moveLeft(std::clamp(box.left(), 2.0, std::max(2.0, width() - wide - 2)));
    box.moveTop(std::clamp(box.top(), 22.0, std::max(22.0, height() - high - 2)));
    return box;
}

void PictureTile::refresh(Instant t, bool digits) {
    if (read(t, digits) || digits) update();
}

void PictureTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    const Theme& t = theme();
    const QRectF in = frame();
    p.setRenderHint(QPainter::SmoothPixmapTransform);
    p.setRenderHint(QPainter::Antialiasing);
    if (picture_.isNull()) {
        p.fillRect(in, t.track);
        p.setPen(t.muted);
        p.setFont(uiFont(13));
        p.drawText(in, Qt::AlignCenter | Qt::TextWordWrap, tr("Choose a photo or drawing in this tile's menu"));
    } else {
        p.drawImage(in, picture_);
    }
    for (std::size_t i = 0; i < shown_.size(); ++i) {
        const Shown& s = shown_[i];
        const QRectF box = boxOf(i);
        p.setPen(QPen(colourOf(*s.spec), 1.5));
        QColor ground = t.ground;
        ground.setAlpha(235);
        p.setBrush(ground);
        p.drawRoundedRect(box, 3, 3);
        p.setPen(colourOf(*s.spec));
        p.setFont(uiFont(11, QFont::Bold));
        p.drawText(QPointF(box.left() + 7, box.top() + 14), tagOf(*s.spec));
        const bool gone = s.reading.quality == Quality::gap || s.reading.quality == Quality::stale;
        p.setPen(gone ? t.muted : t.ink);
        const double end = drawFigures(p, QPointF(box.left() + 7, box.bottom() - 7), uiFont(15, QFont::Medium), s.text);
        p.setPen(t.muted);
        p.setFont(uiFont(11));
        if (!s.spec->isState()) p.drawText(QPointF(end + 4, box.bottom() - 7), unitOf(*s.spec));
    }
}

void PictureTile::pin(const std::string& signal, QPointF at) {
    QStringList pins;
    for (const Shown& s : shown_) {
        const QPointF pin = s.spec->id == signal ? at : pinOf(s.spec->id);
        pins << QStringLiteral("%1 %2 %3")
                    .arg(shown(s.spec->id))
                    .arg(std::clamp(pin.x(), 0.0, 1.0), 0, 'f', 4)
                    .arg(std::clamp(pin.y(), 0.0, 1.0), 0, 'f', 4);
    }
    Q_EMIT settingChosen("pins", pins.join("; "), tr("Move a pin"), "pin " + shown(signal) + shown(spec().id));
}

void PictureTile::mousePressEvent(QMouseEvent* event) {
    dragged_.reset();
    for (std::size_t i = shown_.size(); i-- > 0 && !dragged_;)
        if (event->button() == Qt::LeftButton && boxOf(i).contains(event->position())) dragged_ = i;
    if (dragged_) return Q_EMIT chosen();
    Tile::mousePressEvent(event);
}

void PictureTile::mouseMoveEvent(QMouseEvent* event) {
    if (!dragged_ || *dragged_ >= shown_.size()) return Tile::mouseMoveEvent(event);
    const QRectF in = frame();
    pin(shown_[*dragged_].spec->id,
        {(event->position().x() - in.left()) / in.width(), (event->position().y() - in.top()) / in.height()});
}

void PictureTile::mouseReleaseEvent(QMouseEvent* event) {
    dragged_.reset();
    Tile::mouseReleaseEvent(event);
}

const TileForm& tile_forms::picture() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a picture with readings"),
                               .make = makeTile<PictureTile>,
                               .leastWidth = 3,
                               .leastHeight = 3,
                               .manySignals = true};
    return form;
}

}  // namespace cruscotto
