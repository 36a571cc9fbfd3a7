#pragma once

#include <initializer_list>
#include <limits>
#include <memory>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

#include "core/base/result.h"
#include "core/signal/block.h"

/// One stage of a signal's measuring chain: its kind, and the values of that kind's fields. What a kind does is in its
/// descriptor (stage_kind.h); the kinds are one file each in stages/.
namespace cruscotto {

struct StageKind;

/// Where a stage takes a quantity from that it needs besides what comes in: another signal, or a number.
struct StageSource {
    std::string signal = {};  ///< its id; empty: the constant
    double constant = 0;
    /// UCUM. Of the constant, where it is not the field's. In a list of sources also that in which the signal is taken.
    std::string unit = {};
    std::string name = {};  ///< in a list of sources: what a formula calls it
    bool operator==(const StageSource&) const = default;
};
/// Rows of numbers: points of a table, coefficients (one a row).
using StageTable = std::vector<std::vector<double>>;
using StageSources = std::vector<StageSource>;

/// What one field holds; nothing at all where an optional one was not given.
using StageValue = std::variant<std::monostate, double, std::string, StageSource, StageTable, StageSources>;

/// One thing that can be set in a stage. Files, their checks and the editor are made from this.
struct StageField {
    enum class Type {
        number,
        whole,     ///< a whole number
        choice,    ///< one of `choices`, stored by its key
        unit,      ///< a UCUM code
        likeUnit,  ///< a UCUM code of the same quantity as what comes in
        formula,   ///< text that something else reads
        resets,    ///< how often a person has set the stage back: a whole number
        note,      ///< what people write about it; changes no reading
        source,    ///< another signal's readings or a constant, in a unit of the same quantity as `unit`
        sources,   ///< several of such, each in a unit of its own
        list,      ///< numbers: a table with one in a row
        table,     ///< rows of `columns` numbers
        points,    ///< rows of indicated, reference and standard uncertainty (0: not given), objects in a file
        sheets,    ///< earlier calibration sheets, as JSON's text of a list; changes no reading
    };
    /// The two ends of a field that is one with the terminal's range.
    enum class Follows { nothing, rangeLow, rangeHigh };
    struct Choice {
        std::string key;  ///< in files; frozen
        Text title;
    };

    std::string key;  ///< in files; frozen
    Text title;
    Type type = Type::number;
    StageValue first = 0.0;  ///< of a new stage, and where a file has none
    bool needed = false;     ///< a file must have it
    std::string unit = {};   ///< UCUM; of a number
    double low = -std::numeric_limits<double>::max();
    double high = std::numeric_limits<double>::max();
    bool aboveLow = false;  ///< `low` itself is not allowed
    std::vector<Choice> choices = {};
    std::size_t columns = 1, fewestRows = 0, mostRows = 10'000;  ///< of a list, a table or sources
    Follows follows = Follows::nothing;
    /// It matters only while this other field, a choice, is one of these; files leave it out else.
    std::string with = {};
    std::vector<std::string> withChoices = {};
    bool quiet = false;  ///< files leave it out where it is as in a new stage
};

/// A value: cheap to copy, never changed in place. Any thread.
class Stage {
public:
    using Values = std::initializer_list<std::pair<std::string_view, StageValue>>;
    /// A stage of this kind, which outlives it; the fields that are not named have their first value.
    explicit Stage(const StageKind& kind, Values values = {});
    /// Of the registered kind with this key, which must exist.
    static Stage of(std::string_view key, Values values = {});

    [[nodiscard]] const StageKind& kind() const { return *kind_; }
    /// The field must exist and be of that type.
    [[nodiscard]] double number(std::string_view field) const;
    [[nodiscard]] const std::string& text(std::string_view field) const;
    [[nodiscard]] const StageSource& source(std::string_view field) const;
    [[nodiscard]] const StageTable& table(std::string_view field) const;
    [[nodiscard]] const StageSources& sources(std::string_view field) const;
    [[nodiscard]] const StageValue& value(std::size_t field) const { return (*values_)[field]; }
    [[nodiscard]] Stage with(std::size_t field, StageValue value) const;
    [[nodiscard]] Stage with(std::string_view field, StageValue value) const;
    /// Switched off, to compare: what comes in goes on as it is, in the unit that it has.
    [[nodiscard]] bool isOff() const { return off_; }
    [[nodiscard]] Stage switched(bool on) const;
    /// Fields that do not matter with the choices that are made may differ.
    bool operator==(const Stage& other) const;

private:
    const StageKind* kind_;
    std::shared_ptr<const std::vector<StageValue>> values_;
    bool off_ = false;
};

/// The field matters with the choices that are made now.
bool matters(const Stage& stage, const StageField& field);
/// The key of the stage's kind in files: "counts-to-volts", "slope-offset" ... frozen.
const std::string& stageKey(const Stage& stage);
/// What the stage is called on screen.
Text stageTitle(const Stage& stage);
/// One plain sentence: what the stage does now.
Text describeStage(const Stage& stage);
/// The UCUM unit behind a stage, given the one before it.
std::string unitAfter(const Stage& stage, const std::string& before);
/// Each field within its limits, and what they must be together: two points apart, a formula that parses ...
Result<void> checkStage(const Stage& stage, const std::string& unitBefore);
/// What people wrote about it, joined by blanks; empty if nothing.
std::string stageNote(const Stage& stage);
/// One source of a stage, where it stands, and the UCUM unit in which it is wanted.
struct WantedSource {
    const StageSource* source;  ///< valid as long as the stage
    std::size_t field, row;     ///< row: in a list of sources
    std::string unit;
    bool matters = true;
    [[nodiscard]] bool isSignal() const { return matters && !source->signal.empty(); }
};
/// In the order of the fields, which is that of StageProcessor's inputs. Of a stage that is off none matters.
std::vector<WantedSource> sourcesOf(const Stage& stage);
/// The stage with this source in its place.
Stage withSource(const Stage& stage, const WantedSource& place, StageSource source);
/// A signal that a stage needs, and the UCUM unit in which it wants its readings.
struct NeededSignal {
    std::string id, unit;
    bool operator==(const NeededSignal&) const = default;
};
/// In the order of its fields.
std::vector<NeededSignal> neededSignals(const Stage& stage);

}  // namespace cruscotto
