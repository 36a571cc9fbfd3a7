#pragma once

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// What a kind of tile is on the screen.
struct TileForm {
    Text title;  ///< "a dial": behind "Show as"
    std::unique_ptr<Tile> (*make)(Session& session, QWidget* parent) = nullptr;
    int leastWidth = 1, leastHeight = 1;  ///< in cells of the page's grid
    bool manySignals = false;             ///< else it shows one
};

template <class T>
std::unique_ptr<Tile> makeTile(Session& session, QWidget* parent) {
    return std::make_unique<T>(session, parent);
}

const TileForm& tileForm(TileKind kind);

/// One function for each kind of CRUSCOTTO_TILES, in that kind's file.
namespace tile_forms {
#define CRUSCOTTO_DECLARE(name) const TileForm& name();
CRUSCOTTO_TILES(CRUSCOTTO_DECLARE)
#undef CRUSCOTTO_DECLARE
}  // namespace tile_forms

}  // namespace cruscotto
