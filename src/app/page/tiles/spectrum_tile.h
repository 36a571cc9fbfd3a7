#pragma once

#include "app/page/tiles/plot_frame.h"
#include "app/page/tiles/tile.h"
#include "core/analysis/spectrum.h"

namespace cruscotto {

/// Which frequencies are in it: the spectrum of what was read last, or of the stretch that is shown; its tallest lines
/// with their frequency and level, as orders of a speed where one is named.
class SpectrumTile : public Tile {
    Q_OBJECT
public:
    using Tile::Tile;
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }
    [[nodiscard]] bool showsMean() const override { return false; }
    [[nodiscard]] const Spectrum& spectrum() const { return spectrum_; }
    /// Frequency and level of each line, or of each band.
    [[nodiscard]] QString numbers() const override;
    /// What stands at its tallest lines, a line each.
    [[nodiscard]] QStringList labels() const;
    /// Why there is none; empty: there is one.
    [[nodiscard]] QString why() const { return why_; }

protected:
    void rebuild() override;
    void paintEvent(QPaintEvent* event) override;

private:
    struct Label {
        double hz, level;
        QString words;
    };
    void measure(Span span);
    void label(Instant t);
    [[nodiscard]] double levelOf(const Spectrum& s, std::size_t line) const;
    [[nodiscard]] double levelOf(double amplitude) const;
    [[nodiscard]] QString unit() const;
    [[nodiscard]] SpectrumWindow window() const;
    [[nodiscard]] double resolution() const;
    [[nodiscard]] double averages() const;
    void paintLines(QPainter& p, const PlotFrame& frame) const;
    void paintBands(QPainter& p, const PlotFrame& frame) const;

    Spectrum spectrum_;
    std::vector<Band> bands_;
    std::vector<double> highest_;  ///< of each line so far
    std::vector<Label> labels_;
    double rate_ = 0;
    QString why_;
    Instant measuredAt_;
    std::optional<Span> measured_;
};

}  // namespace cruscotto
