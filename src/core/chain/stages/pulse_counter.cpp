#include <cmath>
#include <deque>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

constexpr double noValue = std::numeric_limits<double>::quiet_NaN();

bool reads(const Stage& s, const char* as) {
    return s.text("mode") == as;
}

class Counter : public StageProcessor {
public:
    explicit Counter(const Stage& s)
        : counts_(reads(s, "count")),
          silence_(seconds(s.number("silence-s")).ns),
          gate_(seconds(s.number("gate-s")).ns),
          perSecond_(reads(s, "rpm") ? 60.0 / s.number("pulses-per-turn") : 1.0) {}
    void run(Stretch& s) override {
        std::vector<double>& v = s.values;
        for (std::size_t i = 0; i < v.size(); ++i) {
            const std::int64_t now = s.times[i].ns;
            // Anything but a whole number of 32 bits cannot come from a counter; the sample is passed over.
            const bool whole = v[i] >= 0 && v[i] <= 4294967295.0;
            const std::uint32_t raw = whole ? static_cast<std::uint32_t>(v[i]) : last_.value_or(0);
            if (!last_) {
                last_ = raw;
                quietSince_ = now;
            }
            if (const std::uint32_t pulses = raw - *last_) {
                total_ += pulses;
                last_ = raw;
                if (now - quietSince_ > silence_) forgetEdges();  // the first edge after a silence has no partner
                takeEdge({now, total_});
                quietSince_ = now;
                while (edges_.size() > 2 && (now - edges_[1].ns >= gate_ || edges_.size() > mostEdges)) dropFirstEdge();
            }
            if (counts_) {
                v[i] = static_cast<double>(total_);
                continue;
            }
            const std::int64_t quiet = now - quietSince_;
            // A time that is known to one sample says little about a span of a few of them.
            const std::int64_t enough = std::min(gate_, fewestSamples * (now - std::exchange(before_, now)));
            if (quiet > silence_) {
                forgetEdges();
                v[i] = 0;
            } else if (edges_.size() < 2 || edges_.back().ns - edges_.front().ns < enough) {
                v[i] = reading_ == 0 ? 0 : noValue;  // one edge alone tells no speed
            } else {
                if (!slope_) slope_ = slopeOfEdges();
                double hz = *slope_;
                // No edge since then: it cannot be faster than one pulse in that time.
                if (quiet > 0) hz = std::min(hz, 1e9 / static_cast<double>(quiet));
                v[i] = hz * perSecond_;
            }
            reading_ = v[i];
        }
    }
    void reset() override {
        forgetEdges();
        last_.reset();
        reading_ = noValue;
    }

private:
    struct Edge {
        std::int64_t ns;
        std::uint64_t count;
    };
    static constexpr std::int64_t fewestSamples = 10;
    static constexpr std::size_t mostEdges = 100'000;

    /// Sums over the edges, counted from the first of them, which therefore adds nothing. Whole numbers: however long
    /// edges come and go, nothing is rounded.
    struct Sums {
        using Whole = unsigned __int128;
        Whole time = 0, pulses = 0, both = 0, squares = 0;
        void add(Whole t, Whole p) {
            both += t * p;
            squares += t * t;
            time += t;
            pulses += p;
        }
        /// As counted from a moment later by `t` nanoseconds and `p` pulses, for `n` edges.
        void countFrom(Whole t, Whole p, Whole n) {
            both += n * t * p - t * pulses - p * time;
            squares += n * t * t - 2 * t * time;
            time -= n * t;
            pulses -= n * p;
        }
    };

    void takeEdge(const Edge& e) {
        slope_.reset();
        edges_.push_back(e);
        sums_.add(static_cast<Sums::Whole>(e.ns - edges_.front().ns), e.count - edges_.front().count);
    }
    void dropFirstEdge() {
        slope_.reset();
        const Edge first = edges_.front();
        edges_.pop_front();
        sums_.countFrom(static_cast<Sums::Whole>(edges_.front().ns - first.ns), edges_.front().count - first.count,
                        edges_.size());
    }
    void forgetEdges() {
        slope_.reset();
        edges_.clear();
        sums_ = {};
    }

    /// Pulses a second by the least-squares line through the edges: their times are only known to one sample, and a
    /// line through all of them averages that out, where the first and the last alone would not.
    double slopeOfEdges() const {
        const auto number = [](Sums::Whole sum) { return static_cast<double>(static_cast<__int128>(sum)); };
        const auto n = static_cast<double>(edges_.size());
        const double time = number(sums_.time);
        return 1e9 * (n * number(sums_.both) - time * number(sums_.pulses)) / (n * number(sums_.squares) - time * time);
    }

    bool counts_;
    std::int64_t silence_, gate_;
    double perSecond_;
    std::deque<Edge> edges_;
    Sums sums_;
    std::optional<double> slope_;  // of these edges
    std::optional<std::uint32_t> last_;
    std::uint64_t total_ = 0;
    std::int64_t quietSince_ = 0, before_ = 0;
    double reading_ = noValue;
};

/// That an edge is only known to one sample: the slope of the least-squares line through edges of which each is off by
/// up to a sample, or where several come in one, by up to a pulse, evenly spread and each by itself (GUM, 4.3.7). Of
/// pulses that come regularly it is less.
std::vector<UncertaintyContribution> edgeErrors(const Stage& s, const StageMoment& m) {
    if (reads(s, "count")) return {{CRUSCOTTO_TEXT("the last pulse"), 1 / std::sqrt(12.0)}};
    const double perPulse = reads(s, "rpm") ? 60.0 / s.number("pulses-per-turn") : 1.0, hz = m.out / perPulse;
    if (!(hz > 0) || m.interval.ns <= 0) return {};
    const double between = std::max(m.interval.seconds(), 1 / hz);
    const double n = std::max(2.0, std::floor(s.number("gate-s") / between) + 1), window = (n - 1) * between;
    const double edge = std::min(1.0, hz * m.interval.seconds()) / std::sqrt(12.0);
    const double spread = window * std::sqrt(n * (n + 1) / (12 * (n - 1)));  // of n times, from their mean
    return {{CRUSCOTTO_TEXT("edges known to one sample"), perPulse * edge / spread}};
}

}  // namespace

/// A running count of pulses (uint32, wraps) as a frequency, a number of turns a minute, or the count since the
/// bench began. Frequency is the slope of the least-squares line through the edges of the last `gate-s`, or through
/// the last two where there are no more, and the last 100,000 where there are more. No edge for `silence-s`: the
/// reading becomes 0. Before the first two edges that are ten samples or the gate apart there is no reading yet; after
/// the silence it stays 0 until then.
const StageKind& pulseCounter() {
    static const StageKind kind{
        .key = "pulse-counter",
        .title = CRUSCOTTO_TEXT("Pulse counter"),
        .group = StageGroup::terminal,
        .fields = {{.key = "mode",
                    .title = CRUSCOTTO_TEXT("Reads as"),
                    .type = StageField::Type::choice,
                    .first = "frequency",
                    .choices = {{"frequency", CRUSCOTTO_TEXT("frequency")},
                                {"rpm", CRUSCOTTO_TEXT("turns a minute")},
                                {"count", CRUSCOTTO_TEXT("count")}}},
                   {.key = "pulses-per-turn",
                    .title = CRUSCOTTO_TEXT("Pulses per turn"),
                    .first = 1.0,
                    .low = 0,
                    .aboveLow = true,
                    .with = "mode",
                    .withChoices = {"rpm"}},
                   {.key = "silence-s",
                    .title = CRUSCOTTO_TEXT("Silence"),
                    .first = 2.0,
                    .unit = "s",
                    .low = 0,
                    .high = 1e6,
                    .aboveLow = true,
                    .with = "mode",
                    .withChoices = {"frequency", "rpm"}},
                   {.key = "gate-s",
                    .title = CRUSCOTTO_TEXT("Gate"),
                    .first = 0.25,
                    .unit = "s",
                    .low = 0,
                    .high = 1e4,
                    .with = "mode",
                    .withChoices = {"frequency", "rpm"}}},
        .sentence =
            [](const Stage& s) {
                if (reads(s, "count"))
                    return Text(CRUSCOTTO_TEXT("Counts the pulses since the bench began to measure."));
                const std::string silence = number(s.number("silence-s"));
                if (reads(s, "rpm"))
                    return text(
                        CRUSCOTTO_TEXT("{0} pulses are one turn; without a pulse for {1} s the shaft stands still."),
                        number(s.number("pulses-per-turn")), silence);
                return text(CRUSCOTTO_TEXT("Pulses a second; without a pulse for {0} s it reads 0."), silence);
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor { return processor<Counter>(s); },
        .unitAfter = [](const Stage& s, const std::string&) -> std::string {
            return reads(s, "rpm") ? "{rpm}" : reads(s, "count") ? "{pulses}" : "Hz";
        },
        .memory = [](const Stage& s) -> StageMemory {
            if (reads(s, "count")) return {.time = wholePast};
            return {.time = seconds(s.number("silence-s") * 2 + s.number("gate-s"))};
        },
        .ownErrors = edgeErrors,
        .suits = [](ChannelKind of) { return of == ChannelKind::counterInput; },
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return {}; },
        .keepsWhole = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
