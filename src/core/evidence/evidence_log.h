#pragma once

#include <deque>
#include <map>
#include <optional>

#include "core/base/guarded.h"
#include "core/evidence/evidence.h"

namespace cruscotto {

/// What was to be said of signals, and when. Any thread.
class EvidenceLog {
public:
    /// From `at` on exactly this is to be said of the signal.
    void set(const std::string& signal, Instant at, const std::vector<Evidence>& now);
    /// As a run's events have it: something began, or the newest of its kind ended.
    void begins(const NotedEvidence& noted);
    void ends(const std::string& signal, Doubt doubt, Instant at);
    void remove(const std::string& signal);
    [[nodiscard]] std::vector<Evidence> at(const std::string& signal, Instant t) const;

private:
    static constexpr std::size_t mostEach = 500;  ///< of a signal; the oldest go
    struct Held {
        Evidence evidence;
        std::optional<Instant> until;
    };
    mutable Mutex mutex_;
    std::map<std::string, std::deque<Held>> held_ GUARDED_BY(mutex_);
};

}  // namespace cruscotto
