#pragma once

#include <filesystem>
#include <string>
#include <vector>

namespace cruscotto {

/// The first line of a small file, as those in /sys are, without its end: at most 256 bytes; empty where there is none.
/// Does not wait for anything.
std::string kernelLine(const std::filesystem::path& path);

/// What is in a folder, in the order of the names, at most so many; nothing where it cannot be read.
std::vector<std::filesystem::path> entriesOf(const std::filesystem::path& folder, std::size_t most = 500);

/// Writes into a file that is there, below `root`. Where that is not / nothing outside it is written to, whatever links
/// lie on the way: they are followed as if `root` was /. Zero, or why it was refused, as errno.
int writeKernelFile(const std::filesystem::path& root, const std::filesystem::path& path, const std::string& text);

}  // namespace cruscotto
