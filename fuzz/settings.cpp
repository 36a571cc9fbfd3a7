// Every device kind's settings: refused with a reason, or fit to make the device and list its terminals.
#include "devices/device_kind.h"

#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    const std::string json(reinterpret_cast<const char*>(data), size);
    for (const DeviceKind& kind : deviceKinds()) {
        const auto checked = kind.check(json);
        if (!checked) {
            if (checked.error().english().empty()) std::abort();
            continue;
        }
        if (kind.terminals) kind.terminals(json);
        kind.make({"device", Pace::asFastAsPossible, {}}, json, {});
    }
    return 0;
}
