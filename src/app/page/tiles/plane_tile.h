#pragma once

#include "app/page/tiles/plot_frame.h"
#include "app/page/tiles/tile.h"

namespace cruscotto {

/// One signal up over another across: where they stand now, and the last while, fading; a curve for comparison where
/// one is typed. The first signal goes up, the second across.
class PlaneTile : public Tile {
    Q_OBJECT
public:
    using Tile::Tile;
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }
    struct Place {
        double x, y;
    };
    [[nodiscard]] QString numbers() const override;
    [[nodiscard]] const std::vector<Place>& places() const { return places_; }
    /// Of what was typed: pairs of numbers, x and y, with ; or a line break between; a pair that does not read is left
    /// out.
    [[nodiscard]] std::vector<Place> reference() const;

protected:
    void rebuild() override { measured_.reset(); }
    void paintEvent(QPaintEvent* event) override;

private:
    std::vector<Place> places_;  ///< oldest first; NaN breaks the line
    std::optional<Span> measured_;
};

}  // namespace cruscotto
