#pragma once

#include <atomic>
#include <chrono>
#include <functional>
#include <future>
#include <memory>
#include <optional>
#include <utility>

#include "core/base/progress.h"

namespace cruscotto {

/// Works on a thread of its own, one piece of work at a time; what is asked for meanwhile is begun behind it, the
/// newest only. What the work reads must be there until stop() has returned. Screen thread only.
template <class Answer>
class NewestJob {
public:
    using Work = std::function<Answer(Progress&)>;
    NewestJob() = default;
    ~NewestJob() { stop(); }
    NewestJob(const NewestJob&) = delete;
    NewestJob& operator=(const NewestJob&) = delete;

    void ask(Work work) {
        next_ = std::move(work);
        poll();
    }
    /// The next piece begins when the one before it has ended.
    void poll() {
        if (work_.valid() && work_.wait_for(std::chrono::seconds(0)) == std::future_status::ready) {
            Answer answer = work_.get();
            if (!watch_->cancelled()) answer_ = std::move(answer);
        }
        if (work_.valid() || !next_) return;
        percent_ = 0;
        watch_ = std::make_unique<Watch>(percent_);
        work_ = std::async(std::launch::async,
                           [work = std::move(*next_), watch = watch_.get()]() mutable { return work(*watch); });
        next_.reset();
    }
    [[nodiscard]] bool working() const { return work_.valid(); }
    [[nodiscard]] int percent() const { return percent_; }
    /// Ends what is going on, without an answer.
    void cancel() {
        next_.reset();
        if (work_.valid()) watch_->cancelled_ = true;
    }
    /// The newest answer, once.
    std::optional<Answer> take() {
        poll();
        return std::exchange(answer_, std::nullopt);
    }
    /// cancel(), and waits for its end.
    void stop() {
        cancel();
        if (work_.valid()) work_.wait();
        work_ = {};
        answer_.reset();
    }

private:
    class Watch : public Progress {
    public:
        explicit Watch(std::atomic<int>& percent) : percent_(percent) {}
        void advance(std::uint64_t done, std::uint64_t total) override {
            if (total > 0) percent_ = static_cast<int>(100 * done / total);
        }
        [[nodiscard]] bool cancelled() const override { return cancelled_; }
        std::atomic<bool> cancelled_{false};

    private:
        std::atomic<int>& percent_;
    };
    std::atomic<int> percent_{0};
    std::unique_ptr<Watch> watch_;
    std::future<Answer> work_;
    std::optional<Work> next_;
    std::optional<Answer> answer_;
};

}  // namespace cruscotto
