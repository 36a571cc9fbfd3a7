#include "app/page/tile_output.h"

#include <QBuffer>
#include <QPdfWriter>
#include <QSvgGenerator>

#include "app/widgets/words.h"

namespace cruscotto {

namespace {
constexpr double finer = 2, dotsAnInch = 96;
}

QImage tilePicture(Tile& tile) {
    QImage image(tile.size() * finer, QImage::Format_ARGB32_Premultiplied);
    image.setDevicePixelRatio(finer);
    tile.printOn(image);
    return image;
}

Result<void> writeTile(Tile& tile, const QString& path, NewFile::Existing existing) {
    QByteArray bytes;
    QBuffer into(&bytes);
    into.open(QIODevice::WriteOnly);
    if (path.endsWith(".png", Qt::CaseInsensitive)) {
        tilePicture(tile).save(&into, "PNG");
    } else if (path.endsWith(".svg", Qt::CaseInsensitive)) {
        QSvgGenerator svg;
        svg.setOutputDevice(&into);
        svg.setSize(tile.size());
        svg.setViewBox(tile.rect());
        svg.setResolution(static_cast<int>(dotsAnInch));
        svg.setTitle(tile.accessibleName());
        tile.printOn(svg);
    } else if (path.endsWith(".pdf", Qt::CaseInsensitive)) {
        QPdfWriter pdf(&into);
        pdf.setResolution(static_cast<int>(dotsAnInch));
        pdf.setPageSize(QPageSize(QSizeF(tile.size()) / dotsAnInch, QPageSize::Inch));
        pdf.setPageMargins({});
        pdf.setTitle(tile.accessibleName());
        tile.printOn(pdf);
    } else {
        return failure("A tile is saved as .png, .svg or .pdf, by the ending of the name.");
    }
    into.close();
    auto file = NewFile::create(path.toStdString(), existing);
    if (!file) return file.error();
    (void)file.value().write({bytes.constData(), static_cast<std::size_t>(bytes.size())});
    return file.value().put();
}

}  // namespace cruscotto
