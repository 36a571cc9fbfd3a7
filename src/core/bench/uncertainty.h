#pragma once

#include <functional>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/history/source.h"

/// The uncertainty of a reading (GUM, JCGM 100:2008): worked out when it is asked for, from the bench as it is and the
/// values of a moment.
namespace cruscotto {

/// One contribution to it, in the reading's unit.
struct UncertaintyPart {
    Text source;
    std::string signal;  ///< whose chain it comes from
    double amount = 0;   ///< sensitivity times standard uncertainty, with its sign
    double degreesOfFreedom = 0;
    double share = 0;  ///< of the variance, 0 to 1
};

struct Uncertainty {
    double value = 0;
    std::string unit;
    double standard = 0;  ///< combined standard uncertainty, 5.1.2
    double k = 2;         ///< coverage factor
    /// Effective degrees of freedom (Welch and Satterthwaite, G.4.1); infinite where all is of type B.
    double degreesOfFreedom = 0;
    std::vector<UncertaintyPart> parts;  ///< largest first
    std::vector<double> behind;          ///< standard uncertainty of the raw sample and behind each stage, its unit
    /// More is known than the converter's steps and the noise: an accuracy, a class, a calibration.
    bool claimed = false;
    /// Why some of it is not known, or what is taken as exact for want of a word; empty: nothing is.
    std::vector<Text> missing;
    std::size_t wentOver = 0;  ///< so many readings were gone over for it: thousands take milliseconds
    [[nodiscard]] double expanded() const { return k * standard; }
};

/// What was measured at the moment.
struct MeasuredMoment {
    /// The raw sample and the values behind each stage of a signal's chain; empty where they are not known.
    std::function<std::vector<double>(const std::string& signal)> stages;
    struct Noise {
        double deviation = 0;  ///< standard deviation (type A, 4.2); 0 or less: not known
        Duration common = {};  ///< for so long neighbouring readings are off alike
    };
    /// Of the signal's reading over the last seconds.
    std::function<Noise(const std::string& signal)> noise = {};
    /// As `stages`, so long before. Without it an error that goes with what is measured is not told from one that
    /// stays.
    std::function<std::vector<double>(const std::string& signal, Duration before)> stagesBefore = {};
    /// The time between two samples; 0: not known.
    std::function<Duration(const std::string& signal)> interval = {};
    /// The mean of what was behind so many stages over the last so long; NaN: not known.
    std::function<double(const std::string& signal, std::size_t stages, Duration over)> mean = {};
    struct Series {
        std::vector<double> values;
        std::vector<Instant> times;
    };
    /// What was behind so many stages in the span that ends so long before and lasts `over`, `most` of it at most (the
    /// newest); empty where it is not known.
    std::function<Series(const std::string& signal, std::size_t stages, Duration before, Duration over,
                         std::size_t most)>
        series = {};
    /// For how long it has been measured: what adds up has added up an error for so long.
    Duration running = {};
};

/// Inputs that several signals share, such as one cold junction or one reference, are one and the same error to all
/// that they enter (5.2). `k`: the bench's where it is empty. Errors: no such signal, no reading, a stage whose
/// sensitivity cannot be told.
Result<Uncertainty> uncertaintyOf(const Bench& bench, const std::string& signal, const MeasuredMoment& moment,
                                  std::optional<double> k = {});

/// The raw sample and the values behind each stage, at a moment of the source; of a computed signal of a run, whose
/// readings were recorded, as its inputs give them.
std::vector<double> stagesOf(const Bench& bench, const Source& source, const std::string& signal, Instant t);
/// What noise is told from: the samples of this span, the newest so many of them. Of a slow signal ten seconds; of a
/// fast one so short a time that what it measures stands still.
inline constexpr std::size_t noiseSamples = 1000;
inline Span noiseSpan(Instant t) {
    return {t - seconds(10), t + Duration{1}};
}
/// The uncertainty of a signal's reading at a moment of the source, with the noise of the samples before it.
Result<Uncertainty> uncertaintyAt(const Bench& bench, const Source& source, const std::string& signal, Instant t);

/// "1.702 ± 0.012 bar": the uncertainty with two digits at most, the value with as many decimals.
std::string withUncertainty(double value, double expanded);
/// The decimals that two digits of it have, 0 to 9.
int decimalsFor(double expanded);

}  // namespace cruscotto
