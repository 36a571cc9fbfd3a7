#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/history/source.h"

namespace cruscotto {

/// What a picture stands still on: one signal going through a level, one way.
struct HoldOn {
    std::string signal;
    std::optional<double> level = {};  ///< nothing: the middle of what is seen of it
    bool rises = true;
};
struct HeldAt {
    Instant at;        ///< between two samples, by the straight line between them
    double level = 0;  ///< that it went through
};
/// The last times that it did so and after which `after` of time is there, up to `end`; `most` at most, the newest
/// first. Noise about the level is none: it must have been a tenth of its extent away on the
/// other side before, and six times its noise. Looked
/// for in as much of the past as holds a few `window`s, further back where there are fewer, a minute at most. Empty:
/// there was none, or no signal, or it moves too fast for what is still in memory.
std::vector<HeldAt> heldAt(const Source& source, const Bench& bench, const HoldOn& on, Instant end, Duration after,
                           Duration window, std::size_t most = 1);

/// The readings of a picture of `n` places, `width` apart, from `from` on: by straight lines between readings, or by
/// the means of what lies in each place. NaN where nothing was read.
std::vector<double> pictureOf(const Source& source, const SignalSpec& signal, Instant from, Duration width,
                              std::size_t n);

/// Of several pictures of one length, place by place.
struct PictureSpread {
    std::vector<double> mean, low, high;
};
PictureSpread spreadOf(const std::vector<std::vector<double>>& pictures);

}  // namespace cruscotto
