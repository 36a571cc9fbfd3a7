#include "core/evidence/evidence_log.h"

#include <algorithm>

namespace cruscotto {

void EvidenceLog::set(const std::string& signal, Instant at, const std::vector<Evidence>& now) {
    const Lock lock(mutex_);
    const auto known = held_.find(signal);
    if (known == held_.end() && now.empty()) return;
    auto& all = held_[signal];
    std::vector<Evidence> fresh = now;
    for (Held& h : all) {
        if (h.until) continue;
        const auto same = std::ranges::find(fresh, h.evidence.doubt, &Evidence::doubt);
        if (same == fresh.end()) {
            h.until = at;
            continue;
        }
        h.evidence.grounds = same->grounds;
        h.evidence.sure = same->sure;
        fresh.erase(same);
    }
    for (Evidence& e : fresh) all.push_back({std::move(e), {}});
    while (all.size() > mostEach) all.pop_front();
}

void EvidenceLog::begins(const NotedEvidence& noted) {
    const Lock lock(mutex_);
    held_[noted.signal].push_back({noted.evidence, {}});
}

void EvidenceLog::ends(const std::string& signal, Doubt doubt, Instant at) {
    const Lock lock(mutex_);
    for (Held& h : held_[signal])
        if (h.evidence.doubt == doubt && !h.until) h.until = at;
}

void EvidenceLog::remove(const std::string& signal) {
    const Lock lock(mutex_);
    held_.erase(signal);
}

std::vector<Evidence> EvidenceLog::at(const std::string& signal, Instant t) const {
    const Lock lock(mutex_);
    const auto it = held_.find(signal);
    std::vector<Evidence> out;
    if (it == held_.end()) return out;
    for (const Held& h : it->second)
        if (h.evidence.since <= t && (!h.until || *h.until > t)) out.push_back(h.evidence);
    std::ranges::stable_sort(out, {}, &Evidence::doubt);
    return out;
}

}  // namespace cruscotto
