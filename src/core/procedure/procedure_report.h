#pragma once

#include <string>

#include "core/base/time.h"
#include "core/procedure/procedure_run.h"

namespace cruscotto {

/// For programs that gather tests: JUnit's XML, with a test case for each step and what was measured as its output.
/// Times are in seconds; a step that was not come to is skipped.
std::string procedureJunit(const ProcedureReport& report, const std::string& bench, WallAnchor anchor);
/// All of it as a JSON object.
std::string procedureJson(const ProcedureReport& report);
/// "opening = 4": of the row that a step is done in; empty where there is none.
std::string rowWords(const StepResult& result);
/// "2.31 bar (2.2 to 2.6)"
std::string valueWords(const StepValue& value);

}  // namespace cruscotto
