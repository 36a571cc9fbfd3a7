#include "devices/modbus/modbus_identity.h"

#include "devices/modbus/rack_module.h"

namespace cruscotto {

namespace {

constexpr int firstOfMaker = 0x80, mostObjects = 256, mostRequests = 64;

std::string printable(const std::string& bytes) {
    std::string out;
    for (const char c : bytes)
        if (c >= 32 && c < 127) out += c;
    return out;
}

/// "analog-in-8" of "analog-in-8 rev. 2"; empty where none of that name ships.
std::string shippedModule(const std::string& says) {
    const std::string word = says.substr(0, says.find(' '));
    for (const std::string& name : rackModuleNames())
        if (name == word) return name;
    return {};
}

}  // namespace

std::string ModbusIdentity::request() const {
    if (done_) return {};
    return {'\x2B', '\x0E', static_cast<char>(category_), static_cast<char>(from_)};
}

void ModbusIdentity::take(const std::string& pdu) {
    const auto at = [&](std::size_t i) { return static_cast<std::uint8_t>(pdu[i]); };
    if (pdu.size() < 7 || at(0) != 0x2B || at(1) != 0x0E || ++asked_ > mostRequests) {
        done_ = true;
        return;
    }
    conformity_ = at(3) & 0x7F;
    const bool more = at(4) == 0xFF;
    const int next = at(5), count = at(6);
    std::size_t i = 7;
    for (int k = 0; k < count && i + 2 <= pdu.size(); ++k) {
        const int object = at(i);
        const std::size_t length = at(i + 1);
        if (i + 2 + length > pdu.size() || objects_.size() >= mostObjects) break;
        objects_[object] = printable(pdu.substr(i + 2, length));
        i += 2 + length;
    }
    if (more && next > from_) {
        from_ = next;
        return;
    }
    // Basic, regular, what is the maker's: each as far as the unit goes.
    ++category_;
    from_ = category_ == 2 ? 3 : firstOfMaker;
    done_ = category_ > 3 || category_ > conformity_;
}

std::string ModbusIdentity::name() const {
    std::string out;
    for (const int object : {0, 1})
        if (const auto it = objects_.find(object); it != objects_.end() && !it->second.empty())
            out += (out.empty() ? "" : " ") + it->second;
    return out;
}

std::vector<DeviceStatus::Part> ModbusIdentity::parts() const {
    constexpr const char* names[]{"maker", "product", "revision", "page", "product name", "model", "used as"};
    std::vector<DeviceStatus::Part> out;
    for (const auto& [object, says] : objects_) {
        if (says.empty()) continue;
        if (object < firstOfMaker) {
            out.push_back({object < 7 ? names[object] : fmt::format("object {}", object), Text(says)});
            continue;
        }
        const auto module = rackModule(shippedModule(says));
        out.push_back(
            {fmt::format("slot {}", object - firstOfMaker), module ? moduleText(module.value(), says) : Text(says)});
    }
    return out;
}

std::map<int, std::string> ModbusIdentity::slots() const {
    std::map<int, std::string> out;
    for (auto it = objects_.lower_bound(firstOfMaker); it != objects_.end(); ++it) {
        const std::string module = shippedModule(it->second);
        if (module.empty()) return {};
        out[it->first - firstOfMaker] = module;
    }
    return out;
}

}  // namespace cruscotto
