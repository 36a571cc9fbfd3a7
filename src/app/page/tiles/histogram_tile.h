#pragma once

#include "app/page/tiles/plot_frame.h"
#include "app/page/tiles/tile.h"
#include "core/analysis/histogram.h"

namespace cruscotto {

/// How often it reads what: bars over the last while or the stretch that is shown, with the normal curve of their mean
/// and spread, and between which values nine of ten lie.
class HistogramTile : public Tile {
    Q_OBJECT
public:
    using Tile::Tile;
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }
    [[nodiscard]] bool showsMean() const override { return false; }
    /// From, to, and how many readings lie between.
    [[nodiscard]] QString numbers() const override;
    [[nodiscard]] const Histogram& histogram() const { return histogram_; }

protected:
    void rebuild() override { measured_.reset(); }
    void paintEvent(QPaintEvent* event) override;

private:
    Histogram histogram_;
    QString why_;
    std::optional<Span> measured_;
};

}  // namespace cruscotto
