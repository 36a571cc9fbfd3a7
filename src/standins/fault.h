#pragma once

#include <atomic>
#include <functional>
#include <string>
#include <vector>

namespace cruscotto {

/// Something of a stand-in that can be made to go wrong, and right again, by its name. Any thread.
struct Fault {
    std::string name;
    std::function<void(bool)> set;
};

inline Fault fault(std::string name, std::atomic<bool>& on) {
    return {std::move(name), [&on](bool to) { on = to; }};
}

}  // namespace cruscotto
