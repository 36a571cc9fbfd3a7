// Descriptions of smart sensors, values in their bytes, and how the kernel says that a channel is packed.
#include <cstdlib>
#include <string>

#include "devices/computer/iio_buffer.h"
#include "devices/gpio/gpio_settings.h"
#include "devices/iolink/iodd.h"

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    const std::string all(reinterpret_cast<const char*>(data), size);
    if (const auto element = iioElement(all.substr(0, 40))) {
        const std::string bytes(element.value().bytes(), '\xa5');
        (void)element.value().value(bytes.data());
    }
    (void)gpioLine("x", all.substr(0, 80));
    const auto iodd = readIodd(all);
    if (!iodd) return 0;
    for (const auto* values : {&iodd.value().in, &iodd.value().out})
        for (const IoddValue& v : *values) {
            if (v.bitOffset + v.bits > 8 * 256) std::abort();
            std::string bytes(256, '\x5a');
            if (!v.raw(bytes)) std::abort();
            v.put(1, bytes);
            (void)v.raw(std::string_view(bytes).substr(0, 2));
        }
    return 0;
}
