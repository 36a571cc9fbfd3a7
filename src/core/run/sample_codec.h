#pragma once

#include <cstddef>
#include <span>
#include <vector>

#include "core/signal/block.h"

/// Samples in fewer bytes, without loss, for the run file (docs/run-format.md, "Packed samples"). A converter's noise
/// fills a few of its bits; the rest is the same from one sample to the next and costs nothing here.
namespace cruscotto::codec {

/// The numbers are stored in runs: frozen.
enum class Packing : std::uint8_t { raw = 0, frames = 1 };

/// Samples in one frame.
inline constexpr std::size_t frameSamples = 256;

/// Appends the samples to `out`, packed if they are whole numbers and that saves anything.
Packing encode(const Samples& samples, std::vector<std::byte>& out);
/// n samples of this type; false, and nothing of use in `out`, where the data cannot be that.
[[nodiscard]] bool decode(Packing packing, std::span<const std::byte> data, SampleType type, std::size_t n,
                          Samples& out);

}  // namespace cruscotto::codec
