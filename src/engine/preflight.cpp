#include "engine/preflight.h"

#include <algorithm>
#include <cmath>

#include "core/analysis/steadiness.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/uncertainty.h"
#include "core/chain/calibration_sheet.h"
#include "core/chain/chain.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

using Grade = PreflightFinding::Grade;
constexpr std::size_t mostSamples = 20'000;
constexpr double fewCounts = 8, smallShare = 0.05, hours = 3600;

/// The raw samples and what they read over the span, as far as they are held.
struct Stretch {
    std::vector<double> raw, readings;
    std::vector<Instant> times;
};

class Check {
public:
    Check(const Bench& bench, const Source& source, Instant now, Duration span, const PreflightFacts& facts)
        : bench_(bench), source_(source), now_(now), span_(span), facts_(facts) {}

    std::vector<PreflightFinding> all() {
        for (const auto& d : bench_.devices) link(*d);
        for (const auto& s : bench_.signals)
            if (!s->output) signal(*s);
        disk();
        std::ranges::stable_sort(out_, std::ranges::greater(), &PreflightFinding::grade);
        return std::move(out_);
    }

private:
    void add(Grade grade, const char* topic, Text words, Text remedy = {}) {
        out_.push_back({grade, about_, name_, topic, std::move(words), std::move(remedy)});
    }

    void link(const DeviceSpec& d) {
        about_ = d.id;
        name_ = d.name;
        const auto it = facts_.devices.find(d.id);
        if (it == facts_.devices.end()) return;  // of a kind that has no link
        const DeviceStatus& status = it->second;
        if (status.state == LinkState::live)
            add(Grade::good, "link", CRUSCOTTO_TEXT("is there and sends."));
        else
            add(Grade::red, "link", status.sentence,
                CRUSCOTTO_TEXT("See to the device first; its signals read nothing."));
        if (status.rejected > 0)
            add(Grade::amber, "link", text(CRUSCOTTO_TEXT("{0} lines or frames did not fit."), status.rejected),
                CRUSCOTTO_TEXT("See the wire: it says why each of them did not."));
        for (const DeviceParameter& p : status.parameters)
            if (p.differs())
                add(Grade::amber, "link",
                    text(CRUSCOTTO_TEXT("{0} is {1} in the device, and the bench wants {2}."), p.title.english(),
                         *p.there, *p.wanted),
                    CRUSCOTTO_TEXT("Write the bench's, or keep the device's, in its panel."));
    }

    void signal(const SignalSpec& s) {
        about_ = s.id;
        name_ = s.name;
        const Reading r = source_.at(s.id, now_);
        evidence(s);
        if (!connected(s, r)) return;
        const Stretch stretch = stretchOf(s);
        plausible(s, r);
        if (!s.isState() && !isDigital(s.kind)) {
            range(s, stretch);
            noise(s, stretch);
            calibration(s);
        }
        rate(stretch);
    }

    [[nodiscard]] Stretch stretchOf(const SignalSpec& s) const {
        Stretch out;
        std::vector<Instant> times;
        const Span span{now_ - span_, now_ + Duration{1}};
        (void)source_.stageSeries(s.id, 0, span, mostSamples, out.raw, times);
        (void)source_.stageSeries(s.id, s.chain.size(), span, mostSamples, out.readings, out.times);
        return out;
    }

    /// False where nothing more can be said.
    bool connected(const SignalSpec& s, const Reading& r) {
        switch (r.quality) {
            case Quality::gap:
                add(Grade::red, "connected", CRUSCOTTO_TEXT("reads nothing now."),
                    CRUSCOTTO_TEXT("Is its device there, and the terminal the right one?"));
                return false;
            case Quality::stale:
                add(Grade::red, "connected",
                    text(CRUSCOTTO_TEXT("has not been read for {0} s."), shortNumber((now_ - r.taken).seconds())),
                    CRUSCOTTO_TEXT("Look at its device, and at the signals that it needs."));
                return false;
            case Quality::openSensor:
                add(Grade::red, "connected", CRUSCOTTO_TEXT("says that its sensor is open or broken."),
                    CRUSCOTTO_TEXT("Check the sensor's wires, from the terminal on."));
                return false;
            default:
                break;
        }
        if (std::isnan(r.value)) {
            add(Grade::red, "connected", CRUSCOTTO_TEXT("has no value now."),
                CRUSCOTTO_TEXT("Its chain says at which stage it gets lost."));
            return false;
        }
        add(Grade::good, "connected",
            s.isState() ? Text(CRUSCOTTO_TEXT("is read."))
                        : text(CRUSCOTTO_TEXT("reads {0} {1}."), threeDigits(r.value), unitText(s.unit())));
        return true;
    }

    /// What the quality of the reading says too is said there.
    void evidence(const SignalSpec& s) {
        for (const Evidence& e : source_.evidenceAt(s.id, now_)) {
            const DoubtKind& kind = doubtKind(e.doubt);
            if (e.doubt == Doubt::openSensor || e.doubt == Doubt::clipped || e.doubt == Doubt::outOfRange ||
                e.doubt == Doubt::tooCoarse)
                continue;
            if (e.doubt == Doubt::connected) {
                add(Grade::good, "connected", e.grounds);
                continue;
            }
            add(e.doubt == Doubt::notConnected ? Grade::red : Grade::amber,
                e.doubt == Doubt::notConnected || e.doubt == Doubt::sameAsAnother ? "connected"
                : e.doubt == Doubt::tooCoarse                                     ? "range"
                : e.doubt == Doubt::tooSlow                                       ? "rate"
                : e.doubt == Doubt::hums || e.doubt == Doubt::drifts              ? "noise"
                                                                                  : "plausible",
                text(CRUSCOTTO_TEXT("{0}, {1}: {2}"), kind.word.english(), surenessWord(e.sure).english(),
                     e.grounds.english()),
                kind.remedy);
        }
    }

    void plausible(const SignalSpec& s, const Reading& r) {
        if (r.quality == Quality::clipped)
            add(Grade::red, "plausible", CRUSCOTTO_TEXT("is clipped: the true value is beyond the range."),
                CRUSCOTTO_TEXT("Choose a larger range in the chain's first card."));
        else if (r.quality == Quality::outOfRange)
            add(Grade::red, "plausible", CRUSCOTTO_TEXT("lies outside of what its chain holds for possible."),
                CRUSCOTTO_TEXT("Its chain says at which stage."));
        else if (r.quality == Quality::suspect && !anySuspicion(source_.evidenceAt(s.id, now_)))
            add(Grade::amber, "plausible", CRUSCOTTO_TEXT("is under suspicion."),
                CRUSCOTTO_TEXT("Its chain says why, or that of a signal that it needs."));
        if (const Verdict v = verdictOf(s.limits, r.value); v == Verdict::low || v == Verdict::high)
            add(Grade::amber, "plausible",
                v == Verdict::low ? CRUSCOTTO_TEXT("stands below its low limit.")
                                  : CRUSCOTTO_TEXT("stands above its high limit."),
                CRUSCOTTO_TEXT("Is that so, or is the limit another one?"));
    }

    void range(const SignalSpec& s, const Stretch& stretch) {
        if (stretch.raw.size() < 3) return;
        const auto [low, high] = std::ranges::minmax(stretch.raw);
        for (const Stage& stage : s.chain) {
            if (stageKey(stage) != "counts-to-volts") continue;
            const double levels = std::ldexp(1.0, static_cast<int>(stage.number("bits")));
            const double most = std::max(std::fabs(low), std::fabs(high)) / (levels / 2);
            if (high - low <= fewCounts && most < smallShare)
                add(Grade::amber, "range",
                    text(CRUSCOTTO_TEXT("moves by {0} counts, at {1} % of its range."), shortNumber(high - low),
                         threeDigits(100 * most)),
                    CRUSCOTTO_TEXT("Choose a smaller range in the chain's first card."));
            else
                add(Grade::good, "range", text(CRUSCOTTO_TEXT("uses {0} % of its range."), threeDigits(100 * most)));
            return;
        }
    }

    void noise(const SignalSpec& s, const Stretch& stretch) {
        const std::size_t n = std::min(stretch.readings.size(), noiseSamples), from = stretch.readings.size() - n;
        const Steadiness calm =
            steadinessOf(std::span(stretch.readings).subspan(from), std::span(stretch.times).subspan(from));
        if (calm.samples < 3) return;
        add(Grade::good, "noise",
            text(CRUSCOTTO_TEXT("noise {0} {2}, drift {1} {2}."), threeDigits(calm.noise), threeDigits(calm.drift),
                 unitText(s.unit())));
    }

    void calibration(const SignalSpec& s) {
        const Stage* stage = calibrationIn(s.chain);
        if (!stage) return add(Grade::good, "calibration", CRUSCOTTO_TEXT("has no calibration sheet."));
        const CalibrationSheet sheet = sheetOf(*stage);
        const auto days = daysUntilDue(sheet, facts_.today);
        constexpr int soon = 14;
        const Text state = calibrationState(sheet, facts_.today);
        if (days && *days < 0)
            add(Grade::amber, "calibration", state,
                CRUSCOTTO_TEXT("Calibrate it, or say in the run that it was overdue."));
        else if (days && *days <= soon)
            add(Grade::amber, "calibration", text(CRUSCOTTO_TEXT("{0} That is in {1} days."), state.english(), *days),
                CRUSCOTTO_TEXT("Plan its calibration."));
        else
            add(Grade::good, "calibration", state);
    }

    void rate(const Stretch& stretch) {
        if (stretch.times.size() < 2) return;
        const double seconds = (stretch.times.back() - stretch.times.front()).seconds();
        if (!(seconds > 0)) return;
        double longest = 0;
        for (std::size_t i = 1; i < stretch.times.size(); ++i)
            longest = std::max(longest, (stretch.times[i] - stretch.times[i - 1]).seconds());
        const double mean = seconds / static_cast<double>(stretch.times.size() - 1);
        if (longest > 10 * mean && longest > 0.1)
            add(Grade::amber, "rate",
                text(CRUSCOTTO_TEXT("came {0} times a second, with a hole of {1} s."), threeDigits(1 / mean),
                     threeDigits(longest)),
                CRUSCOTTO_TEXT("Look at the device's link and at what else this computer does."));
        else
            add(Grade::good, "rate", text(CRUSCOTTO_TEXT("comes {0} times a second."), threeDigits(1 / mean)));
    }

    void disk() {
        about_.clear();
        name_ = bench_.name;
        if (facts_.lost > 0)
            add(Grade::red, "rate", text(CRUSCOTTO_TEXT("{0} samples never came through since it began."), facts_.lost),
                CRUSCOTTO_TEXT("Read fewer signals, or at a lower rate."));
        if (facts_.freeBytes && facts_.bytesPerSecond > 0) {
            const double left = static_cast<double>(*facts_.freeBytes) / facts_.bytesPerSecond;
            const Text words = text(CRUSCOTTO_TEXT("the disk holds {0} hours of this."), threeDigits(left / hours));
            if (left < hours)
                add(Grade::red, "disk", words, CRUSCOTTO_TEXT("Make room, or record into another folder."));
            else
                add(Grade::good, "disk", words);
        }
        const std::int64_t unixNs = source_.anchor().unixNs;
        constexpr std::int64_t year2020 = 1'577'836'800'000'000'000;
        if (unixNs < year2020)
            add(Grade::red, "time", CRUSCOTTO_TEXT("this computer's clock is years behind."),
                CRUSCOTTO_TEXT("Set it: runs carry its time."));
        else
            add(Grade::good, "time", text(CRUSCOTTO_TEXT("this computer says it is {0}."), facts_.today));
    }

    const Bench& bench_;
    const Source& source_;
    Instant now_;
    Duration span_;
    const PreflightFacts& facts_;
    std::string about_, name_;
    std::vector<PreflightFinding> out_;
};

}  // namespace

const char* gradeWord(PreflightFinding::Grade grade) {
    return grade == Grade::good ? "good" : grade == Grade::amber ? "amber" : "red";
}

std::vector<PreflightFinding> preflight(const Bench& bench, const Source& source, Instant now, Duration span,
                                        const PreflightFacts& facts) {
    return Check(bench, source, now, span, facts).all();
}

PreflightFinding::Grade worstOf(const std::vector<PreflightFinding>& findings) {
    Grade worst = Grade::good;
    for (const PreflightFinding& f : findings) worst = std::max(worst, f.grade);
    return worst;
}

}  // namespace cruscotto
