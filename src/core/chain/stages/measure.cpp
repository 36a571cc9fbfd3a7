#include <algorithm>
#include <array>
#include <cmath>

#include "core/analysis/measures.h"
#include "core/base/level.h"
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
/// When it is measured: every so many seconds, with every period, or when the last source rises through a level.
enum class MeasureWhen { everySoOften, everyPeriod, atEvents };
MeasureWhen whenOf(const Stage& s) {
    return s.text("when") == "period"  ? MeasureWhen::everyPeriod
           : s.text("when") == "event" ? MeasureWhen::atEvents
                                       : MeasureWhen::everySoOften;
}
/// Without the one whose events it waits for.
std::size_t measuredSources(const Stage& s) {
    return s.sources("of").size() - (whenOf(s) == MeasureWhen::atEvents ? 1 : 0);
}
std::string unitOfMeasure(const Stage& s) {
    const auto& of = s.sources("of");
    return measureUnit(measureChosen(s).name, of[0].unit, measuredSources(s) > 1 ? of[1].unit : of[0].unit);
}

/// The readings of the last so long, measured every so often, or of each period, or at each event; in between it
/// stands.
class KeptMeasure : public StageProcessor {
public:
    explicit KeptMeasure(const Stage& s)
        : kind_(measureChosen(s)),
          window_(seconds(s.number("time-s"))),
          every_(std::max<std::int64_t>(1, seconds(s.number("every-s")).ns)),
          when_(whenOf(s)),
          ofTwo_(isOfTwo(s)),
          event_(s.number("level")) {
        for (const StageSource& source : s.sources("of")) units_.push_back(source.unit);
        if (when_ == MeasureWhen::atEvents) units_.pop_back();
    }
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const Instant now = s.times[i];
            // At the same moments however the stream is cut, and from wherever it is worked out again.
            const std::int64_t step = now.ns >= 0 ? now.ns / every_ : (now.ns - every_ + 1) / every_;
            const double own = s.inputs[0][i];
            if (when_ == MeasureWhen::everySoOften && step_ && step != *step_) measure(now, window_);
            if (when_ == MeasureWhen::everyPeriod) followPeriod(now, own);
            if (when_ == MeasureWhen::atEvents) {
                const double event = s.inputs.back()[i];
                event_.look(std::span(&event, 1), [&](std::size_t, bool above) {
                    if (above) measure(now, window_);
                });
            }
            step_ = step;
            times_.push_back(now);
            own_.push_back(own);
            if (ofTwo_) other_.push_back(s.inputs[1][i]);
            if (times_.size() > 2 * mostOfMeasure) forget(times_.size() - mostOfMeasure - 1);
            s.values[i] = value_;
        }
    }
    /// What comes behind a gap is measured by itself.
    void reset() override {
        forget(times_.size());
        step_.reset();
        rise_.reset();
        lastRise_.reset();
        value_ = std::nan("");
        scatter_.reset();
    }
    [[nodiscard]] std::optional<double> scatter() const override { return scatter_; }

private:
    void forget(std::size_t n) {
        const auto cut = [n](auto& v) {
            v.erase(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(std::min(n, v.size())));
        };
        cut(times_);
        cut(own_);
        cut(other_);
    }
    /// Measures from one rise through the middle of what was seen in the last `window_` to the next.
    void followPeriod(Instant now, double v) {
        if (!rise_) {
            if (times_.empty() || now - times_.front() < window_) return;
            findMiddle(now);
            return;
        }
        rise_->look(std::span(&v, 1), [&](std::size_t, bool above) {
            if (!above) return;
            if (lastRise_ && now - *lastRise_ <= window_) measure(now, now - *lastRise_);
            lastRise_ = now;
            moveMiddle_ = true;
        });
        if (!moveMiddle_) return;
        moveMiddle_ = false;
        findMiddle(now);
    }
    void findMiddle(Instant now) {
        const auto first = std::ranges::lower_bound(times_, now - window_);
        forget(static_cast<std::size_t>(first - times_.begin()));
        double low = INFINITY, high = -INFINITY;
        for (const double v : own_)
            if (std::isfinite(v)) low = std::min(low, v), high = std::max(high, v);
        constexpr double hysteresis = 0.1;  // of its extent: noise about the middle is no period
        if (!(high > low)) return;
        const std::optional<bool> above = rise_ ? rise_->above() : std::nullopt;
        rise_.emplace((low + high) / 2 + hysteresis * (high - low) / 2, hysteresis * (high - low));
        if (above) rise_->look(std::array{*above ? high : low}, [](std::size_t, bool) {});
    }
    void measure(Instant now, Duration window) {
        const auto first = std::ranges::lower_bound(times_, now - window);
        // the whole of the time must have been read once
        const bool whole =
            first != times_.begin() || (!times_.empty() && times_.front() <= now - window + nanoseconds(1));
        // Of a period the readings before it are still needed for its middle.
        const auto skipped = static_cast<std::size_t>(first - times_.begin());
        if (when_ != MeasureWhen::everyPeriod) forget(skipped);
        const std::size_t from = when_ == MeasureWhen::everyPeriod ? skipped : 0;
        value_ = std::nan("");
        scatter_.reset();
        if (!whole || times_.size() <= from || times_.size() - from > mostOfMeasure) return;
        std::vector<double> since;
        since.reserve(times_.size() - from);
        for (const Instant t : std::span(times_).subspan(from)) since.push_back((t - (now - window)).seconds());
        const MeasuredStretch own{std::span(own_).subspan(from), since, units_[0], false, window.seconds()};
        std::map<std::string, Measure> all;
        if (ofTwo_)
            all = measuresOfTwo({std::span(other_).subspan(from), since, units_.back(), false, window.seconds()}, own,
                                kind_.name);
        else
            all = measuresOf(own, kind_.group);
        const Measure& made = all[kind_.name];
        value_ = made.value;
        if (made.u >= 0) scatter_ = made.u;
    }

    MeasureKind kind_;
    Duration window_;
    std::int64_t every_;
    MeasureWhen when_;
    bool ofTwo_;
    LevelDetector event_;
    std::optional<LevelDetector> rise_;  ///< through the middle of the last `window_`
    std::optional<Instant> lastRise_;
    bool moveMiddle_ = false;
    std::vector<std::string> units_;
    std::vector<Instant> times_;
    std::vector<double> own_, other_;
    std::optional<std::int64_t> step_;
    double value_ = std::nan("");
    std::optional<double> scatter_;
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
             {.key = "when",
              .title = CRUSCOTTO_TEXT("When"),
              .type = StageField::Type::choice,
              .first = "every",
              .choices = {{"every", CRUSCOTTO_TEXT("every so often")},
                          {"period", CRUSCOTTO_TEXT("each period, of it")},
                          {"event", CRUSCOTTO_TEXT("when the last of them rises")}}},
             {.key = "every-s", .title = CRUSCOTTO_TEXT("Every"), .first = 1.0, .unit = "s", .low = 0.05, .high = 3600},
             {.key = "level", .title = CRUSCOTTO_TEXT("Rises through"), .first = 0.5},
             {.key = "of",
              .title = CRUSCOTTO_TEXT("Of"),
              .type = StageField::Type::sources,
              .first = StageSources{{"", 0, "1", ""}},
              .needed = true,
              .fewestRows = 1,
              .mostRows = 3}},
        .sentence =
            [](const Stage& s) {
                std::string unit = unitText(unitOfMeasure(s));
                if (unit.empty()) unit = "1";
                if (whenOf(s) == MeasureWhen::everyPeriod)
                    return text(isOfTwo(s) ? CRUSCOTTO_TEXT("{0} of the first against the second, of each period of "
                                                            "the first that is no longer than {1} s, in {2}.")
                                           : CRUSCOTTO_TEXT("{0} of each period that is no longer than {1} s, in {2}."),
                                measureChosen(s).title.english(), number(s.number("time-s")), unit);
                if (whenOf(s) == MeasureWhen::atEvents)
                    return text(CRUSCOTTO_TEXT("{0} of the last {1} s, each time that the last signal rises through "
                                               "{2}, in {3}."),
                                measureChosen(s).title.english(), number(s.number("time-s")), number(s.number("level")),
                                unit);
                return text(isOfTwo(s) ? CRUSCOTTO_TEXT("{0} of the first against the second over the last {1} s, "
                                                        "every {2} s, in {3}.")
                                       : CRUSCOTTO_TEXT("{0} of the last {1} s, every {2} s, in {3}."),
                            measureChosen(s).title.english(), number(s.number("time-s")), number(s.number("every-s")),
                            unit);
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor { return processor<KeptMeasure>(s); },
        .unitAfter = [](const Stage& s, const std::string&) { return unitOfMeasure(s); },
        .check = [](const Stage& s, const std::string&) -> Result<void> {
            if (whenOf(s) == MeasureWhen::atEvents && s.sources("of").size() < 2)
                return failure("A measure at events needs one signal more, the last: the one that rises.");
            const std::size_t sources = measuredSources(s);
            if (isOfTwo(s) && sources != 2)
                return failure("{0} is of two signals: what is measured, and what it is held against.",
                               measureChosen(s).title.english());
            if (!isOfTwo(s) && sources != 1) return failure("{0} is of one signal.", measureChosen(s).title.english());
            return {};
        },
        .memory = [](const Stage& s) -> StageMemory {
            // Every so often, it was measured a turn ago at most; a period or an event may have come earlier.
            const double windows = whenOf(s) == MeasureWhen::everySoOften ? 1 : 4;
            return {.held = 4 * mostOfMeasure,
                    .samples = 1,
                    .time = seconds(windows * s.number("time-s") + 2 * s.number("every-s"))};
        },
        .carries = [](const Stage& s, const std::string& before, const StageMoment& m) -> std::optional<CarriedError> {
            const std::string& of = measureChosen(s).name;
            const auto among = [&](std::initializer_list<const char*> names) {
                return std::ranges::any_of(names, [&](const char* n) { return of == n; });
            };
            if (of == "mean") return carriedAsMean(m, seconds(s.number("time-s")));
            if (among({"median", "minimum", "maximum", "first", "last", "high-level", "low-level", "sine-offset"}) ||
                of.starts_with("percentile-"))
                return carriedAsItIs(s, before, m);
            if (of == "rms" && m.interval.ns > 0) return carriedAsRms(m, s.number("time-s") / m.interval.seconds());
            // between two levels of one signal
            if (among({"peak-to-peak", "amplitude", "standard-deviation", "ac-rms", "sine-amplitude"}))
                return CarriedError{.gain = m.out, .each = std::sqrt(2.0), .noise = std::sqrt(2.0)};
            // neither of these two depends on how large they are, nor on where their zero is
            if (among({"correlation", "phase", "delay"})) return CarriedError{};
            return {};
        },
        .suits = isComputed,
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
    };
    return kind;
}

}  // namespace cruscotto::stages
