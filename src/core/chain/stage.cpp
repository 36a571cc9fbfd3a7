#include "core/chain/stage.h"

#include <algorithm>
#include <cmath>
#include <stdexcept>

#include "core/base/number_text.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

std::size_t indexOf(const StageKind& kind, std::string_view field) {
    for (std::size_t i = 0; i < kind.fields.size(); ++i)
        if (kind.fields[i].key == field) return i;
    throw std::logic_error("a stage " + kind.key + " has no field " + std::string(field));
}

/// Whole numbers without an exponent.
std::string plain(double v) {
    return std::fabs(v) < 1e15 && v == std::floor(v) ? fmt::format("{:.0f}", v) : exactNumber(v);
}

Result<void> checkField(const Stage& stage, std::size_t i) {
    const StageField& field = stage.kind().fields[i];
    const auto wrong = [&](const std::string& what) {
        return failure("{0}: {1} must be {2}.", stage.kind().title.english(), field.title.english(), what);
    };
    const std::string unit = field.unit.empty() ? "" : " " + field.unit;
    if (field.type == StageField::Type::number || field.type == StageField::Type::whole) {
        const double v = stage.number(field.key);
        if (!std::isfinite(v)) return wrong("a finite number");
        const bool whole = field.type == StageField::Type::whole;
        const bool inside = v >= field.low && v <= field.high && !(field.aboveLow && v == field.low);
        if (inside && (!whole || v == std::floor(v))) return {};
        const bool open = field.high >= std::numeric_limits<double>::max();
        std::string limits;
        if (field.aboveLow)
            limits = "more than " + plain(field.low) + (open ? "" : " and at most " + plain(field.high));
        else
            limits = open ? "at least " + plain(field.low)
                          : "from " + plain(field.low) + " to " + plain(field.high);
        return wrong((whole ? "a whole number " : "") + limits + unit + ", not " + plain(v));
    }
    if (field.type == StageField::Type::choice) {
        std::string all;
        for (const StageField::Choice& c : field.choices) {
            if (c.key == stage.text(field.key)) return {};
            all += (all.empty() ? "" : ", ") + c.key;
        }
        return wrong("one of " + all);
    }
    if (field.type == StageField::Type::signal && field.needed && stage.text(field.key).empty())
        return wrong("another signal");
    return {};
}

}  // namespace

Stage::Stage(const StageKind& kind, Values values) : kind_(&kind) {
    auto all = std::make_shared<std::vector<StageValue>>();
    for (const StageField& field : kind.fields) all->push_back(field.first);
    for (const auto& [key, value] : values) (*all)[indexOf(kind, key)] = value;
    values_ = std::move(all);
}

Stage Stage::of(std::string_view key, Values values) {
    const StageKind* kind = stageKind(key);
    if (!kind) throw std::logic_error("there is no stage " + std::string(key));
    return Stage(*kind, values);
}

double Stage::number(std::string_view field) const {
    return std::get<double>((*values_)[indexOf(*kind_, field)]);
}

const std::string& Stage::text(std::string_view field) const {
    return std::get<std::string>((*values_)[indexOf(*kind_, field)]);
}

Stage Stage::with(std::size_t field, StageValue value) const {
    auto all = std::make_shared<std::vector<StageValue>>(*values_);
    all->at(field) = std::move(value);
    Stage out = *this;
    out.values_ = std::move(all);
    return out;
}

Stage Stage::with(std::string_view field, StageValue value) const {
    return with(indexOf(*kind_, field), std::move(value));
}

bool Stage::operator==(const Stage& other) const {
    return kind_ == other.kind_ && (values_ == other.values_ || *values_ == *other.values_);
}

const std::string& stageKey(const Stage& stage) {
    return stage.kind().key;
}

Text stageTitle(const Stage& stage) {
    return stage.kind().title;
}

Text describeStage(const Stage& stage) {
    return stage.kind().sentence(stage);
}

std::string unitAfter(const Stage& stage, const std::string& before) {
    return stage.kind().unitAfter ? stage.kind().unitAfter(stage, before) : before;
}

Result<void> checkStage(const Stage& stage, const std::string& unitBefore) {
    for (std::size_t i = 0; i < stage.kind().fields.size(); ++i)
        if (auto checked = checkField(stage, i); !checked) return checked;
    return stage.kind().check ? stage.kind().check(stage, unitBefore) : Result<void>{};
}

namespace {

template <class Each>
void textsOf(const Stage& stage, StageField::Type type, Each&& each) {
    for (std::size_t i = 0; i < stage.kind().fields.size(); ++i)
        if (stage.kind().fields[i].type == type)
            if (const auto* words = std::get_if<std::string>(&stage.value(i)); words && !words->empty()) each(*words);
}

}  // namespace

std::string stageNote(const Stage& stage) {
    std::string out;
    textsOf(stage, StageField::Type::note, [&](const std::string& words) { out += (out.empty() ? "" : " ") + words; });
    return out;
}

std::vector<std::string> neededSignals(const Stage& stage) {
    std::vector<std::string> out;
    textsOf(stage, StageField::Type::signal, [&](const std::string& id) { out.push_back(id); });
    return out;
}

}  // namespace cruscotto
