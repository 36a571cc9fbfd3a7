#include "engine/output_arbiter.h"

#include <algorithm>

namespace cruscotto {

std::optional<double> OutputArbiter::ask(const std::string& output, OutputHolder holder, double value, Text why) {
    outputs_[output].at(static_cast<std::size_t>(holder)) = Wish{value, std::move(why)};
    const auto now = state(output);
    return now->holder == holder ? std::optional(value) : std::nullopt;
}

std::optional<double> OutputArbiter::release(const std::string& output, OutputHolder holder) {
    const auto before = state(output);
    if (!before) return std::nullopt;
    outputs_[output].at(static_cast<std::size_t>(holder)).reset();
    const auto now = state(output);
    return now && now->value != before->value ? std::optional(now->value) : std::nullopt;
}

void OutputArbiter::restart(const std::string& output, double value) {
    Wishes& wishes = outputs_[output] = {};
    wishes.front() = Wish{value, {}};
}

std::optional<OutputState> OutputArbiter::state(const std::string& output) const {
    const auto it = outputs_.find(output);
    if (it == outputs_.end()) return std::nullopt;
    const Wishes& wishes = it->second;
    const auto asked = [](const std::optional<Wish>& w) { return w.has_value(); };
    const auto holds = std::find_if(wishes.rbegin(), wishes.rend(), asked);
    if (holds == wishes.rend()) return std::nullopt;
    const auto next = std::find_if(holds + 1, wishes.rend(), asked);
    const bool other = next != wishes.rend() && (*next)->value != (*holds)->value;
    return OutputState{(*holds)->value, static_cast<OutputHolder>(wishes.rend() - holds - 1), (*holds)->why,
                       other ? std::optional((*next)->value) : std::nullopt};
}

bool OutputArbiter::asks(const std::string& output, OutputHolder holder) const {
    const auto it = outputs_.find(output);
    return it != outputs_.end() && it->second.at(static_cast<std::size_t>(holder)).has_value();
}

}  // namespace cruscotto
