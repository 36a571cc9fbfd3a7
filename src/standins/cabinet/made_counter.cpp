#include "standins/cabinet/made_counter.h"

#include <algorithm>
#include <cerrno>
#include <cstring>

namespace cruscotto {

void MadeCounter::happens(unsigned count, std::uint8_t event, std::uint64_t value, std::int64_t stampNs) {
    if (!on_ || holder_ < 0) return;
    for (const counter_watch& w : asked_) {
        if (w.component.parent != count || w.event != event) continue;
        counter_event e{};
        e.timestamp = static_cast<std::uint64_t>(stampNs);
        e.watch = w;
        if (faults_.unreadable)
            e.status = EIO;
        else
            e.value = value;
        (void)LocalNode::send(holder_, &e, sizeof e);
    }
}

int MadeCounter::open(int holder) {
    if (faults_.forbidden) return EACCES;
    if (faults_.busy || holder_ >= 0) return EBUSY;
    holder_ = holder;
    on_ = false;
    asked_.clear();
    return 0;
}

void MadeCounter::closed(int holder) {
    if (holder == holder_) holder_ = -1;
}

NodeTalk::Answer MadeCounter::control(int, std::uint64_t request, std::string& argument) {
    if (request == COUNTER_ADD_WATCH_IOCTL && argument.size() == sizeof(counter_watch)) {
        counter_watch w{};
        std::memcpy(&w, argument.data(), sizeof w);
        const bool known = w.component.type == COUNTER_COMPONENT_COUNT && w.component.scope == COUNTER_SCOPE_COUNT &&
                           w.channel == 0 &&
                           ((w.component.parent == 0 &&
                             (w.event == COUNTER_EVENT_CHANGE_OF_STATE || w.event == COUNTER_EVENT_THRESHOLD)) ||
                            (w.component.parent == 1 && w.event == COUNTER_EVENT_INDEX));
        if (!known) return {-EINVAL};
        asked_.push_back(w);
        return {0};
    }
    if (request == COUNTER_ENABLE_EVENTS_IOCTL) {
        on_ = true;
        return {0};
    }
    if (request == COUNTER_DISABLE_EVENTS_IOCTL) {
        on_ = false;
        asked_.clear();
        return {0};
    }
    return {-ENOTTY};
}

}  // namespace cruscotto
