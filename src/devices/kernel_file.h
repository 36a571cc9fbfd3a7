#pragma once

#include <filesystem>
#include <string>

namespace cruscotto {

/// The first line of a small file, as those in /sys are, without its end: at most 256 bytes; empty where there is none.
/// Does not wait for anything.
std::string kernelLine(const std::filesystem::path& path);

}  // namespace cruscotto
