#include "standins/cabinet/made_chip.h"

#include <algorithm>
#include <cerrno>
#include <cstring>

namespace cruscotto {

namespace {

constexpr std::array<const char*, MadeChip::lines> names{"guard-door", "shaft-mark", "lamp-seen",   "stop-chain",
                                                         "lamp",       "pump",       "spi0-select", ""};
constexpr std::uint64_t edges = GPIO_V2_LINE_FLAG_EDGE_RISING | GPIO_V2_LINE_FLAG_EDGE_FALLING;

template <typename T>
T* as(std::string& argument) {
    return argument.size() == sizeof(T) ? reinterpret_cast<T*>(argument.data()) : nullptr;
}
template <std::size_t n>
void name(char (&to)[n], const std::string& text) {
    std::memset(to, 0, n);
    std::memcpy(to, text.data(), std::min(text.size(), n - 1));
}

}  // namespace

std::uint64_t MadeChip::flagsOf(const gpio_v2_line_request& request, unsigned index) const {
    for (std::uint32_t k = 0; k < request.config.num_attrs; ++k) {
        const auto& a = request.config.attrs[k];
        if (a.attr.id == GPIO_V2_LINE_ATTR_ID_FLAGS && (a.mask >> index & 1) != 0) return a.attr.flags;
    }
    return request.config.flags;
}

std::pair<int, unsigned> MadeChip::holderOf(unsigned line) const {
    for (const auto& [holder, held] : held_)
        for (unsigned i = 0; i < held.request.num_lines; ++i)
            if (held.request.offsets[i] == line) return {holder, i};
    return {-1, 0};
}

bool MadeChip::driven(Line line, bool otherwise) const {
    const auto [holder, index] = holderOf(line);
    if (holder < 0 || (flagsOf(held_.at(holder).request, index) & GPIO_V2_LINE_FLAG_OUTPUT) == 0) return otherwise;
    return lines_[line].driven;
}

std::int64_t MadeChip::debounceNs(Line line) const {
    const auto [holder, index] = holderOf(line);
    if (holder < 0) return 0;
    const auto& config = held_.at(holder).request.config;
    for (std::uint32_t k = 0; k < config.num_attrs; ++k)
        if (config.attrs[k].attr.id == GPIO_V2_LINE_ATTR_ID_DEBOUNCE && (config.attrs[k].mask >> index & 1) != 0)
            return std::int64_t{config.attrs[k].attr.debounce_period_us} * 1000;
    return 0;
}

void MadeChip::level(Line line, bool high, std::int64_t stampNs) {
    Each& l = lines_[line];
    if (l.high == high) return;
    l.high = high;
    const auto [holder, index] = holderOf(line);
    if (holder < 0) return;
    Held& held = held_.at(holder);
    const std::uint64_t flags = flagsOf(held.request, index);
    const bool rises = high != ((flags & GPIO_V2_LINE_FLAG_ACTIVE_LOW) != 0);
    if ((flags & (rises ? GPIO_V2_LINE_FLAG_EDGE_RISING : GPIO_V2_LINE_FLAG_EDGE_FALLING)) == 0) return;
    gpio_v2_line_event e{};
    e.timestamp_ns = static_cast<std::uint64_t>(stampNs);
    e.id = rises ? GPIO_V2_LINE_EVENT_RISING_EDGE : GPIO_V2_LINE_EVENT_FALLING_EDGE;
    e.offset = line;
    e.seqno = ++held.number;
    e.line_seqno = ++l.number;
    if (l.swallow > 0)
        --l.swallow;
    else
        (void)LocalNode::send(holder, &e, sizeof e);
}

int MadeChip::open(int) {
    return faults_.forbidden ? EACCES : 0;
}

void MadeChip::closed(int holder) {
    held_.erase(holder);
}

void MadeChip::handedOver(int, int holder) {
    held_[holder].request = next_;
    for (unsigned i = 0; i < next_.num_lines; ++i) {
        Each& l = lines_[next_.offsets[i]];
        l.number = 0;
        l.swallow = 0;
        const std::uint64_t flags = flagsOf(next_, i);
        if ((flags & GPIO_V2_LINE_FLAG_OUTPUT) == 0) continue;
        bool on = false;
        for (std::uint32_t k = 0; k < next_.config.num_attrs; ++k) {
            const auto& a = next_.config.attrs[k];
            if (a.attr.id == GPIO_V2_LINE_ATTR_ID_OUTPUT_VALUES && (a.mask >> i & 1) != 0)
                on = (a.attr.values >> i & 1) != 0;
        }
        l.driven = on != ((flags & GPIO_V2_LINE_FLAG_ACTIVE_LOW) != 0);
    }
}

int MadeChip::about(gpio_v2_line_info& info) const {
    const unsigned line = info.offset;
    if (line >= lines) return -EINVAL;
    info = {};
    info.offset = line;
    name(info.name, names[line]);
    info.flags = line == lamp || line == pump ? GPIO_V2_LINE_FLAG_OUTPUT : GPIO_V2_LINE_FLAG_INPUT;
    const auto [holder, index] = holderOf(line);
    if (line == kernels) {
        name(info.consumer, "spi0 CS0");
        info.flags = GPIO_V2_LINE_FLAG_USED | GPIO_V2_LINE_FLAG_OUTPUT;
    } else if (faults_.busy) {
        info.flags |= GPIO_V2_LINE_FLAG_USED;
        name(info.consumer, "relay-board");
    } else if (holder >= 0) {
        info.flags = GPIO_V2_LINE_FLAG_USED | flagsOf(held_.at(holder).request, index);
        name(info.consumer, held_.at(holder).request.consumer);
    }
    return 0;
}

int MadeChip::giveLines(gpio_v2_line_request& request) {
    if (request.num_lines == 0 || request.num_lines > GPIO_V2_LINES_MAX) return -EINVAL;
    for (const auto p : request.padding)
        if (p != 0) return -EINVAL;
    if (request.config.num_attrs > GPIO_V2_LINE_NUM_ATTRS_MAX) return -EINVAL;
    if (faults_.busy) return -EBUSY;
    for (unsigned i = 0; i < request.num_lines; ++i) {
        const std::uint64_t flags = flagsOf(request, i);
        const bool in = (flags & GPIO_V2_LINE_FLAG_INPUT) != 0, out = (flags & GPIO_V2_LINE_FLAG_OUTPUT) != 0;
        if (request.offsets[i] >= lines || (in && out) || (!in && (flags & edges) != 0) ||
            (!out && (flags & (GPIO_V2_LINE_FLAG_OPEN_DRAIN | GPIO_V2_LINE_FLAG_OPEN_SOURCE)) != 0))
            return -EINVAL;
        if ((flags & edges) != 0 && faults_.edgeless) return -ENXIO;
        if (request.offsets[i] == kernels || holderOf(request.offsets[i]).first >= 0) return -EBUSY;
    }
    for (std::uint32_t k = 0; k < request.config.num_attrs; ++k) {
        const auto& a = request.config.attrs[k];
        if (a.attr.padding != 0 || a.mask == 0 || a.attr.id < GPIO_V2_LINE_ATTR_ID_FLAGS ||
            a.attr.id > GPIO_V2_LINE_ATTR_ID_DEBOUNCE)
            return -EINVAL;
    }
    next_ = request;
    return 0;
}

NodeTalk::Answer MadeChip::control(int holder, std::uint64_t request, std::string& argument) {
    const auto line = held_.find(holder);
    if (line == held_.end()) {
        if (auto* info = as<gpiochip_info>(argument); info && request == GPIO_GET_CHIPINFO_IOCTL) {
            *info = {};
            name(info->name, "gpiochip0");
            name(info->label, "pump-cabinet");
            info->lines = lines;
            return {0};
        }
        if (auto* info = as<gpio_v2_line_info>(argument); info && request == GPIO_V2_GET_LINEINFO_IOCTL)
            return {about(*info)};
        if (auto* asked = as<gpio_v2_line_request>(argument); asked && request == GPIO_V2_GET_LINE_IOCTL) {
            const int result = giveLines(*asked);
            return {result, result == 0};
        }
        return {-ENOTTY};
    }
    auto* values = as<gpio_v2_line_values>(argument);
    if (!values) return {-ENOTTY};
    const gpio_v2_line_request& held = line->second.request;
    const bool sets = request == GPIO_V2_LINE_SET_VALUES_IOCTL;
    if (!sets && request != GPIO_V2_LINE_GET_VALUES_IOCTL) return {-ENOTTY};
    if (values->mask == 0) return {-EINVAL};
    advance_();
    std::uint64_t bits = 0;
    for (unsigned i = 0; i < held.num_lines; ++i) {
        if ((values->mask >> i & 1) == 0) continue;
        const std::uint64_t flags = flagsOf(held, i);
        const bool low = (flags & GPIO_V2_LINE_FLAG_ACTIVE_LOW) != 0, out = (flags & GPIO_V2_LINE_FLAG_OUTPUT) != 0;
        Each& l = lines_[held.offsets[i]];
        if (sets && !out) return {-EPERM};
        if (sets) l.driven = ((values->bits >> i & 1) != 0) != low;
        if ((out ? l.driven : l.high) != low) bits |= std::uint64_t{1} << i;
    }
    if (!sets) values->bits = bits;
    return {0};
}

}  // namespace cruscotto
