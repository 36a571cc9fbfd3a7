#include "app/document/measure_job.h"

#include <chrono>

namespace cruscotto {

void MeasureJob::Watch::advance(std::uint64_t done, std::uint64_t total) {
    if (total > 0) percent_ = static_cast<int>(100 * done / total);
}

void MeasureJob::ask(const Bench& bench, const Source& source, const Question& question) {
    next_ = Next{bench, &source, question};
    poll();
}

void MeasureJob::begin(Next next) {
    percent_ = 0;
    watch_ = std::make_unique<Watch>(percent_);
    work_ = std::async(std::launch::async, [next = std::move(next), watch = watch_.get()] {
        const Question& q = next.question;
        return Answer{q, measuresOver(next.bench, *next.source, q.signal, q.against, q.span, watch)};
    });
}

void MeasureJob::poll() {
    if (work_.valid() && work_.wait_for(std::chrono::seconds(0)) == std::future_status::ready) {
        Answer answer = work_.get();
        if (!watch_->cancelled()) answer_ = std::move(answer);
    }
    if (work_.valid() || !next_) return;
    begin(std::move(*next_));
    next_.reset();
}

void MeasureJob::cancel() {
    next_.reset();
    if (work_.valid()) watch_->cancelled_ = true;
}

std::optional<MeasureJob::Answer> MeasureJob::take() {
    poll();
    return std::exchange(answer_, std::nullopt);
}

void MeasureJob::stop() {
    cancel();
    if (work_.valid()) work_.wait();
    work_ = {};
    answer_.reset();
}

}  // namespace cruscotto
