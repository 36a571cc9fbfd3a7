#pragma once

#include <string>
#include <utility>

#include "core/bench/bench.h"

namespace cruscotto {

/// A place on a page's grid: column and row of a tile's upper left cell, from 0.
using Place = std::pair<int, int>;

/// Where a new tile of w x h cells fits on the page without covering another, from the top left; below all if nowhere.
Place freePlace(const PageSpec& page, int w, int h);

/// The place nearest to `near` (in cells, across and down together) where w x h cells cover no tile. Within the rows
/// that the page has or shows anyway; where none of them has room, as few rows further down as it takes. Precondition:
/// w <= pageColumns.
Place nearestFreePlace(const PageSpec& page, Place near, int w, int h);

/// The page with this tile where it says, in place of the one of its id or as a new one. Whatever it would cover goes
/// to the nearest free place, one after the other from the top left on; all else stays. The rows that the page has or
/// shows come first here too, also after one of them found no room in these.
PageSpec withRoomFor(PageSpec page, const TileSpec& tile);

}  // namespace cruscotto
