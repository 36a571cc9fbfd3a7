#pragma once

#include <cmath>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "core/base/time.h"
#include "core/chain/stage_kind.h"
#include "core/rules/rule.h"
#include "core/signal/block.h"

namespace cruscotto {

/// A rule began to hold, or no longer does.
struct RuleFiring {
    std::size_t rule = 0;  ///< its number in the list
    bool holds = false;
    Instant at;
    bool momentary = false;  ///< it is over at once
    int marksBefore = 0;     ///< so many marks of rules led to it, one after the other
};

/// What a rule is doing.
struct RuleState {
    bool holds = false;
    Instant since;                    ///< of that
    std::optional<Instant> fired;     ///< when it last began to hold
    std::uint64_t count = 0;          ///< how often it did
    std::optional<Duration> remains;  ///< of the time for which its condition must hold
};

/// Evaluates rules over readings as they come and over time as it passes. Its outcome does not depend on how the
/// readings of a signal are cut. Confined to one thread.
class RuleEvaluator {
public:
    /// Those that are not enabled never hold. `from`: when it begins.
    explicit RuleEvaluator(std::vector<std::shared_ptr<const RuleSpec>> rules, Instant from = {}, WallAnchor wall = {});

    /// The next readings of a signal, in the order of their times, with what is not good among them. `timeOf` is asked
    /// only where something changes.
    using TimeOf = std::function<Instant(std::size_t)>;
    void feed(const std::string& signal, std::span<const double> values, const TimeOf& timeOf,
              std::span<const QualityInterval> quality = {});
    /// What stood before the first of them: one reading, which says nothing of a measure.
    void begin(const std::string& signal, double value, Instant at, Quality quality = Quality::good);
    /// It looks at readings of this signal.
    [[nodiscard]] bool looksAt(const std::string& signal) const { return leavesOf_.contains(signal); }
    /// Nothing is known of the signal from here on, until something comes.
    void lose(const std::string& signal, Instant at);
    void device(const std::string& id, bool away, Instant at);
    /// `by`: the firing of the rule that has set it. Of those that led to each other no more than eight are followed:
    /// rules that set each other off by marks come to an end.
    void mark(const std::string& words, Instant at, const RuleFiring* by = nullptr);
    /// Time has come to `now`: delays run out, however long nothing has come.
    void advance(Instant now);
    /// When advance() has something to do; nothing: never, as things stand.
    [[nodiscard]] std::optional<Instant> nextDeadline() const;
    void setWall(WallAnchor wall) { wall_ = wall; }

    /// The rules that `before` had too, by their places there and here, go on as they stood: none of them has fired.
    void goOn(const RuleEvaluator& before, const std::map<std::size_t, std::size_t>& nowAt);

    /// The rule held before it was changed, and something hangs on that: until settle() it holds, and times for which
    /// its conditions must hold are taken as over. Before anything is fed.
    void takeOver(std::size_t rule);
    /// What is known now has been fed: those that were taken over end once they are known not to hold.
    void settle(Instant at);

    /// What happened since it was asked last, in order.
    std::vector<RuleFiring> take() { return std::exchange(firings_, {}); }
    [[nodiscard]] RuleState state(std::size_t rule) const;
    [[nodiscard]] const std::vector<std::shared_ptr<const RuleSpec>>& rules() const { return rules_; }

private:
    enum class Truth : unsigned char { no, yes, unknown };
    struct Node {
        const Condition* condition = nullptr;
        std::size_t rule = 0;
        std::vector<std::size_t> parts;
        // of a leaf
        Truth is = Truth::unknown;
        bool pulse = false;  ///< a momentary one, now
        bool armed = false;  ///< of a crossing: it was on the other side
        double last = std::nan("");
        std::deque<std::pair<Instant, double>> past;  ///< of `faster`
        std::shared_ptr<StageProcessor> measure;      ///< what it looks at, made of the readings
        Instant heard;                                ///< of `stale`
        std::optional<Instant> next;                  ///< of `every` and a time of day
        // of any
        std::optional<Instant> since;  ///< it has been so
        bool reported = false;         ///< its time has run out
    };
    struct Rule {
        std::size_t when = 0;
        std::optional<std::size_t> until;
        bool momentary = false, takenOver = false, settled = false;
        RuleState state;
        std::vector<std::size_t> dependents;  ///< rules that look at this one
    };
    struct Change {
        Instant at;
        std::size_t node;
        Truth is;
        bool pulse;
    };
    std::size_t grow(const Condition& condition, std::size_t rule);
    /// The extremes of what is fed; not finite where something is no number.
    struct Extent {
        double low = 0, high = 0;
    };
    void scan(std::size_t node, std::span<const double> values, const TimeOf& timeOf,
              std::span<const QualityInterval> quality, Extent extent);
    void feedLeaves(const std::string& signal, std::span<const double> values, const TimeOf& timeOf,
                    std::span<const QualityInterval> quality, bool measures);
    /// The node's measure at the time of each reading.
    static std::vector<double> measured(Node& node, std::span<const double> values, const TimeOf& timeOf,
                                        std::span<const QualityInterval> quality);
    static Extent extentOf(std::span<const double> values);
    /// Nothing that lies within the extent changes what the node is.
    [[nodiscard]] static bool staysWithin(const Node& node, Extent extent);
    void apply(const Change& change);
    Truth judge(std::size_t node, Instant at);
    void update(std::size_t rule, Instant at, int depth = 0);
    void runOut(Instant to);
    void forgetTimes(std::size_t node);
    [[nodiscard]] std::optional<Instant> deadlineOf(const Node& node) const;
    [[nodiscard]] std::optional<Instant> nextTimeOfDay(double seconds, Instant after) const;

    std::vector<std::shared_ptr<const RuleSpec>> rules_;
    std::vector<Node> nodes_;
    std::vector<Rule> of_;
    std::map<std::string, std::vector<std::size_t>> leavesOf_;  ///< by signal
    std::vector<std::size_t> timed_;                            ///< nodes that can have a deadline
    std::vector<Change> changes_;
    std::vector<RuleFiring> firings_;
    Instant now_;
    WallAnchor wall_;
    int marksBefore_ = 0;  // of what fires now
};

}  // namespace cruscotto
