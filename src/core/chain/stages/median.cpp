#include <algorithm>
#include <cmath>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Median : public StageProcessor {
public:
    explicit Median(std::size_t n) : size_(n) { recent_.reserve(n); }
    void run(Stretch& s) override {
        for (double& x : s.values) {
            if (recent_.size() < size_) {
                recent_.push_back(x);
            } else {
                remove(std::exchange(recent_[next_], x));
                next_ = next_ + 1 == size_ ? 0 : next_ + 1;
            }
            if (!std::isnan(x)) sorted_.insert(std::ranges::upper_bound(sorted_, x), x);
            x = middle();
        }
    }
    void reset() override {
        recent_.clear();
        sorted_.clear();
        next_ = 0;
    }

private:
    void remove(double old) {
        if (!std::isnan(old)) sorted_.erase(std::ranges::lower_bound(sorted_, old));
    }
    double middle() const {
        const std::size_t n = sorted_.size();
        if (n == 0) return std::numeric_limits<double>::quiet_NaN();
        return n % 2 ? sorted_[n / 2] : sorted_[n / 2 - 1] / 2 + sorted_[n / 2] / 2;
    }

    std::size_t size_, next_ = 0;
    std::vector<double> recent_;  ///< a ring, the oldest at next_ once it is full
    std::vector<double> sorted_;  ///< those of them that are numbers
};

}  // namespace

/// The middle one of the last n samples in the order of their size: a single spike leaves nothing behind, an edge stays
/// an edge. Of an even number of samples (right after the start, a gap, or where some are no numbers) the mean of the
/// two in the middle.
const StageKind& median() {
    static const StageKind kind{
        .key = "median",
        .title = CRUSCOTTO_TEXT("Median"),
        .group = StageGroup::filter,
        .fields = {{.key = "samples",
                    .title = CRUSCOTTO_TEXT("Samples"),
                    .type = StageField::Type::whole,
                    .first = 5.0,
                    .low = 3,
                    .high = 999}},
        .sentence =
            [](const Stage& s) {
                const auto n = static_cast<int>(s.number("samples"));
                return text(CRUSCOTTO_TEXT("The middle one of the last {0} samples: spikes of up to {1} samples go."),
                            n, (n - 1) / 2);
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Median>(static_cast<std::size_t>(s.number("samples")));
        },
        .memory = [](const Stage& s) -> StageMemory {
            const auto n = static_cast<std::size_t>(s.number("samples"));
            return {.held = 2 * n, .samples = n};
        },
        .suits = isAnalog,
        .smooths = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
