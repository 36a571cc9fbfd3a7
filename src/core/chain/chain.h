#pragma once

#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "core/base/result.h"
#include "core/signal/block.h"

/// The measuring chain of a signal (VIM, JCGM 200:2012, 3.10): what is done, in order, to the raw samples of one
/// terminal until they are a reading. Every stage is a pure function over a stretch of samples plus explicit state.
namespace cruscotto {

/// Counts of a linear converter to volts: a code of n bits spans 2^n levels (IEEE 1057, 4.1: one code bin is
/// full-scale range / 2^n), so volts = low + code * (high - low) / 2^n for unipolar codes (0 .. 2^n - 1) and
/// volts = (low + high) / 2 + code * (high - low) / 2^n for two's complement (-2^(n-1) .. 2^(n-1) - 1).
/// A code at either end of its range is marked clipped.
struct CountsToVolts {
    enum class Coding { twosComplement, unipolar };
    int bits = 16;  ///< 1 to 32
    double low = -10;
    double high = 10;
    Coding coding = Coding::twosComplement;
    bool operator==(const CountsToVolts&) const = default;
};

/// y = slope * x + offset.
struct SlopeOffset {
    double slope = 1;
    double offset = 0;
    std::string unit = "1";
    bool operator==(const SlopeOffset&) const = default;
};

/// The straight line through two calibration points (x, y), typed or captured from the live signal.
struct TwoPoints {
    double x1 = 0, y1 = 0;
    double x2 = 1, y2 = 1;
    std::string unit = "1";
    std::string note;  ///< date and reference used
    bool operator==(const TwoPoints&) const = default;
};

/// A formula over x, as muParser reads it. Where it gives no finite number the reading is marked out of range.
struct Formula {
    std::string text = "x";
    std::string unit = "1";
    bool operator==(const Formula&) const = default;
};

/// The mean of the last n samples (fewer right after the start or a gap).
struct MovingMean {
    int samples = 10;  ///< 1 to 1,000,000
    bool operator==(const MovingMean&) const = default;
};

/// The same quantity in another unit.
struct ConvertUnit {
    std::string unit = "1";
    bool operator==(const ConvertUnit&) const = default;
};

/// Where the scaling holds: readings outside [low, high] are marked out of range; the number itself is kept.
struct ValidRange {
    double low = 0;
    double high = 1;
    bool operator==(const ValidRange&) const = default;
};

/// Digital: 0 reads as on. A closed switch to ground reads low.
struct Invert {
    bool operator==(const Invert&) const = default;
};

/// A running count of pulses (uint32, wraps) as a frequency, a number of turns a minute, or the count since the
/// bench began. Frequency is the slope of the least-squares line through the edges of the last `gateSeconds`, or
/// through the last two where there are no more, and the last 100,000 where there are more. No edge for
/// `silenceSeconds`: the reading becomes 0. Before the first two edges that are ten samples or the gate apart there is
/// no reading yet; after the silence it stays 0 until then.
struct PulseCounter {
    enum class Mode { frequency, rpm, count };
    Mode mode = Mode::frequency;
    double pulsesPerTurn = 1;
    double silenceSeconds = 2;
    double gateSeconds = 0.25;
    bool operator==(const PulseCounter&) const = default;
};

/// The alternatives' order is also the order in which stages are offered.
using Stage = std::variant<CountsToVolts, PulseCounter, Invert, MovingMean, SlopeOffset, TwoPoints, Formula,
                           ConvertUnit, ValidRange>;
using ChainSpec = std::vector<Stage>;

/// The stage's name in the bench file: "counts-to-volts", "slope-offset" ... frozen.
const char* stageKey(const Stage& stage);
/// What the stage is called on screen.
Text stageTitle(const Stage& stage);
/// One plain sentence: what the stage does now.
Text describeStage(const Stage& stage);
/// The UCUM unit behind a stage, given the one before it.
std::string unitAfter(const Stage& stage, const std::string& before);
/// The unit of the raw samples of a channel kind: "{counts}", "{pulses}" or "1".
std::string rawUnit(ChannelKind kind);
/// The unit of the reading at the end of the chain.
std::string readingUnit(const ChainSpec& chain, ChannelKind kind);
/// A stage's parameters hang together: bits in range, two points apart, a formula that parses ...
Result<void> checkStage(const Stage& stage, const std::string& unitBefore);

/// How many samples its stages hold in memory at most; eight bytes each.
std::size_t rememberedSamples(const ChainSpec& chain);

/// Readings of one stretch of samples.
struct Readings {
    std::vector<double> values;  ///< NaN: no reading
    std::vector<QualityInterval> quality;
};

/// Runs one signal's chain. Confined to one thread at a time.
class ChainEvaluator {
public:
    static Result<ChainEvaluator> make(const ChainSpec& spec, ChannelKind kind);
    /// For a chain that cannot be made: gives no reading, of whatever comes.
    static ChainEvaluator nothing(std::size_t stages);
    ChainEvaluator(ChainEvaluator&&) noexcept;
    ChainEvaluator& operator=(ChainEvaluator&&) noexcept;
    ~ChainEvaluator();

    /// Replaces `out` by the readings of column `column` of the block. State is forgotten where the block comes after
    /// a gap.
    void process(const Block& block, std::size_t column, Readings& out);
    /// As above for raw samples given as doubles with their times.
    void process(const std::vector<double>& raw, const std::vector<Instant>& times, Readings& out);
    /// The newest value behind each stage, beginning with the raw sample; NaN before the first sample.
    [[nodiscard]] const std::vector<double>& stageValues() const;
    /// How many samples back the newest reading can depend on; counters look back a time instead (see memoryTime()).
    [[nodiscard]] std::size_t memorySamples() const;
    [[nodiscard]] Duration memoryTime() const;
    void reset();

private:
    struct State;
    explicit ChainEvaluator(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace cruscotto
