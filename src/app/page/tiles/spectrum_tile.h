#pragma once

#include "app/page/tiles/plot_frame.h"
#include "app/page/tiles/spectrogram.h"
#include "app/page/tiles/tile.h"
#include "core/analysis/spectrum.h"

namespace cruscotto {

/// Which frequencies are in it: the spectrum of what was read last, or of the stretch that is shown; its tallest lines
/// with their frequency and level, as orders of a speed where one is named. A click on a line marks its harmonics; a
/// second one takes them away. Spectra over time may stand below, on the same axis.
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
    /// What stands at the harmonics of the line that was chosen, the line itself first.
    [[nodiscard]] QStringList harmonics() const;
    [[nodiscard]] const Spectrogram& overTime() const { return overTime_; }
    /// Where the frequency stands, in pixels of the tile.
    [[nodiscard]] double xOf(double hz) const { return frame_.xOf(hz); }
    /// Why there is none; empty: there is one.
    [[nodiscard]] QString why() const { return why_; }

protected:
    void rebuild() override;
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;

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
    std::vector<Label> labels_, harmonics_;
    /// As far as it can be told before it is painted: the axes and where they stand.
    [[nodiscard]] PlotFrame frame() const;
    void markHarmonics();
    void refreshOverTime(Instant t);
    [[nodiscard]] QRectF areaOfLines() const;
    [[nodiscard]] QRectF areaOverTime() const;
    [[nodiscard]] Duration timeBelow() const;
    void paintLabels(QPainter& p, const std::vector<Label>& labels) const;
    void paintOverTime(QPainter& p);
    PlotFrame frame_;
    Spectrogram overTime_;
    std::int64_t overTimeRow_ = -1;
    /// What the picture over time was made of.
    struct PictureOf {
        std::uint64_t revision = 0;
        int width = 0;
        Scale scale;
        bool logarithmic = false, night = false;
        bool operator==(const PictureOf&) const = default;
    };
    PictureOf pictureOf_;
    QImage overTimePicture_;
    double rate_ = 0;
    QString why_;
    Instant measuredAt_;
    std::optional<Span> measured_;
};

}  // namespace cruscotto
