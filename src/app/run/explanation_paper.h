#pragma once

#include <string>

#include "core/base/new_file.h"
#include "core/bench/explanation.h"

namespace cruscotto {

/// Where a number comes from, as a page to be handed on (A4; PDF, or PNG by the name's ending). `today` as 2026-11-29.
/// Errors: the file cannot be written.
Result<void> writeExplanation(const Explanation& explanation, const std::string& today, const std::string& path,
                              NewFile::Existing existing);

}  // namespace cruscotto
