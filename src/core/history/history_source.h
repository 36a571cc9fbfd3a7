#pragma once

#include <atomic>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "core/base/guarded.h"
#include "core/chain/chain.h"
#include "core/evidence/evidence_log.h"
#include "core/history/signal_history.h"
#include "core/history/source.h"

namespace cruscotto {

/// The histories of many signals as one Source. The set of signals changes under `mutex_`; everything in a history is
/// read without it.
class HistorySource : public Source {
public:
    void set(const std::string& signal, std::shared_ptr<SignalHistory> history, const ChainSpec& chain,
             ChannelKind kind);
    /// The same, where what was measured before stays the signal's past: its samples come from elsewhere from now on,
    /// on another clock.
    void follow(const std::string& signal, std::shared_ptr<SignalHistory> history, const ChainSpec& chain,
                ChannelKind kind);
    /// Only for stagesAt() and stageMeans().
    void setChain(const std::string& signal, const ChainSpec& chain);
    void remove(const std::string& signal);
    void clear();
    void setExtent(Span extent);
    void setAnchor(WallAnchor anchor);

    [[nodiscard]] Span extent() const override;
    [[nodiscard]] WallAnchor anchor() const override;
    [[nodiscard]] Reading at(const std::string& signal, Instant t) const override;
    [[nodiscard]] std::vector<double> stagesAt(const std::string& signal, Instant t) const override;
    [[nodiscard]] bool stageSeries(const std::string& signal, std::size_t stages, Span span, std::size_t most,
                                   std::vector<double>& values, std::vector<Instant>& times) const override;
    [[nodiscard]] StageMeans stageMeans(const std::string& signal, Span span) const override;
    [[nodiscard]] std::optional<Instant> lastChange(const std::string& signal, Instant t) const override;
    int columns(const std::string& signal, const ColumnRequest& request, std::vector<Column>& out) const override;
    bool points(const std::string& signal, Span span, std::size_t most, std::vector<Point>& out) const override;
    [[nodiscard]] StretchSummary summaryOver(const std::string& signal, Span span) const override;
    [[nodiscard]] std::vector<Evidence> evidenceAt(const std::string& signal, Instant t) const override {
        return evidence_.at(signal, t);
    }
    [[nodiscard]] EvidenceLog& evidence() { return evidence_; }

protected:
    struct Entry {
        std::shared_ptr<SignalHistory> history;
        ChainSpec chain;
        ChannelKind kind = ChannelKind::analogInput;
        std::vector<std::shared_ptr<SignalHistory>> earlier{};  ///< oldest first
        /// The one that knows what was at t.
        [[nodiscard]] const SignalHistory* at(Instant t) const;
    };
    /// Never null; one without a history where there is none. What it holds does not change any more.
    [[nodiscard]] std::shared_ptr<const Entry> find(const std::string& signal) const;

    /// An evaluator of the entry's chain.
    [[nodiscard]] Result<ChainEvaluator> evaluatorOf(const Entry& entry) const;
    /// What each signal that the chain needs read at these times.
    [[nodiscard]] std::vector<std::vector<double>> neededAt(const Entry& entry,
                                                            const std::vector<Instant>& times) const;

private:
    EvidenceLog evidence_;
    mutable Mutex mutex_;
    std::unordered_map<std::string, std::shared_ptr<const Entry>> entries_ GUARDED_BY(mutex_);
    WallAnchor anchor_ GUARDED_BY(mutex_);
    std::atomic<std::int64_t> extentFrom_{0}, extentTo_{0};
};

}  // namespace cruscotto
