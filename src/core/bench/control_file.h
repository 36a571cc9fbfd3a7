#pragma once

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "core/bench/bench.h"

/// Controls as they stand in a bench: read, written, checked, and said as a sentence.
namespace cruscotto {

ControlSpec readControl(const nlohmann::ordered_json& json, const std::string& where, std::vector<Problem>& problems);
nlohmann::ordered_json controlJson(const ControlSpec& control);
/// What each names is there and suits it; one for an output.
void checkControls(const Bench& bench, std::vector<Problem>& problems);
/// One control from and to its text, as it stands in the file.
Result<ControlSpec> controlFromText(const Bench& bench, const std::string& text);
std::string controlToText(const ControlSpec& control);

/// "Compressor 1 is switched by Room 1, to hold it at -18 °C (± 0.5 °C)."
std::string controlSentence(const Bench& bench, const ControlSpec& control);

/// With its numbers in the unit that its signal reads in, for whoever works it out.
ControlSpec controlAsRead(const Bench& bench, ControlSpec control);

Bench withControl(Bench bench, ControlSpec control);  ///< replaces the one of that id, or adds it
Bench withoutControl(Bench bench, const std::string& id);
/// Those that look at or act on this signal go.
Bench withoutControlsOf(Bench bench, const std::string& signal);

}  // namespace cruscotto
