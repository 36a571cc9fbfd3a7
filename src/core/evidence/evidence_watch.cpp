#include "core/evidence/evidence_watch.h"

#include <algorithm>
#include <cmath>

#include "core/analysis/straight_line.h"
#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {

constexpr int highestScore = 3;  // more looks than this do not make it slower to go away
constexpr std::size_t rememberLooks = 8;
constexpr std::size_t leastToStand = 50;
constexpr std::size_t jumpLooks = 4, leastJumps = 6;
constexpr int coarseLooks = 20;
constexpr double coarseCounts = 8, coarseShare = 0.02;
constexpr std::size_t driftLooks = 120;  // seconds
constexpr double secondsAnHour = 3600;
constexpr Duration bounceStands = milliseconds(30'000);

}  // namespace

std::string EvidenceWatch::worth(double raw) const {
    return threeDigits(raw * worth_.perStep + worth_.offset) + " " +
           (worth_.unit.empty() ? std::string("counts") : unitText(worth_.unit));
}
std::string EvidenceWatch::worthOfDifference(double raw) const {
    return threeDigits(raw * std::fabs(worth_.perStep)) + " " +
           (worth_.unit.empty() ? std::string("counts") : unitText(worth_.unit));
}

void EvidenceWatch::beginLook(Instant now) {
    at_ = now;
    seen_.fill(false);
}

void EvidenceWatch::found(Doubt doubt, Text grounds, double sure, int looks) {
    const auto i = static_cast<std::size_t>(doubt);
    seen_[i] = true;
    Standing& s = standing_[i];
    s.score = std::min(highestScore, s.score + 1);
    if (!s.now && s.score < looks) return;
    s.now = Evidence{doubt, std::move(grounds), s.now ? s.now->since : at_, sure};
}

void EvidenceWatch::endLook() {
    for (std::size_t i = 0; i < standing_.size(); ++i) {
        Standing& s = standing_[i];
        const auto doubt = static_cast<Doubt>(i);
        if (seen_[i] || doubt == Doubt::notAsTold) continue;
        if (doubt == Doubt::bounces && s.now && at_ - bouncedAt_ < bounceStands) continue;
        // What has been shown to be gone is gone; what is judged by chance needs two looks.
        const bool byChance = doubt == Doubt::notConnected || doubt == Doubt::flatTops || doubt == Doubt::hums ||
                              doubt == Doubt::tooSlow || doubt == Doubt::sameAsAnother;
        s.score = byChance ? std::max(0, std::min(s.score - 1, 1)) : 0;
        if (s.score > 0 || !s.now) continue;
        s.now.reset();
    }
    evidence_.clear();
    // That an open wire hums is among the grounds for its being open; what stands at a rail leaps to get there.
    const auto stands = [&](Doubt d) { return standing_[static_cast<std::size_t>(d)].now.has_value(); };
    for (const Standing& s : standing_) {
        if (!s.now || (s.now->doubt == Doubt::hums && stands(Doubt::notConnected))) continue;
        if (s.now->doubt == Doubt::tooSlow && stands(Doubt::flatTops)) continue;
        evidence_.push_back(*s.now);
    }
    constexpr Duration probeStands = milliseconds(60'000);
    if (probed_ && at_ - probed_->since > probeStands) probed_.reset();
    if (probed_) {
        std::erase_if(evidence_, [](const Evidence& e) { return e.doubt == Doubt::notConnected; });
        evidence_.insert(evidence_.begin(), *probed_);
    }
    suspect_ = anySuspicion(evidence_);
}

void EvidenceWatch::forget() {
    *this = EvidenceWatch(worth_);
}

void EvidenceWatch::analog(const Stretch& stretch, const Neighbours& neighbours) {
    if (stretch.newest.size() < 16) return;
    const signs::Movement movement = signs::movementOf(stretch.newest);
    stuck(stretch, movement);
    jumps(stretch, movement);
    coarse(movement);
    const bool moves = movement.extent() > 32 * worth_.step && movement.extent() > 0;
    if (moves && movement.leapShare > 0.7 &&
        static_cast<double>(movement.leaps) > 0.05 * static_cast<double>(stretch.newest.size()))
        found(Doubt::tooSlow,
              text(CRUSCOTTO_TEXT("{0} % of its change lies between two samples."),
                   threeDigits(100 * movement.leapShare)),
              0.8, 3);
    flatTops(stretch);
    sameAsBefore(stretch);
    mains(stretch, neighbours);
}

void EvidenceWatch::flatTops(const Stretch& stretch) {
    auto flat = signs::flatTopsOf(stretch.newest, worth_.step);
    double length = static_cast<double>(stretch.newest.size()) / stretch.rateHz;
    if (!flat && stretch.thinned.size() != stretch.newest.size()) {  // of what is slow
        flat = signs::flatTopsOf(stretch.thinned, worth_.step);
        length = static_cast<double>(stretch.thinned.size()) / stretch.thinnedHz;
        if (!flat && stretch.dense && signs::standsAtAnEnd(stretch.thinned, worth_.step)) {
            std::vector<double> all;
            const double rate = stretch.dense(1, all);
            flat = signs::flatTopsOf(all, worth_.step);
            length = static_cast<double>(all.size()) / rate;
        }
    }
    if (!flat) return;
    found(Doubt::flatTops,
          text(CRUSCOTTO_TEXT("stands at {0} again and again: {1} % of the time, {2} times a second."),
               worth(flat->level), threeDigits(100 * flat->share),
               threeDigits(static_cast<double>(flat->count) / length)),
          0.95, 2);
}

void EvidenceWatch::sameAsBefore(const Stretch& stretch) {
    const std::size_t n = std::min(stretch.before.size(), stretch.newest.size());
    constexpr std::size_t least = 128;
    constexpr double same = 0.99, mostGain = 1.05;
    if (n < least) return;
    std::vector<double> own, other;
    for (std::size_t i = 1; i < n; ++i) {
        own.push_back(stretch.newest[stretch.newest.size() - n + i] -
                      stretch.newest[stretch.newest.size() - n + i - 1]);
        other.push_back(stretch.before[stretch.before.size() - n + i] -
                        stretch.before[stretch.before.size() - n + i - 1]);
    }
    // From one sample to the next: two sensors on one thing have noises of their own.
    const double together = signs::correlation(own, other);
    if (together < same) return;
    double squaresOwn = 0, squaresOther = 0;
    for (std::size_t i = 0; i < own.size(); ++i) squaresOwn += own[i] * own[i], squaresOther += other[i] * other[i];
    if (squaresOwn > mostGain * mostGain * squaresOther) return;
    found(Doubt::sameAsAnother,
          text(CRUSCOTTO_TEXT("{0} of how it moves is the same as in {1}, which is converted before it."),
               threeDigits(together), stretch.beforeName),
          0.6, 3);
}

void EvidenceWatch::stuck(const Stretch& stretch, const signs::Movement& movement) {
    // without what was looked at before
    const auto fresh = stretch.newest.subspan(std::min(2 * signs::jumpNeighbours, stretch.newest.size() / 2));
    const auto [low, high] = std::ranges::minmax(fresh);
    if (low == high) {
        const double value = stretch.newest.back();
        if (stoodAt_ != value) {
            stoodAt_ = value;
            stoodSince_ = at_ - seconds(static_cast<double>(stretch.newest.size()) / std::max(stretch.rateHz, 1e-3));
            stoodLooks_ = 0;
        }
        ++stoodLooks_;
        // A look may hold the moment at which it came to stand.
        const auto lively = static_cast<std::size_t>(std::ranges::count(lively_, true));
        const bool moved = lively_.size() >= rememberLooks / 2 && 4 * lively >= 3 * lively_.size();
        if (moved && stoodLooks_ >= 2 && stretch.newest.size() >= leastToStand)
            found(Doubt::stuck,
                  text(CRUSCOTTO_TEXT(
                           "has stood at {0} for {1} s, to the last count, where it moved all the time before."),
                       worth(value), threeDigits((at_ - stoodSince_).seconds())),
                  0.8);
        return;
    }
    // What has stood and moved again by itself does so now and then.
    if (stoodAt_) lively_.clear();
    stoodAt_.reset();
    // As noise does, with its tails: a fast wave goes to and fro as well.
    // A hundred samples of normal noise span four standard deviations in nine looks of ten, 3.5 in 99 of a hundred.
    constexpr std::size_t few = 256;
    const double tails = stretch.newest.size() < few ? 3.5 : 4;
    const bool noisy = movement.noise > 0 && movement.extent() > tails * movement.noise;
    lively_.push_back(noisy && movement.changes > 0.25 && movement.reversals > 0.3);
    if (lively_.size() > rememberLooks) lively_.pop_front();
}

void EvidenceWatch::jumps(const Stretch& stretch, const signs::Movement& movement) {
    std::vector<std::pair<std::uint64_t, double>> now;
    double size = 0;
    const std::uint64_t first = stretch.end - stretch.newest.size();
    for (const signs::Jump& j : signs::jumpsIn(stretch.newest, movement.noise, worth_.step)) {
        if (first + j.at < jumpsUntil_) continue;
        now.emplace_back(first + j.at, j.to);
        size = std::max(size, std::fabs(j.to - j.from));
    }
    // the last ones have no neighbours yet
    jumpsUntil_ = stretch.end - signs::jumpNeighbours;
    const bool any = !now.empty();
    jumped_.push_back(std::move(now));
    if (jumped_.size() > jumpLooks) jumped_.pop_front();
    if (std::ranges::all_of(jumped_, [](const auto& look) { return look.empty(); })) return;
    std::vector<std::pair<std::uint64_t, double>> all;
    for (const auto& look : jumped_) all.insert(all.end(), look.begin(), look.end());
    const bool standing = standing_[static_cast<std::size_t>(Doubt::jumps)].now.has_value();
    if (all.size() < (standing ? 1 : leastJumps)) return;
    if (standing && !any && jumped_.size() > 1 && jumped_[jumped_.size() - 2].empty()) return;
    if (static_cast<double>(all.size()) > 0.02 * static_cast<double>(stretch.newest.size()) * jumpLooks) return;
    // A loose contact jumps to where an open one stands, and at no regular pace; what is hit jumps by any amount.
    std::vector<double> targets, intervals;
    for (std::size_t i = 0; i < all.size(); ++i) {
        targets.push_back(all[i].second);
        if (i > 0) intervals.push_back(static_cast<double>(all[i].first - all[i - 1].first));
    }
    const double middle = medianOf(targets);
    if (!standing) {
        const double near = std::max(0.01 * size, 2 * worth_.step);
        const auto together = std::ranges::count_if(targets, [&](double t) { return std::fabs(t - middle) <= near; });
        if (static_cast<double>(together) < 0.85 * static_cast<double>(targets.size())) return;
        const double shortest = std::max(1.0, *std::ranges::min_element(intervals));
        const bool regular = std::ranges::all_of(
            intervals, [&](double i) { return std::fabs(i / shortest - std::round(i / shortest)) < 0.1; });
        if (regular) return;
    }
    found(Doubt::jumps,
          text(CRUSCOTTO_TEXT("{0} single samples of the last {1} s lie far off, about {2}."), all.size(), jumpLooks,
               worth(middle)),
          0.85);
}

void EvidenceWatch::coarse(const signs::Movement& movement) {
    lowest_ = looks_ == 0 ? movement.low : std::min(lowest_, movement.low);
    highest_ = looks_ == 0 ? movement.high : std::max(highest_, movement.high);
    ++looks_;
    if (!(worth_.step > 0) || !(worth_.fullScale > 0) || looks_ < coarseLooks) return;
    const double counts = (highest_ - lowest_) / worth_.step;
    const double share = std::max(std::fabs(lowest_), std::fabs(highest_)) / worth_.fullScale;
    if (counts < 1 || counts > coarseCounts || share > coarseShare) return;
    found(Doubt::tooCoarse,
          text(CRUSCOTTO_TEXT("has moved over {0} counts, at {1} % of its range."), shortNumber(counts),
               threeDigits(100 * share)),
          0.9);
}

void EvidenceWatch::mains(const Stretch& stretch, const Neighbours& neighbours) {
    const auto line = signs::mainsIn(stretch.thinned, stretch.thinnedHz, worth_.step);
    if (!line) return;
    const double noise = signs::movementOf(line->rest).noise;
    if (line->share > 0.25 || line->amplitude > 5 * noise)
        found(Doubt::hums,
              text(CRUSCOTTO_TEXT("{0} Hz of {1}: {2} % of what moves in it."), shortNumber(line->hz),
                   worthOfDifference(line->amplitude), threeDigits(100 * line->share)),
              0.9, 2);
    const double hum = line->amplitude / std::sqrt(2.0);
    if (hum < 4 * noise || line->amplitude < 3 * worth_.step) return;
    std::string with;
    double most = 0.3;
    std::vector<double> rest = line->rest, same;
    for (auto& [name, samples] : neighbours()) {
        auto other = signs::mainsIn(samples, stretch.thinnedHz, 0);
        std::vector<double>& beside = other ? other->rest : samples;
        const double part = std::fabs(signs::correlation(line->rest, beside));
        if (part > most) most = part, with = name, same = std::move(beside);
    }
    if (!same.empty()) signs::takeAway(rest, same);
    // A source that hums stands still otherwise, or moves smoothly: an open wire walks about as well.
    const auto wander = signs::wanderOf(rest, stretch.thinnedHz, line->hz);
    if (!wander || wander->exponent < 0.45 || wander->exponent > 1.6 || wander->deviation < 0.1 * hum) return;
    if (with.empty())
        found(Doubt::notConnected,
              text(CRUSCOTTO_TEXT("hums with {0} Hz of {1} and wanders by {2}, as no source does."),
                   shortNumber(line->hz), worthOfDifference(line->amplitude), worthOfDifference(wander->deviation)),
              0.85, 2);
    else
        found(
            Doubt::notConnected,
            text(CRUSCOTTO_TEXT("hums with {0} Hz of {1}, wanders by {2}, and {3} of the rest is the same as in {4}."),
                 shortNumber(line->hz), worthOfDifference(line->amplitude), worthOfDifference(wander->deviation),
                 threeDigits(most), with),
            0.95, 2);
}

void EvidenceWatch::contact(const Stretch& stretch) {
    // It bounces when it changes, and has changed afterwards: few samples tell that.
    std::vector<double> all(stretch.newest.begin(), stretch.newest.end());
    const auto differ = [](double a, double b) { return (a != 0) != (b != 0); };
    if (std::ranges::adjacent_find(all, differ) == all.end()) return;
    const double rate = stretch.dense ? stretch.dense(contactSeconds, all) : stretch.rateHz;
    const double perSample = stretch.rateHz / rate;
    const double first = static_cast<double>(stretch.end) - static_cast<double>(all.size()) * perSample;
    const auto numberOf = [&](std::size_t i) {
        return static_cast<std::uint64_t>(std::max(0.0, first + static_cast<double>(i) * perSample));
    };
    for (const signs::Bounce& b : signs::bouncesIn(all, rate)) {
        if (numberOf(b.begin) < bounceUntil_) continue;
        bounceUntil_ = numberOf(b.end) + static_cast<std::uint64_t>(std::ceil(perSample)) + 1;
        bouncedAt_ = at_;
        found(Doubt::bounces,
              text(CRUSCOTTO_TEXT("changed {0} times within {1} ms when it changed once."), b.changes,
                   threeDigits(1000 * static_cast<double>(b.end - b.begin) / rate)),
              0.9);
    }
}

void EvidenceWatch::reading(double value, Quality worst, double raw, const std::string& unit) {
    if (worst == Quality::openSensor)
        found(Doubt::openSensor,
              text(CRUSCOTTO_TEXT("{0} comes from the terminal, which no whole sensor gives."), worth(raw)), 0.95);
    else if (worst == Quality::clipped)
        found(Doubt::clipped, text(CRUSCOTTO_TEXT("{0} is an end of the converter's range."), worth(raw)), 1);
    else if (worst == Quality::outOfRange)
        found(Doubt::outOfRange,
              text(CRUSCOTTO_TEXT("{0} from the terminal lies beyond what its chain knows."), worth(raw)), 0.9);
    if (!std::isfinite(value)) {
        readings_.clear();
        return;
    }
    readings_.push_back(value);
    if (readings_.size() > driftLooks) readings_.pop_front();
    if (readings_.size() < driftLooks) return;
    const std::vector<double> y(readings_.begin(), readings_.end());
    const StraightLine line = straightLine(y);
    const auto n = static_cast<double>(y.size());
    const double risen = std::fabs(line.slope) * n, scatter = std::sqrt(line.rest / n);
    if (line.explained() < 0.9 || risen < 8 * scatter) return;
    found(Doubt::drifts,
          text(CRUSCOTTO_TEXT("by {0}{1} {2} an hour, over the last {3} s."), line.slope > 0 ? "+" : "-",
               threeDigits(std::fabs(line.slope) * secondsAnHour / every.seconds()), unitText(unit), driftLooks),
          0.8);
}

void EvidenceWatch::pair(const Pair& pair) {
    const double apart = std::fabs(pair.own - pair.other);
    if (!(apart > pair.within)) {
        apartSince_.erase(pair.name);
        return;
    }
    const Instant since = apartSince_.try_emplace(pair.name, at_).first->second;
    if ((at_ - since).seconds() < pair.forSeconds) return;
    found(Doubt::disagrees,
          text(CRUSCOTTO_TEXT("is {0} {2} away from {3}; {1} {2} are allowed."), threeDigits(apart),
               threeDigits(pair.within), unitText(pair.unit), pair.name),
          0.9);
}

void EvidenceWatch::probed(Instant now, double volts, double ohms, double before, double with) {
    const auto inVolts = [&](double raw) { return raw * worth_.perStep + worth_.offset; };
    // A source of R behind a load of L moves by R / (R + L) of the way.
    const double way = (inVolts(with) - inVolts(before)) / (volts - inVolts(before));
    constexpr double open = 0.8, held = 0.5;
    const bool atEnd = worth_.fullScale > 0 && std::fabs(with) >= 0.98 * worth_.fullScale;
    const std::string load = threeDigits(ohms / 1000) + " kΩ";
    double source = std::max(0.0, ohms * way / (1 - way));
    if (source > 1) {  // two figures of it are known, at best
        const double last = std::pow(10, std::floor(std::log10(source)) - 1);
        source = std::round(source / last) * last;
    }
    if (atEnd || way > open)
        probed_ = Evidence{Doubt::notConnected,
                           text(CRUSCOTTO_TEXT("pulled to {0} V through {1} it went along to {2}: nothing holds it."),
                                shortNumber(volts), load, worth(with)),
                           now, 1};
    else
        probed_ = Evidence{Doubt::connected,
                           text(CRUSCOTTO_TEXT("pulled to {0} V through {1} it moved by {2}: a source of about {3} Ω "
                                               "holds it."),
                                shortNumber(volts), load, worthOfDifference(with - before), shortNumber(source)),
                           now, way < held ? 1 : 0.6};
    at_ = now;
    seen_.fill(true);
    endLook();
}

void EvidenceWatch::told(Instant now, std::optional<double> value, double mean, double noise, double allowed,
                         const std::string& unit) {
    Standing& s = standing_[static_cast<std::size_t>(Doubt::notAsTold)];
    s.now.reset();
    if (value && std::fabs(mean - *value) > std::max(allowed, 3 * noise))
        s.now = Evidence{Doubt::notAsTold,
                         text(CRUSCOTTO_TEXT("reads {0} {2} where {1} {2} was said to be."), threeDigits(mean),
                              threeDigits(*value), unitText(unit)),
                         now, 0.95};
    at_ = now;
    seen_.fill(true);
    endLook();
}

}  // namespace cruscotto
