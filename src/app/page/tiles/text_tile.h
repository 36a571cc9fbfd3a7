#pragma once

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// A sentence of words and readings, as large as there is room: for who stands far away.
class TextTile : public Tile {
    Q_OBJECT
public:
    using Tile::Tile;
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }
    [[nodiscard]] QString words() const { return words_; }
    [[nodiscard]] QString numbers() const override { return words_; }

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    [[nodiscard]] QString readingOf(const std::string& named, Instant t) const;
    QString words_;
};

}  // namespace cruscotto
