#include "core/chain/stage.h"

#include <algorithm>
#include <cmath>
#include <stdexcept>

#include "core/base/number_text.h"
#include "core/base/units.h"
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
    if (field.type == StageField::Type::number || field.type == StageField::Type::whole ||
        field.type == StageField::Type::resets) {
        const double v = stage.number(field.key);
        if (!std::isfinite(v)) return wrong("a finite number");
        const bool whole = field.type != StageField::Type::number;
        const bool inside = v >= field.low && v <= field.high && !(field.aboveLow && v == field.low);
        if (inside && (!whole || v == std::floor(v))) return {};
        const bool open = field.high >= std::numeric_limits<double>::max();
        std::string limits;
        if (field.aboveLow)
            limits = "more than " + plain(field.low) + (open ? "" : " and at most " + plain(field.high));
        else
            limits = open ? "at least " + plain(field.low) : "from " + plain(field.low) + " to " + plain(field.high);
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
    if (field.type == StageField::Type::source) {
        const StageSource& source = stage.source(field.key);
        if (!source.signal.empty()) return {};
        const auto in = convertUnit(source.unit.empty() ? field.unit : source.unit, field.unit);
        if (!in) return wrong("in a unit like " + unitText(field.unit) + ", not " + unitText(source.unit));
        const double v = source.constant * in->factor + in->offset;
        if (std::isfinite(v) && v >= field.low && v <= field.high && !(field.aboveLow && v == field.low)) return {};
        return wrong((field.aboveLow ? "more than " : "at least ") + plain(field.low) + unit + ", not " + plain(v));
    }
    if (field.type == StageField::Type::sources) {
        const StageSources& all = stage.sources(field.key);
        if (all.size() < field.fewestRows || all.size() > field.mostRows)
            return wrong(
                fmt::format("{} to {} signals or constants, not {}", field.fewestRows, field.mostRows, all.size()));
        for (const StageSource& source : all)
            if (source.signal.empty() && !std::isfinite(source.constant)) return wrong("made of finite numbers");
    }
    if (field.type == StageField::Type::list || field.type == StageField::Type::table ||
        field.type == StageField::Type::points) {
        const StageTable& rows = stage.table(field.key);
        if (rows.size() < field.fewestRows || rows.size() > field.mostRows)
            return wrong(fmt::format("{} to {} rows, not {}", field.fewestRows, field.mostRows, rows.size()));
        for (std::size_t r = 0; r < rows.size(); ++r)
            if (rows[r].size() != field.columns ||
                !std::ranges::all_of(rows[r], [](double v) { return std::isfinite(v); }))
                return wrong(fmt::format(
                    "{} in each row; row {} is not",
                    field.columns == 1 ? "one finite number" : fmt::format("{} finite numbers", field.columns), r + 1));
    }
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

const StageSource& Stage::source(std::string_view field) const {
    return std::get<StageSource>((*values_)[indexOf(*kind_, field)]);
}

const StageTable& Stage::table(std::string_view field) const {
    return std::get<StageTable>((*values_)[indexOf(*kind_, field)]);
}

const StageSources& Stage::sources(std::string_view field) const {
    return std::get<StageSources>((*values_)[indexOf(*kind_, field)]);
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

Stage Stage::switched(bool on) const {
    Stage out = *this;
    out.off_ = !on;
    return out;
}

bool Stage::operator==(const Stage& other) const {
    if (kind_ != other.kind_ || off_ != other.off_) return false;
    if (values_ == other.values_ || *values_ == *other.values_) return true;
    for (std::size_t i = 0; i < kind_->fields.size(); ++i) {
        const bool here = matters(*this, kind_->fields[i]);
        if (here != matters(other, kind_->fields[i]) || (here && value(i) != other.value(i))) return false;
    }
    return true;
}

bool matters(const Stage& stage, const StageField& field) {
    return field.with.empty() ||
           std::ranges::find(field.withChoices, stage.text(field.with)) != field.withChoices.end();
}

const std::string& stageKey(const Stage& stage) {
    return stage.kind().key;
}

Text stageTitle(const Stage& stage) {
    return stage.kind().title;
}

Text describeStage(const Stage& stage) {
    if (stage.isOff()) return CRUSCOTTO_TEXT("Switched off: what comes in goes on as it is.");
    return stage.kind().sentence(stage);
}

std::string unitAfter(const Stage& stage, const std::string& before) {
    return stage.kind().unitAfter && !stage.isOff() ? stage.kind().unitAfter(stage, before) : before;
}

Result<void> checkStage(const Stage& stage, const std::string& unitBefore) {
    if (stage.isOff()) return {};
    for (std::size_t i = 0; i < stage.kind().fields.size(); ++i)
        if (matters(stage, stage.kind().fields[i]))
            if (auto checked = checkField(stage, i); !checked) return checked;
    if (const char* takes = stage.kind().takes; takes && !convertUnit(unitBefore, takes))
        return failure("{0} takes {1}, and {2} comes in. Put a stage that gives {1} before it.",
                       stage.kind().title.english(), unitText(takes), unitText(unitBefore));
    return stage.kind().check ? stage.kind().check(stage, unitBefore) : Result<void>{};
}

std::string stageNote(const Stage& stage) {
    std::string out;
    for (std::size_t i = 0; i < stage.kind().fields.size(); ++i)
        if (stage.kind().fields[i].type == StageField::Type::note)
            if (const auto* words = std::get_if<std::string>(&stage.value(i)); words && !words->empty())
                out += (out.empty() ? "" : " ") + *words;
    return out;
}

std::vector<WantedSource> sourcesOf(const Stage& stage) {
    std::vector<WantedSource> out;
    for (std::size_t f = 0; f < stage.kind().fields.size(); ++f) {
        const StageField& field = stage.kind().fields[f];
        const bool counts = !stage.isOff() && matters(stage, field);
        if (const auto* one = std::get_if<StageSource>(&stage.value(f))) out.push_back({one, f, 0, field.unit, counts});
        if (const auto* all = std::get_if<StageSources>(&stage.value(f)))
            for (std::size_t row = 0; row < all->size(); ++row)
                out.push_back({&(*all)[row], f, row, (*all)[row].unit, counts});
    }
    return out;
}

Stage withSource(const Stage& stage, const WantedSource& place, StageSource source) {
    if (std::holds_alternative<StageSource>(stage.value(place.field)))
        return stage.with(place.field, std::move(source));
    StageSources all = std::get<StageSources>(stage.value(place.field));
    all.at(place.row) = std::move(source);
    return stage.with(place.field, std::move(all));
}

std::vector<NeededSignal> neededSignals(const Stage& stage) {
    std::vector<NeededSignal> out;
    for (const WantedSource& wanted : sourcesOf(stage))
        if (wanted.isSignal()) out.push_back({wanted.source->signal, wanted.unit});
    return out;
}

}  // namespace cruscotto
