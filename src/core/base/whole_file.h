#pragma once

#include <cstddef>
#include <string>

#include "core/base/result.h"

namespace cruscotto {

/// The bytes of a regular file. Refuses what is not there, may not be read, is no regular file (a device may never end)
/// or is larger than `most` bytes.
Result<std::string> readWholeFile(const std::string& path, std::size_t most);

}  // namespace cruscotto
