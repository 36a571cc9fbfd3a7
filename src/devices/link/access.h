#pragma once

#include <string>

#include "core/base/text.h"

/// Why a file of a device cannot be opened, and what mends it.
namespace cruscotto {

/// What mends a port that may not be opened.
Text permissionSentence(const std::string& port);
/// The same for a device of the kernel's that need not belong to a group.
Text kernelPermissionSentence(const std::string& device);

/// The process that has this file open, as "name (number)"; empty where the system does not tell. Not this process.
std::string holderOf(const std::string& path);

}  // namespace cruscotto
