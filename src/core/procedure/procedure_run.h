#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/analysis/measures.h"
#include "core/base/result.h"
#include "core/base/time.h"
#include "core/procedure/procedure.h"
#include "core/rules/rule_evaluator.h"
#include "core/signal/block.h"

namespace cruscotto {

enum class StepVerdict {
    none,    ///< there was nothing to judge
    passed,  ///< as it should be
    failed,
    undone,  ///< it was not come to, or was not finished
};
/// "passed" ...; frozen.
const char* stepVerdictName(StepVerdict verdict);

/// What a step measured, or what it was told.
struct StepValue {
    std::string name;         ///< as it is shown: "mean of Flow"
    std::string signal = {};  ///< the id; empty: an answer
    double value = 0;
    std::string unit = {};  ///< UCUM
    double u = -1;          ///< standard uncertainty; below 0: not known
    std::optional<double> low = {}, high = {};
    StepVerdict verdict = StepVerdict::none;
    Text why = {};   ///< why there is none
    Text note = {};  ///< what to know of it
    bool operator==(const StepValue&) const = default;
};

struct StepResult {
    std::string number;  ///< "3.2"
    std::size_t turn = 0;
    std::vector<std::pair<std::string, double>> row;
    std::string words;
    StepVerdict verdict = StepVerdict::undone;
    std::optional<Instant> began, ended;
    Text why;  ///< of a verdict that is not plain
    std::vector<StepValue> values;
};

enum class RunState { running, paused, asking, ended };

/// How a procedure stands.
struct ProcedureReport {
    std::string id, name;
    RunState state = RunState::ended;
    StepVerdict verdict = StepVerdict::none;  ///< of the whole, once it has ended
    Text why;                                 ///< why it ended before its last step; empty: it did not
    std::size_t at = 0;                       ///< the step it stands at
    std::optional<Duration> remains;          ///< of a time that runs
    std::vector<StepResult> steps;            ///< all that are planned
    Instant began;
    std::optional<Instant> ended;
};

/// What a procedure acts on and looks at. All calls come from the thread that advances it.
class ProcedureWorld {
public:
    virtual ~ProcedureWorld() = default;
    /// Within `seconds` from where it is; 0: at once. Why it cannot be; empty: it is, or will be.
    virtual Text set(const std::string& output, double value, double seconds) = 0;
    virtual void command(const std::string& device, const std::string& key, const std::string& value) = 0;
    virtual void mark(const std::string& words, Instant at) = 0;
    /// Why one of the outputs that were set is another's now; empty: none is.
    virtual Text taken() = 0;
    /// Starts the evaluator off with what is known now.
    virtual void seed(RuleEvaluator& evaluator, Instant now) = 0;
    /// Readings of the signal have come up to here; nothing: none ever.
    virtual std::optional<Instant> readTo(const std::string& signal) = 0;
    /// Begins to work the measures out over the span, unless that has begun; nothing: they are not there yet.
    virtual std::optional<std::vector<Measure>> measured(const std::vector<ProcedureMeasure>& what, Span span) = 0;
    /// What the step does, in a sentence, with the names that are known.
    virtual std::string words(const ProcedureStep& step, const std::map<std::string, double>& known) = 0;
    virtual std::string measureWords(const ProcedureMeasure& measure) = 0;
    /// The answer to its question, where that is known beforehand.
    virtual std::optional<std::string> answer(const ProcedureStep& step, const std::string& number) = 0;
    /// For whoever records it.
    virtual void note(const StepResult& result, Instant at) = 0;
};

/// A procedure at work: goes from step to step as time and readings come. Confined to one thread.
class ProcedureRun {
public:
    ProcedureRun(ProcedureSpec spec, ProcedureWorld& world, Instant from);
    ProcedureRun(const ProcedureRun&) = delete;
    ProcedureRun& operator=(const ProcedureRun&) = delete;

    void feed(const std::string& signal, std::span<const double> values, const RuleEvaluator::TimeOf& timeOf,
              std::span<const QualityInterval> quality = {});
    void lose(const std::string& signal, Instant at);
    void device(const std::string& id, bool away, Instant at);
    void mark(const std::string& words, Instant at);
    /// Goes as far as it can.
    void advance(Instant now);
    /// When it has something to do although nothing comes.
    [[nodiscard]] std::optional<Instant> nextDeadline() const;

    /// The question that it stands at is answered: "yes", "no", a number; anything where it only asks to be seen. Why
    /// that is no answer.
    Result<void> answer(const std::string& words, Instant now);
    /// A time that runs, and what is measured over it, begins anew when it goes on.
    void pause(bool paused, Instant now);
    /// Before its last step.
    void end(Text why, Instant now);

    [[nodiscard]] ProcedureReport report(Instant now) const;
    [[nodiscard]] bool over() const { return report_.state == RunState::ended; }
    /// Grows with every change of the report but that of a time that runs.
    [[nodiscard]] std::uint64_t revision() const { return revision_; }

private:
    void begin(Instant now);
    bool step(Instant now);  ///< true: it is done
    bool waited(Instant now);
    bool measuredOver(Instant now);
    void done(StepVerdict verdict, Instant now, Text why = {});
    void conclude(Text why, Instant now);
    [[nodiscard]] std::optional<double> amount(const Amount& amount) const;
    void judge(StepValue& value, const std::optional<Amount>& low, const std::optional<Amount>& high) const;
    [[nodiscard]] StepResult& result() { return report_.steps[report_.at]; }
    [[nodiscard]] const ProcedureStep& now_() const { return *plan_[report_.at].step; }

    const ProcedureSpec spec_;
    ProcedureWorld& world_;
    std::vector<PlannedStep> plan_;
    ProcedureReport report_;
    std::map<std::string, double> known_;
    bool begun_ = false;
    Instant stepBegan_;
    std::optional<Span> stretch_;  ///< of the last hold or measuring
    std::optional<RuleEvaluator> until_;
    std::shared_ptr<const RuleSpec> untilRule_;
    std::uint64_t revision_ = 0;
};

}  // namespace cruscotto
