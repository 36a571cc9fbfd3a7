#include <algorithm>
#include <cmath>

#include "core/analysis/measures.h"
#include "core/base/units.h"
#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

/// Of more readings than these there is no measure: all of them are kept, and looked at each time.
constexpr std::size_t mostOfMeasure = 200'000;

std::vector<StageField::Choice> measureChoices() {
    std::vector<StageField::Choice> out;
    for (const auto kinds : {measureKinds(), measureKindsOfTwo()})
        for (const MeasureKind& kind : kinds)
            if (kind.group != MeasureGroup::onAndOff) out.push_back({kind.name, kind.title});
    return out;
}
const MeasureKind& measureChosen(const Stage& s) {
    return *measureKind(s.text("measure"));
}
bool isOfTwo(const Stage& s) {
    return measureChosen(s).group == MeasureGroup::ofTwo;
}
std::string unitOfMeasure(const Stage& s) {
    const auto& of = s.sources("of");
    return measureUnit(measureChosen(s).name, of[0].unit, of.size() > 1 ? of[1].unit : of[0].unit);
}

/// The readings of the last so long, measured every so often; in between it stands.
class KeptMeasure : public StageProcessor {
public:
    explicit KeptMeasure(const Stage& s)
        : kind_(measureChosen(s)),
          window_(seconds(s.number("time-s"))),
          every_(std::max<std::int64_t>(1, seconds(s.number("every-s")).ns)) {
        for (const StageSource& source : s.sources("of")) units_.push_back(source.unit);
    }
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const Instant now = s.times[i];
            // At the same moments however the stream is cut, and from wherever it is worked out again.
            const std::int64_t step = now.ns >= 0 ? now.ns / every_ : (now.ns - every_ + 1) / every_;
            if (step_ && step != *step_) measure(now);
            step_ = step;
            times_.push_back(now);
            own_.push_back(s.inputs[0][i]);
            if (s.inputs.size() > 1) other_.push_back(s.inputs[1][i]);
            if (times_.size() > 2 * mostOfMeasure) forget(times_.size() - mostOfMeasure - 1);
            s.values[i] = value_;
        }
    }
    /// What comes behind a gap is measured by itself.
    void reset() override {
        forget(times_.size());
        step_.reset();
        value_ = std::nan("");
    }

private:
    void forget(std::size_t n) {
        const auto cut = [n](auto& v) {
            v.erase(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(std::min(n, v.size())));
        };
        cut(times_);
        cut(own_);
        cut(other_);
    }
    void measure(Instant now) {
        const auto first = std::ranges::lower_bound(times_, now - window_);
        // the whole of the time must have been read once
        const bool whole =
            first != times_.begin() || (!times_.empty() && times_.front() <= now - window_ + nanoseconds(1));
        forget(static_cast<std::size_t>(first - times_.begin()));
        value_ = std::nan("");
        if (!whole || times_.empty() || times_.size() > mostOfMeasure) return;
        std::vector<double> since;
        since.reserve(times_.size());
        for (const Instant t : times_) since.push_back((t - (now - window_)).seconds());
        const MeasuredStretch own{own_, since, units_[0], false, window_.seconds()};
        std::map<std::string, Measure> all;
        if (kind_.group == MeasureGroup::ofTwo)
            all = measuresOfTwo({other_, since, units_.back(), false, window_.seconds()}, own);
        else
            all = measuresOf(own, kind_.group);
        value_ = all[kind_.name].value;
    }

    MeasureKind kind_;
    Duration window_;
    std::int64_t every_;
    std::vector<std::string> units_;
    std::vector<Instant> times_;
    std::vector<double> own_, other_;
    std::optional<std::int64_t> step_;
    double value_ = std::nan("");
};

}  // namespace

/// A measure of the last so long of a signal, or of one against another, worked out every so often: the first of the
/// sources is what is measured, the second what it is held against.
const StageKind& measure() {
    static const StageKind kind{
        .key = "measure",
        .title = CRUSCOTTO_TEXT("A measure, again and again"),
        .group = StageGroup::computation,
        .fields =
            {{.key = "measure",
              .title = CRUSCOTTO_TEXT("Measure"),
              .type = StageField::Type::choice,
              .first = "frequency",
              .choices = measureChoices()},
             {.key = "time-s",
              .title = CRUSCOTTO_TEXT("Of the last"),
              .first = 1.0,
              .unit = "s",
              .low = 0.001,
              .high = 3600},
             {.key = "every-s", .title = CRUSCOTTO_TEXT("Every"), .first = 1.0, .unit = "s", .low = 0.05, .high = 3600},
             {.key = "of",
              .title = CRUSCOTTO_TEXT("Of"),
              .type = StageField::Type::sources,
              .first = StageSources{{"", 0, "1", ""}},
              .needed = true,
              .fewestRows = 1,
              .mostRows = 2}},
        .sentence =
            [](const Stage& s) {
                const std::string unit = unitText(unitOfMeasure(s));
                return text(isOfTwo(s) ? CRUSCOTTO_TEXT("{0} of the first against the second over the last {1} s, "
                                                        "every {2} s, in {3}.")
                                       : CRUSCOTTO_TEXT("{0} of the last {1} s, every {2} s, in {3}."),
                            measureChosen(s).title.english(), number(s.number("time-s")), number(s.number("every-s")),
                            unit.empty() ? std::string("1") : unit);
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor { return processor<KeptMeasure>(s); },
        .unitAfter = [](const Stage& s, const std::string&) { return unitOfMeasure(s); },
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            const std::size_t sources = s.sources("of").size();
            if (isOfTwo(s) && sources != 2)
                return failure("{0} is of two signals: what is measured, and what it is held against.",
                               measureChosen(s).title.english());
            if (!isOfTwo(s) && sources != 1) return failure("{0} is of one signal.", measureChosen(s).title.english());
            return {};
        },
        .memory = [](const Stage& s) -> StageMemory {
            return {
                .held = 4 * mostOfMeasure, .samples = 1, .time = seconds(s.number("time-s") + 2 * s.number("every-s"))};
        },
        .suits = isComputed,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
    };
    return kind;
}

}  // namespace cruscotto::stages
