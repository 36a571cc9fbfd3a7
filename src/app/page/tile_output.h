#pragma once

#include <QImage>
#include <QString>

#include "app/page/tiles/tile.h"
#include "core/base/new_file.h"

namespace cruscotto {

/// The tile as a picture, twice as fine as on the screen.
QImage tilePicture(Tile& tile);
/// Into a file: PNG, SVG or PDF, by its ending. Errors: another ending, a file that cannot be written.
Result<void> writeTile(Tile& tile, const QString& path, NewFile::Existing existing);

}  // namespace cruscotto
