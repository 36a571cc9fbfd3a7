#pragma once

#include <string>
#include <vector>

#include "core/run/run_reader.h"

namespace cruscotto {

/// Replaces what people wrote about a run, and its marks: all of it, or nothing where that fails. What was measured is
/// not touched.
Result<void> describeRun(const std::string& path, const RunNotes& notes, const std::vector<RunMark>& marks);

}  // namespace cruscotto
