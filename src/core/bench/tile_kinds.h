#pragma once

#include <optional>
#include <string_view>

/// One line for each kind of tile, in the order in which they are offered; its name is what the bench file has. What a
/// kind is on the screen is one file in app/page/tiles.
#define CRUSCOTTO_TILES(ONE) \
    ONE(dial)                \
    ONE(column)              \
    ONE(number)              \
    ONE(state)               \
    ONE(trace)               \
    ONE(control)             \
    ONE(spectrum)            \
    ONE(histogram)           \
    ONE(plane)               \
    ONE(table)               \
    ONE(text)                \
    ONE(port)                \
    ONE(picture)

namespace cruscotto {

#define CRUSCOTTO_KIND(name) name,
enum class TileKind { CRUSCOTTO_TILES(CRUSCOTTO_KIND) };
inline constexpr TileKind tileKinds[] = {
#define CRUSCOTTO_VALUE(name) TileKind::name,
    CRUSCOTTO_TILES(CRUSCOTTO_VALUE)};
#undef CRUSCOTTO_KIND
#undef CRUSCOTTO_VALUE

/// As in the bench file; frozen.
const char* tileKindName(TileKind kind);
std::optional<TileKind> tileKindNamed(std::string_view name);

}  // namespace cruscotto
