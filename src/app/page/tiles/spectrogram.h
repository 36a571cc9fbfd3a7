#pragma once

#include <QImage>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include "core/analysis/spectrum.h"
#include "core/history/source.h"

namespace cruscotto {

/// Spectra over time, the newest on top: rows of one width in time, worked out once each and kept while they are shown.
class Spectrogram {
public:
    struct How {
        std::string signal;
        double resolutionHz = 1;
        SpectrumWindow window = SpectrumWindow::both;
        bool operator==(const How&) const = default;
    };
    /// So many rows over the span, the last one ending at its end. A few of those that are missing are made in each
    /// call; true: all are there.
    bool update(const Source& source, const How& how, Span span, std::size_t rows);
    void clear() { rows_.clear(); }
    /// One pixel a row from top to bottom, `width` pixels across: place x in it is of frequency hzAt(x); levels (mean
    /// squares) from `low` to `high` become colours, in decades. What was not read is transparent.
    [[nodiscard]] QImage picture(int width, const std::function<double(double)>& hzAt, double low, double high) const;
    /// The highest mean square of any line that is shown; 0: none.
    [[nodiscard]] double highest() const { return highest_; }
    [[nodiscard]] std::size_t rows() const { return rows_.size(); }
    /// Grows whenever the picture would be another one.
    [[nodiscard]] std::uint64_t revision() const { return revision_; }

private:
    struct Row {
        double stepHz = 0, highest = 0;
        std::vector<double> power;
    };
    How how_;
    Duration width_;
    std::int64_t first_ = 0, last_ = -1;  // rows shown, by number: those that end at number * width
    std::map<std::int64_t, Row> rows_;
    std::uint64_t revision_ = 0;
    double highest_ = 0;
};

}  // namespace cruscotto
