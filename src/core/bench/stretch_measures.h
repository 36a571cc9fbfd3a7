#pragma once

#include <map>
#include <string>

#include "core/analysis/measures.h"
#include "core/base/progress.h"
#include "core/bench/bench.h"
#include "core/history/source.h"

namespace cruscotto {

/// What a stretch of one signal comes to, and how it follows another.
struct StretchMeasures {
    std::map<std::string, Measure> all;  ///< by measureKind's names
    std::size_t readings = 0;            ///< that were looked at one by one; 0: only their summaries
    [[nodiscard]] bool has(const std::string& name) const {
        const auto it = all.find(name);
        return it != all.end() && it->second.whyNot.empty();
    }
};

/// How far a measure is off what is expected of it.
struct Judgement {
    bool fine = false;   ///< within what is allowed
    double off = 0;      ///< in the measure's unit
    double percent = 0;  ///< of what is expected; NaN where that is 0
    Text words;          ///< "0.42 % above what is expected"
};
/// Nothing where there is no value, or its unit is another kind now.
std::optional<Judgement> judged(const Measure& measure, const ExpectedMeasure& expected);

/// Of more readings than this, and of those whose samples are no longer held, only what their summaries know is told:
/// the rest says why not.
inline constexpr std::size_t mostMeasured = 20'000'000;

/// How much of a stretch a state was on, and how often it changed; the latter is not told where that is too much to
/// look at.
struct StateOver {
    double share = 0;  ///< of the time, 0 to 1; NaN: nothing was read
    std::optional<std::size_t> changes;
};
StateOver stateOver(const Source& source, const SignalSpec& signal, Span span);

/// Seconds and the sine's phase count from the stretch's beginning. `against`: empty for none. Takes time with the
/// number of readings; told by `progress` where it is given, which can end it: then there are no measures. Errors: no
/// such signal.
Result<StretchMeasures> measuresOver(const Bench& bench, const Source& source, const std::string& signal,
                                     const std::string& against, Span span, Progress* progress = nullptr,
                                     std::size_t most = mostMeasured);

}  // namespace cruscotto
