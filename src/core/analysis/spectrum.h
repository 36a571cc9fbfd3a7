#pragma once

#include <span>
#include <vector>

namespace cruscotto {

/// By what is to be read: a frequency (von Hann's window), a level (a flat top, ISO 18431-2), or something of both
/// (Blackman and Harris, four terms).
enum class SpectrumWindow { frequency, both, level };

/// The power of equally spaced samples by frequency: mean squares, single-sided, from 0 to half of the rate.
struct Spectrum {
    double stepHz = 0;          ///< between two lines
    double noiseBandwidth = 1;  ///< of the window, in steps
    std::vector<double> power;  ///< of each line, in squares of the samples' unit: a sine of amplitude A has A^2 / 2
    std::size_t averages = 0;
    /// Per hertz (power density): the same noise whatever the step.
    [[nodiscard]] double density(std::size_t line) const { return power[line] / (stepHz * noiseBandwidth); }
    [[nodiscard]] double hz(std::size_t line) const { return stepHz * static_cast<double>(line); }
};
/// The longest length up to n that is quickly transformed: its prime factors are 2, 3, 5 and 7.
std::size_t fastLength(std::size_t n);
/// The mean of the spectra of stretches of `length` samples that overlap by half (Welch), `averages` at most and the
/// newest of them, each without its mean. Of fewer samples than one stretch: no lines.
Spectrum spectrumOf(std::span<const double> x, double rateHz, std::size_t length, SpectrumWindow window,
                    std::size_t averages);

/// A line that stands out.
struct SpectrumPeak {
    double hz = 0;         ///< between the lines, by the parabola through the logarithms of three
    double amplitude = 0;  ///< of its sine
};
/// The tallest first, `most` at most: those that stand ten times higher than the middle of what is around them, and are
/// no foot of a taller one.
std::vector<SpectrumPeak> peaksOf(const Spectrum& spectrum, SpectrumWindow window, std::size_t most);

/// A band of an octave or a third of one (IEC 61260-1:2014, base ten): exact middle and edges.
struct Band {
    double low = 0, middle = 0, high = 0;
    double power = 0;  ///< the mean square within it
};
/// Those that lie whole between the fifth line and half of the rate. `perOctave`: 1 or 3.
std::vector<Band> bandsOf(const Spectrum& spectrum, int perOctave);
/// The nominal frequency of a band's middle: 31.5, 63, 125 ... (IEC 61260-1, annex E).
double nominalHz(double exactHz);

}  // namespace cruscotto
