#include "core/bench/page_grid.h"

#include <gtest/gtest.h>

#include <random>
#include <set>

namespace cruscotto {
namespace {

TileSpec at(const char* id, int x, int y, int w, int h) {
    return {id, TileKind::number, x, y, w, h, {"s"}, {}, {}};
}
PageSpec page(std::vector<TileSpec> tiles) {
    PageSpec p;
    p.tiles = std::move(tiles);
    return p;
}
Place placeOf(const PageSpec& p, const std::string& id) {
    for (const TileSpec& t : p.tiles)
        if (t.id == id) return {t.x, t.y};
    return {-1, -1};
}
/// How many tiles lie on each cell.
std::map<Place, int> cells(const PageSpec& p) {
    std::map<Place, int> count;
    for (const TileSpec& t : p.tiles)
        for (int x = t.x; x < t.x + t.w; ++x)
            for (int y = t.y; y < t.y + t.h; ++y) ++count[{x, y}];
    return count;
}

TEST(PageGrid, ANewTileFindsAFreePlaceFromTheTopLeft) {
    PageSpec p = page({at("a", 0, 0, 12, 3)});
    EXPECT_EQ(freePlace(p, 3, 1), (Place{0, 3}));
    p.tiles.push_back(at("b", 0, 3, 3, 1));
    EXPECT_EQ(freePlace(p, 3, 1), (Place{3, 3}));
    EXPECT_EQ(freePlace({}, 3, 1), (Place{0, 0}));
}

TEST(PageGrid, TheNearestFreePlaceIsInSightWhereThereIsRoomInSight) {
    EXPECT_EQ(nearestFreePlace({}, {5, 2}, 3, 1), (Place{5, 2}));
    const PageSpec full = page({at("a", 0, 0, 12, 7)});
    EXPECT_EQ(nearestFreePlace(full, {6, 6}, 2, 1), (Place{6, 7}));
    EXPECT_EQ(nearestFreePlace(full, {6, 0}, 2, 1), (Place{6, 7})) << "however far";
    EXPECT_EQ(nearestFreePlace(full, {6, 6}, 2, 3), (Place{6, 7})) << "two rows more, rather than three";
    EXPECT_EQ(nearestFreePlace(page({at("a", 0, 0, 12, 8)}), {9, 0}, 3, 1), (Place{9, 8}));
    EXPECT_EQ(nearestFreePlace(page({at("a", 0, 0, 12, 8)}), {9, 500}, 3, 1), (Place{9, 8}))
        << "no rows are left empty";
}

TEST(PageGrid, TilesOfOneSizeChangePlaces) {
    const PageSpec p = page({at("a", 6, 0, 2, 1), at("b", 6, 1, 2, 1), at("rest", 0, 2, 12, 6), at("left", 0, 0, 6, 2),
                             at("right", 8, 0, 4, 2)});
    const PageSpec moved = withRoomFor(p, at("a", 6, 1, 2, 1));
    EXPECT_EQ(placeOf(moved, "a"), (Place{6, 1}));
    EXPECT_EQ(placeOf(moved, "b"), (Place{6, 0}));
    for (const char* other : {"rest", "left", "right"}) EXPECT_EQ(placeOf(moved, other), placeOf(p, other));
}

TEST(PageGrid, WhatATileGrowsOverGoesBelowWhereThePageIsFull) {
    const PageSpec p = page({at("a", 0, 0, 6, 8), at("b", 6, 0, 6, 4), at("c", 6, 4, 6, 4)});
    const PageSpec grown = withRoomFor(p, at("a", 0, 0, 7, 8));
    EXPECT_EQ(placeOf(grown, "b"), (Place{6, 8})) << "straight down";
    EXPECT_EQ(placeOf(grown, "c"), (Place{0, 8})) << "beside it, so that the page gets no longer";
}

TEST(PageGrid, WhatFitsStaysInSightWhereALargerOneHasToGoBelow) {
    const PageSpec p = page({at("moved", 0, 0, 3, 3), at("rest", 3, 0, 9, 3), at("wide", 0, 3, 9, 5),
                             at("small", 9, 3, 3, 2), at("other", 9, 5, 3, 3)});
    const PageSpec after = withRoomFor(p, at("moved", 8, 3, 3, 2));
    EXPECT_EQ(placeOf(after, "wide"), (Place{0, 5})) << "two rows more";
    EXPECT_EQ(placeOf(after, "small"), (Place{5, 3})) << "where the wide one was";
    EXPECT_EQ(placeOf(after, "other"), (Place{9, 5})) << "it was not in the way";
}

TEST(PageGrid, ATileThatIsNewMakesRoomToo) {
    const PageSpec p = withRoomFor(page({at("a", 0, 0, 3, 1)}), at("new", 0, 0, 2, 2));
    EXPECT_EQ(placeOf(p, "new"), (Place{0, 0}));
    EXPECT_EQ(placeOf(p, "a"), (Place{2, 0}));
}

TEST(PageGrid, OfAnyPageNothingIsCoveredOrLostAndWhatWasNotInTheWayStays) {
    std::mt19937 random(7);
    const auto within = [&](int from, int to) { return std::uniform_int_distribution(from, to)(random); };
    for (int round = 0; round < 300; ++round) {
        PageSpec p;
        for (int i = 0, n = within(1, 14); i < n; ++i) {
            TileSpec t = at("", 0, 0, within(1, 12), within(1, 4));
            t.id = "t" + std::to_string(i);
            p = withRoomFor(p, [&] {
                std::tie(t.x, t.y) = freePlace(p, t.w, t.h);
                return t;
            }());
        }
        TileSpec moved = p.tiles[static_cast<std::size_t>(within(0, static_cast<int>(p.tiles.size()) - 1))];
        moved.w = within(1, 12);
        moved.h = within(1, 5);
        moved.x = within(0, pageColumns - moved.w);
        moved.y = within(0, 9);
        const PageSpec after = withRoomFor(p, moved);

        ASSERT_EQ(after.tiles.size(), p.tiles.size());
        for (const auto& [cell, tiles] : cells(after)) ASSERT_EQ(tiles, 1) << cell.first << ", " << cell.second;
        std::set<Place> taken;
        for (const auto& [cell, tiles] : cells(page({moved}))) taken.insert(cell);
        for (std::size_t i = 0; i < p.tiles.size(); ++i) {
            const TileSpec& was = p.tiles[i];
            const TileSpec& is = after.tiles[i];
            ASSERT_EQ(is.id, was.id) << "the order stays";
            if (was.id == moved.id) {
                ASSERT_EQ(is, moved);
                continue;
            }
            ASSERT_EQ(std::pair(is.w, is.h), std::pair(was.w, was.h));
            ASSERT_LE(is.x + is.w, pageColumns);
            bool inTheWay = false;
            for (const auto& [cell, tiles] : cells(page({was}))) inTheWay = inTheWay || taken.contains(cell);
            if (!inTheWay) {
                ASSERT_EQ(is, was);
            }
        }
    }
}

}  // namespace
}  // namespace cruscotto
