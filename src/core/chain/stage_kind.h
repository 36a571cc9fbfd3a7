#pragma once

#include <optional>
#include <span>

#include "core/chain/stage.h"
#include "core/signal/scale.h"

/// What a kind of stage is: everything that the file, the editor and the evaluator need to know of it. A new kind is
/// one file in stages/ and one line in stages/list.h.
namespace cruscotto {

/// The times of a stretch of samples: of a block, or as a list.
struct SampleTimes {
    const Block* block = nullptr;
    const std::vector<Instant>* list = nullptr;
    [[nodiscard]] Instant operator[](std::size_t i) const { return block ? block->timeOf(i) : (*list)[i]; }
};

/// The readings of a quantity that a stage needs, in the unit that its field wants: one a sample, or a constant.
struct StageInput {
    std::span<const double> values = {};
    double constant = 0;
    double operator[](std::size_t i) const { return values.empty() ? constant : values[i]; }
};

/// A stretch of samples on its way from one stage to the next.
struct Stretch {
    std::vector<double>& values;  ///< changed in place; NaN: no reading
    const SampleTimes& times;
    std::vector<QualityInterval>& quality;    ///< added to
    std::span<const StageInput> inputs = {};  ///< in the order of sourcesOf()
};

/// The state of one stage of one signal. Its outcome does not depend on how a stream is cut into stretches. Confined to
/// one thread at a time.
class StageProcessor {
public:
    virtual ~StageProcessor() = default;
    virtual void run(Stretch& stretch) = 0;
    /// As new: what comes next does not hang together with what came before.
    virtual void reset() {}
    /// The standard uncertainty of what came out last, from how what it was worked out from scatters (GUM 4.2). Nothing
    /// where that cannot be told, as mostly.
    [[nodiscard]] virtual std::optional<double> scatter() const { return {}; }
};

using MadeProcessor = Result<std::unique_ptr<StageProcessor>>;
template <class P, class... A>
MadeProcessor processor(A&&... arguments) {
    return std::unique_ptr<StageProcessor>(std::make_unique<P>(std::forward<A>(arguments)...));
}

/// The memory of a stage whose outcome depends on all that came before.
inline constexpr Duration wholePast{std::numeric_limits<std::int64_t>::max() / 4};
/// What a stage looks back at.
struct StageMemory {
    std::size_t held = 0;     ///< samples that it holds in memory at most; eight bytes each
    std::size_t samples = 0;  ///< the newest value depends on so many samples before it
    Duration time = {};       ///< and on those of this time before it
};

/// One part of the standard uncertainty of what a stage gives (GUM, JCGM 100:2008, 4.3), in the unit behind it.
struct UncertaintyContribution {
    Text source;
    double standardUncertainty = 0;
    double degreesOfFreedom = std::numeric_limits<double>::infinity();
    /// What other signals may share with it, as one reference: equal keys are one and the same error. Empty: nothing.
    std::string shared = {};
};

/// What a stage with memory has measured, as far as an error that it carries on depends on it.
struct StageMoment {
    double out = 0;          ///< what comes out now
    double mean = 0;         ///< of what came in lately
    Duration running = {};   ///< since when it has been measured
    Duration interval = {};  ///< between two samples; 0: not known
};
/// What an error of what comes into a stage with memory becomes behind it.
struct CarriedError {
    double offset = 0;  ///< the slope to an error that has been the same all the time
    double gain = 0;    ///< what an error in proportion to what comes in becomes: all of it, for a proportion of 1
    double each = 0;    ///< the slope to the size of an error that is a new one with each sample, as a converter's step
    double noise = 0;   ///< the slope to the size of what wanders
    Duration averaged = {};  ///< over which what wanders faster than that is averaged
};

/// A field that can be taken from what comes into the stage, and the one to be typed next.
struct StageCapture {
    Text title;
    std::string field, typedNext;  ///< nothing is typed next where that is empty: then it can be taken back
    std::string note;              ///< the field that then says when it was taken and from how many readings
};

/// Where a kind stands in the list of those that are offered.
enum class StageGroup { computation, terminal, sensor, law, filter, event, unit };
Text stageGroupTitle(StageGroup group);

struct StageKind {
    std::string key;  ///< in files; frozen
    Text title;
    StageGroup group = StageGroup::law;
    std::vector<StageField> fields = {};
    Text (*sentence)(const Stage&) = nullptr;
    MadeProcessor (*make)(const Stage&, const std::string& unitBefore) = nullptr;

    // What follows may be left out.

    /// It takes values in a unit of this quantity (UCUM). None: whatever comes.
    const char* takes = nullptr;
    /// None: the unit stays.
    std::string (*unitAfter)(const Stage&, const std::string& before) = nullptr;
    /// Beyond the limits of each field.
    Result<void> (*check)(const Stage&, const std::string& unitBefore) = nullptr;
    StageMemory (*memory)(const Stage&) = nullptr;
    /// Of a stage with memory that does not smooth. Nothing where it cannot be told.
    std::optional<CarriedError> (*carries)(const Stage&, const std::string& unitBefore, const StageMoment&) = nullptr;
    /// What such a stage is off by itself, whatever comes in; nothing where that cannot be told.
    std::vector<UncertaintyContribution> (*ownErrors)(const Stage&, const StageMoment&) = nullptr;
    /// It is offered for signals of this kind. None: for no signal.
    bool (*suits)(ChannelKind) = nullptr;
    /// Where its outcome lies, if what comes in lies within `in`. None: found by a sweep through `in`.
    std::optional<Scale> (*reach)(const Stage&, const std::optional<Scale>& in) = nullptr;
    /// The smallest difference that it can tell, in the unit behind it.
    std::optional<double> (*resolution)(const Stage&) = nullptr;
    /// What it adds to the uncertainty where `in` comes in and `out` goes out.
    std::vector<UncertaintyContribution> (*contributions)(const Stage&, double in, double out) = nullptr;
    /// Fields that are values of what comes in, to be drawn as lines through it and dragged.
    std::vector<std::string> levels = {};
    /// What it would have made of a stretch of what came in, in words; for stages with levels.
    Text (*tried)(const Stage&, std::span<const double> values, std::span<const Instant> times) = nullptr;
    /// It gives the same quantity with less noise, later.
    bool smooths = false;
    /// What a person should look after when `in` comes in; empty: nothing.
    Text (*remark)(const Stage&, double in) = nullptr;
    bool keepsWhole = false;  ///< whole numbers stay whole
    /// What it makes of a number or of a state (on, off).
    enum class Gives { same, number, state };
    Gives gives = Gives::same;
    std::vector<StageCapture> captures = {};
    bool ownPage = false;  ///< it is edited on a page of its own, not in its card
};

/// All of them, in the order in which they are offered.
std::span<const StageKind* const> stageKinds();
/// By key; nullptr where there is none.
const StageKind* stageKind(std::string_view key);

/// The stages that can be put behind a chain that reads in `unit`, with values to begin with.
std::vector<Stage> offeredStages(ChannelKind kind, const std::string& unit);

/// The stage checked and made.
MadeProcessor makeProcessor(const Stage& stage, const std::string& unitBefore);
StageMemory memoryOf(const Stage& stage);
/// Where what comes out lies, if what comes in lies within `in`; nothing where that cannot be told.
std::optional<Scale> reachAfter(const Stage& stage, const std::string& unitBefore, const std::optional<Scale>& in);
/// The slope of what comes out over what comes in, at `in` (GUM 5.1.3), by a central difference; NaN where there is
/// none. Of a stage without memory.
double sensitivity(const Stage& stage, const std::string& unitBefore, double in);
/// The same with what its sources read then, in the order of sourcesOf(): to what comes in, and to each of them.
struct Sensitivities {
    double in = 0;
    std::vector<double> sources;
};
Sensitivities sensitivities(const Stage& stage, const std::string& unitBefore, double in,
                            const std::vector<double>& sources);
/// By how many seconds what comes out is later than what comes in, of what changes slowly, with samples `interval`
/// seconds apart; of a stage that smooths. NaN where that cannot be told.
double delayOf(const Stage& stage, const std::string& unitBefore, double interval);
/// What its fields of the type source give without other signals: NaN for those.
std::vector<StageInput> constantInputs(const Stage& stage);
/// The stage with the fields that follow the terminal's range set to it.
Stage withRange(Stage stage, const Scale& range);

}  // namespace cruscotto
