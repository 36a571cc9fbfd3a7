#pragma once

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// Many states as timing rows over what the traces show, with their names; all together as one number, hexadecimal and
/// decimal, the first of them its lowest bit. The pointer tells the time between the edges beside it.
class PortTile : public Tile {
    Q_OBJECT
public:
    using Tile::Tile;
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }
    [[nodiscard]] bool showsMean() const override { return false; }
    [[nodiscard]] bool showsStretch() const override { return false; }
    [[nodiscard]] QString numbers() const override;
    /// "0x2A  42": all lines as one number; a dash where one of them is not known.
    [[nodiscard]] QString value() const { return value_; }
    /// Between the edges beside a place of the row, in words; empty: there is none.
    [[nodiscard]] QString betweenEdges(std::size_t row, Instant at) const;

protected:
    void rebuild() override { drawnTo_ = {}; }
    void paintEvent(QPaintEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void leaveEvent(QEvent* event) override;

private:
    [[nodiscard]] QRectF rowRect(std::size_t row) const;
    [[nodiscard]] double nameWidth() const;
    [[nodiscard]] Span shownSpan() const;
    std::vector<std::vector<Column>> rows_;
    Instant drawnTo_;
    QString value_;
    std::optional<QPointF> pointer_;
};

}  // namespace cruscotto
