// The bench reader: any bytes are refused with a reason or read, and what was read is written and read again as the
// same.
#include "core/bench/bench.h"
#include "devices/device_kind.h"

#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    const BenchReading first = readBench({reinterpret_cast<const char*>(data), size});
    if (!first.bench) {
        if (first.problems.empty() || first.problems.front().english().empty()) std::abort();
        return 0;
    }
    const std::string written = writeBench(*first.bench);
    const BenchReading again = readBench(written);
    if (!again.bench || writeBench(*again.bench) != written) std::abort();
    checkDevices(*first.bench);
    return 0;
}
