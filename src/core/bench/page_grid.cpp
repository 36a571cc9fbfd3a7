#include "core/bench/page_grid.h"

#include <algorithm>
#include <cstdlib>
#include <limits>
#include <tuple>

namespace cruscotto {

namespace {
bool share(const TileSpec& a, const TileSpec& b) {
    return a.x < b.x + b.w && b.x < a.x + a.w && a.y < b.y + b.h && b.y < a.y + a.h;
}

bool isFree(const PageSpec& page, int x, int y, int w, int h) {
    TileSpec wanted;
    std::tie(wanted.x, wanted.y, wanted.w, wanted.h) = std::tie(x, y, w, h);
    return std::none_of(page.tiles.begin(), page.tiles.end(), [&](const TileSpec& t) { return share(t, wanted); });
}

int bottomOf(const PageSpec& page) {
    int bottom = 0;
    for (const TileSpec& t : page.tiles) bottom = std::max(bottom, t.y + t.h);
    return bottom;
}

Place nearestWithin(int rows, const PageSpec& page, Place near, int w, int h) {
    const int bottom = bottomOf(page);
    // Rows that it takes beyond these, then the way to there. Below all there is room at any rate.
    std::tuple best(std::max(0, bottom + h - rows), std::numeric_limits<int>::max(), bottom, 0);
    for (int y = 0; y <= bottom || y + h <= rows; ++y)
        for (int x = 0; x + w <= pageColumns; ++x)
            if (isFree(page, x, y, w, h))
                best = std::min(
                    best, {std::max(0, y + h - rows), std::abs(x - near.first) + std::abs(y - near.second), y, x});
    return {std::get<3>(best), std::get<2>(best)};
}
}  // namespace

Place freePlace(const PageSpec& page, int w, int h) {
    const int bottom = bottomOf(page);
    for (int y = 0; y < bottom && y + h <= std::max(bottom, pageRows); ++y)
        for (int x = 0; x + w <= pageColumns; ++x)
            if (isFree(page, x, y, w, h)) return {x, y};
    return {0, bottom};
}

Place nearestFreePlace(const PageSpec& page, Place near, int w, int h) {
    return nearestWithin(std::max(bottomOf(page), pageRows), page, near, w, h);
}

PageSpec withRoomFor(PageSpec page, const TileSpec& tile) {
    const auto old =
        std::find_if(page.tiles.begin(), page.tiles.end(), [&](const TileSpec& t) { return t.id == tile.id; });
    if (old != page.tiles.end())
        *old = tile;
    else
        page.tiles.push_back(tile);

    std::vector<TileSpec*> covered;
    for (TileSpec& t : page.tiles)
        if (t.id != tile.id && share(t, tile)) covered.push_back(&t);
    std::sort(covered.begin(), covered.end(),
              [](const TileSpec* a, const TileSpec* b) { return std::tie(a->y, a->x) < std::tie(b->y, b->x); });
    const int rows = std::max(bottomOf(page), pageRows);
    // Those that still have to go take no room where they lie.
    PageSpec settled = page;
    std::erase_if(settled.tiles, [&](const TileSpec& t) { return t.id != tile.id && share(t, tile); });
    for (TileSpec* t : covered) {
        std::tie(t->x, t->y) = nearestWithin(rows, settled, {t->x, t->y}, t->w, t->h);
        settled.tiles.push_back(*t);
    }
    return page;
}

}  // namespace cruscotto
