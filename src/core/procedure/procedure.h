#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "core/rules/rule.h"

namespace cruscotto {

/// A number, or the name of one that is known when its step comes: of a column of a repetition, of an answer, of
/// something measured before.
struct Amount {
    double value = 0;
    std::string name = {};  ///< empty: the value
    bool operator==(const Amount&) const = default;
};

enum class StepKind {
    set,      ///< the output `on` to `amount`, within `seconds`
    wait,     ///< until `until` holds, for `seconds` at most
    hold,     ///< for `seconds`
    measure,  ///< `take`, over the next `seconds`; 0: over the last such time or hold
    mark,     ///< with `words`
    ask,      ///< the operator, in `words`
    command,  ///< the setting `key` of the device `on` to `words`
    repeat,   ///< `steps`, once for each row of `columns`
};
/// Frozen, in files.
const char* stepName(StepKind kind);
std::optional<StepKind> stepNamed(const std::string& name);

/// One measure of a stretch, and what it is held against.
struct ProcedureMeasure {
    std::string signal, against = {};  ///< ids; `against` of measures of two
    std::string measure = "mean";      ///< the name of one of measureKinds()
    std::string name = {};             ///< under which later steps know it; empty: they do not
    std::optional<Amount> low = {}, high = {};
    std::string unit = {};  ///< UCUM, of the limits and of what later steps know; empty: the measure's own
    bool operator==(const ProcedureMeasure&) const = default;
};

struct RepeatColumn {
    std::string name;
    std::vector<double> values;
    bool operator==(const RepeatColumn&) const = default;
};

struct ProcedureStep {
    StepKind kind = StepKind::hold;
    std::string title = {};  ///< what to call it; empty: a sentence is made of what it does
    std::string on = {}, key = {}, words = {};
    Amount amount = {};
    double seconds = 0;
    Condition until = {};
    std::vector<ProcedureMeasure> take = {};
    enum class Answer { seen, yesNo, number };
    Answer answer = Answer::seen;
    std::string name = {};                      ///< of an answer that is a number
    std::optional<Amount> low = {}, high = {};  ///< of the same
    std::string unit = {};                      ///< of the same, as it is shown
    std::vector<RepeatColumn> columns = {};     ///< of one length
    std::vector<ProcedureStep> steps = {};
    bool endsIfFailed = true;  ///< the procedure ends with it
    bool operator==(const ProcedureStep&) const = default;
};

/// What a technician does in order, with a verdict for each step.
struct ProcedureSpec {
    std::string id, name, notes = {};
    std::vector<ProcedureStep> steps = {};
    std::string extra = {};  ///< JSON: keys that this version does not know
    bool operator==(const ProcedureSpec&) const = default;
};

inline constexpr std::size_t mostProcedures = 200, mostProcedureSteps = 500, mostRepeats = 1000, deepestRepeat = 3,
                             mostStepMeasures = 50;
/// Steps that are done in all, repetitions counted.
inline constexpr std::size_t mostStepsDone = 20'000;

/// Where a step stands: its number among its siblings, from 0, from the outermost list on.
using StepPath = std::vector<std::size_t>;
/// Nullptr where there is none.
const ProcedureStep* stepAt(const ProcedureSpec& procedure, const StepPath& path);
ProcedureStep* stepAt(ProcedureSpec& procedure, const StepPath& path);
/// "2.1"
std::string stepNumber(const StepPath& path);
/// The procedure with this step alone, in the first row of what repeats it.
ProcedureSpec onlyStep(const ProcedureSpec& procedure, const StepPath& path);

/// A step as it is done once, with what is known by name there.
struct PlannedStep {
    const ProcedureStep* step = nullptr;  ///< of the procedure
    StepPath path;
    std::vector<std::pair<std::string, double>> row;  ///< of the repetitions that it lies in, the innermost last
    std::size_t turn = 0;                             ///< of the innermost, from 1; 0: it is in none
};
/// All of them in order; no more than mostStepsDone.
std::vector<PlannedStep> plannedSteps(const ProcedureSpec& procedure);

}  // namespace cruscotto
