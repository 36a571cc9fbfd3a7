// Packed samples: any bytes are refused or unpacked, and what was unpacked packs and unpacks to the same.
#include "core/run/sample_codec.h"

#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    if (size < 4) return 0;
    const auto type = static_cast<SampleType>(data[0] % 6);
    const auto packing = static_cast<codec::Packing>(data[1] % 3);
    const std::size_t n = data[2] + 256U * data[3] % 4096;
    Samples samples;
    if (!codec::decode(packing, std::as_bytes(std::span(data + 4, size - 4)), type, n, samples)) return 0;
    std::vector<std::byte> packed;
    const codec::Packing how = codec::encode(samples, packed);
    Samples again;
    if (!codec::decode(how, packed, type, n, again)) std::abort();
    const auto a = bytesOf(samples), b = bytesOf(again);
    if (a.size() != b.size() || !std::equal(a.begin(), a.end(), b.begin())) std::abort();
    return 0;
}
