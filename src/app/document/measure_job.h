#pragma once

#include <atomic>
#include <future>
#include <memory>
#include <optional>
#include <string>

#include "core/base/progress.h"
#include "core/bench/stretch_measures.h"

namespace cruscotto {

/// Measures a stretch on a thread of its own, one at a time; what is asked for meanwhile is begun behind it, the newest
/// only. The source must be there until stop() has returned. Screen thread only.
class MeasureJob {
public:
    struct Question {
        std::string signal, against;
        Span span;
        bool operator==(const Question&) const = default;
    };
    struct Answer {
        Question question;
        Result<StretchMeasures> measures;
    };
    ~MeasureJob() { stop(); }

    void ask(const Bench& bench, const Source& source, const Question& question);
    /// The next question begins when the one before it has ended.
    void poll();
    [[nodiscard]] bool working() const { return work_.valid(); }
    [[nodiscard]] int percent() const { return percent_; }
    /// Ends what is going on, without an answer.
    void cancel();
    /// The newest answer, once.
    std::optional<Answer> take();
    /// cancel(), and waits for its end.
    void stop();

private:
    class Watch : public Progress {
    public:
        explicit Watch(std::atomic<int>& percent) : percent_(percent) {}
        void advance(std::uint64_t done, std::uint64_t total) override;
        [[nodiscard]] bool cancelled() const override { return cancelled_; }
        std::atomic<bool> cancelled_{false};

    private:
        std::atomic<int>& percent_;
    };
    struct Next {
        Bench bench;
        const Source* source;
        Question question;
    };
    void begin(Next next);

    std::atomic<int> percent_{0};
    std::unique_ptr<Watch> watch_;
    std::future<Answer> work_;
    std::optional<Next> next_;
    std::optional<Answer> answer_;
};

}  // namespace cruscotto
