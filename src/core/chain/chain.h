#pragma once

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "core/chain/stage.h"

/// The measuring chain of a signal (VIM, JCGM 200:2012, 3.10): what is done, in order, to the raw samples of one
/// terminal until they are a reading. Every stage is a pure function over a stretch of samples plus explicit state.
namespace cruscotto {

using ChainSpec = std::vector<Stage>;

/// The unit of the raw samples of a channel kind: "{counts}", "{pulses}" or "1".
std::string rawUnit(ChannelKind kind);
/// The unit before stage `stage` of the chain; of the reading, where that is the chain's size.
std::string unitBefore(const ChainSpec& chain, std::size_t stage, ChannelKind kind);
/// The unit of the reading at the end of the chain.
std::string readingUnit(const ChainSpec& chain, ChannelKind kind);
/// Every stage, each with the unit before it.
Result<void> checkChain(const ChainSpec& chain, ChannelKind kind);
/// The reading is a state, on or off, and no number.
bool readsState(const ChainSpec& chain, ChannelKind kind);
/// The chain with one more stage, where such a stage usually stands: what is of the terminal first, filters before the
/// sensor, then its law, then units and ranges; behind others of its group. At the end where it does not hold there.
ChainSpec withStageInPlace(const ChainSpec& chain, const Stage& stage, ChannelKind kind);
/// How many samples its stages hold in memory at most; eight bytes each.
std::size_t rememberedSamples(const ChainSpec& chain);
/// A reading depends on more than the one sample.
bool remembers(const ChainSpec& chain);
/// The signals that its stages need, in their order.
std::vector<NeededSignal> neededSignals(const ChainSpec& chain);

/// Readings of one stretch of samples.
struct Readings {
    std::vector<double> values;  ///< NaN: no reading
    std::vector<QualityInterval> quality;
};

/// Runs one signal's chain. Confined to one thread at a time.
class ChainEvaluator {
public:
    /// `neededUnits`: the UCUM unit of each signal of neededSignals(), where that is not the one that the stage wants.
    static Result<ChainEvaluator> make(const ChainSpec& spec, ChannelKind kind,
                                       const std::vector<std::string>& neededUnits = {});
    /// For a chain that cannot be made: gives no reading, of whatever comes.
    static ChainEvaluator nothing(std::size_t stages);
    ChainEvaluator(ChainEvaluator&&) noexcept;
    ChainEvaluator& operator=(ChainEvaluator&&) noexcept;
    ~ChainEvaluator();

    /// The readings of each signal of neededSignals(), one for each sample. Where it is not given they are NaN.
    using Needed = std::span<const std::span<const double>>;

    /// Replaces `out` by the readings of column `column` of the block. State is forgotten where the block comes after
    /// a gap.
    void process(const Block& block, std::size_t column, Readings& out, Needed needed = {});
    /// As above for raw samples given as doubles with their times.
    void process(const std::vector<double>& raw, const std::vector<Instant>& times, Readings& out, Needed needed = {});
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
