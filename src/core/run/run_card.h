#pragma once

#include <string>
#include <vector>

#include "core/bench/bench.h"

namespace cruscotto {

/// What a list of runs tells of one of them, read without its samples.
struct RunCard {
    std::string path;
    std::string bench;  ///< its name
    RunNotes notes;
    std::int64_t beganUnixNs = 0;  ///< 0: not known
    Duration length;
    bool closed = false;
    std::size_t signals = 0;
    std::vector<std::string> marks;  ///< their words, in order; the first hundred
    std::size_t markCount = 0;
    std::uint64_t bytes = 0;
    Text problem;  ///< why it cannot be read; all else is empty then

    [[nodiscard]] std::string fileName() const;
    /// Its title, or what its file is called.
    [[nodiscard]] std::string title() const;
    /// "2026-11-29 14:03", the time of day here; empty where it is not known.
    [[nodiscard]] std::string began() const;
};
RunCard readRunCard(const std::string& path);

/// The files that are called .run in a folder and in those below it, the newest changed first, `most` at most.
inline constexpr std::size_t mostRunsListed = 100'000;
std::vector<std::string> runsIn(const std::string& folder, std::size_t most = mostRunsListed);

/// Which runs are looked for. Words are all to be found, in upper or lower case, in a run's file name, title, bench,
/// person, specimen, notes, marks, verdict or date ("2026-11"). Days as 2026-11-29, both included; empty: any.
struct RunSearch {
    std::string words, since, until;
    bool operator==(const RunSearch&) const = default;
};
bool isDay(const std::string& text);
bool found(const RunCard& card, const RunSearch& search);

}  // namespace cruscotto
