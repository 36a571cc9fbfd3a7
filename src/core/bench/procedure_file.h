#pragma once

#include <map>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "core/bench/bench.h"

/// Procedures as they stand in a bench: read, written, checked, and said in words.
namespace cruscotto {

ProcedureSpec readProcedure(const nlohmann::ordered_json& json, const std::string& where,
                            std::vector<Problem>& problems);
nlohmann::ordered_json procedureJson(const ProcedureSpec& procedure);
nlohmann::ordered_json stepJson(const ProcedureStep& step);
/// What each names is there and suits it: signals, outputs and what they may be, names that are known when they are
/// asked for.
void checkProcedures(const Bench& bench, std::vector<Problem>& problems);
/// One step from and to its text, as it stands in the file. Errors: what is wrong in the procedure with it in that
/// place.
Result<ProcedureStep> stepFromText(const std::string& text);
std::string stepToText(const ProcedureStep& step);
/// Errors: the first thing that is wrong with it in this bench.
Result<void> checkProcedure(const Bench& bench, const ProcedureSpec& procedure);

/// "Set drive speed to 8 V", "Wait until outlet pressure is above 2 bar, 10 s at most" ... `known`: names that stand
/// for numbers there.
std::string stepWords(const Bench& bench, const ProcedureStep& step, const std::map<std::string, double>& known = {});
/// "mean of Flow"
std::string procedureMeasureWords(const Bench& bench, const ProcedureMeasure& measure);
/// The outputs that it sets, by the ids of their signals.
std::vector<std::string> outputsOf(const ProcedureSpec& procedure);
/// The procedure with its waits' levels in the units that their signals read in, for whoever runs it.
ProcedureSpec procedureAsRead(const Bench& bench, ProcedureSpec procedure);

Bench withProcedure(Bench bench, ProcedureSpec procedure);  ///< replaces the one of that id, or adds it
Bench withoutProcedure(Bench bench, const std::string& id);
/// Steps that look at or act on this signal or device go.
Bench withoutStepsOf(Bench bench, const std::string& id);

}  // namespace cruscotto
