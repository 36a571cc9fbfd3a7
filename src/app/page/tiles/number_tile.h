#pragma once

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// How much exactly: the number, its unit, and a spark line of the window behind it.
class NumberTile : public Tile {
    Q_OBJECT
public:
    NumberTile(Session& session, QWidget* parent) : Tile(session, parent) {}
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    std::vector<Column> columns_;
};

}  // namespace cruscotto
