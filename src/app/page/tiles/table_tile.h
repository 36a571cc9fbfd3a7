#pragma once

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// Signals in rows, in columns what is chosen of: value, mean, spread, extremes, limits; over what the traces show, or
/// the stretch.
class TableTile : public Tile {
    Q_OBJECT
public:
    using Tile::Tile;
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }
    [[nodiscard]] QString numbers() const override {
        QStringList out;
        for (const QStringList& row : cells_) out << row.join('\t');
        return out.join('\n');
    }
    /// The cells as they stand, the head first.
    [[nodiscard]] const std::vector<QStringList>& cells() const { return cells_; }

protected:
    void rebuild() override { cells_.clear(); }
    void paintEvent(QPaintEvent* event) override;

private:
    std::vector<QStringList> cells_;
};

}  // namespace cruscotto
