#include "core/procedure/procedure_report.h"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <pugixml.hpp>
#include <sstream>

#include "core/base/json_text.h"
#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {
using ReportJson = nlohmann::ordered_json;

std::string secondsText(std::optional<Instant> from, std::optional<Instant> to) {
    return fmt::format("{:.3f}", from && to ? (*to - *from).seconds() : 0.0);
}
ReportJson number(double v) {
    return std::isfinite(v) ? ReportJson(v) : ReportJson(nullptr);
}
}  // namespace

std::string rowWords(const StepResult& r) {
    std::string out;
    for (const auto& [name, value] : r.row) out += (out.empty() ? "" : ", ") + name + " = " + shortNumber(value);
    return out;
}

std::string valueWords(const StepValue& v) {
    if (!std::isfinite(v.value)) return v.why.empty() ? "–" : v.why.english();
    const std::string unit = unitText(v.unit);
    std::string out = shortNumber(v.value) + (unit.empty() || unit == "1" ? "" : " " + unit);
    if (v.low && v.high)
        out += fmt::format(" ({} to {})", shortNumber(*v.low), shortNumber(*v.high));
    else if (v.low)
        out += fmt::format(" (from {} on)", shortNumber(*v.low));
    else if (v.high)
        out += fmt::format(" (up to {})", shortNumber(*v.high));
    if (!v.note.empty()) out += "; " + v.note.english();
    return out;
}

std::string procedureJunit(const ProcedureReport& report, const std::string& bench, WallAnchor anchor) {
    const auto count = [&](StepVerdict v) {
        return std::ranges::count_if(report.steps, [&](const StepResult& r) { return r.verdict == v; });
    };
    pugi::xml_document doc;
    pugi::xml_node suites = doc.append_child("testsuites");
    pugi::xml_node suite = suites.append_child("testsuite");
    suite.append_attribute("name") = report.name.c_str();
    suite.append_attribute("tests") = report.steps.size();
    suite.append_attribute("failures") = count(StepVerdict::failed);
    suite.append_attribute("errors") = 0;
    suite.append_attribute("skipped") = count(StepVerdict::undone);
    suite.append_attribute("time") = secondsText(report.began, report.ended).c_str();
    const auto unix = static_cast<std::time_t>((anchor.unixNs + (report.began - anchor.at).ns) / 1'000'000'000);
    suite.append_attribute("timestamp") = fmt::format("{:%Y-%m-%dT%H:%M:%S}", fmt::gmtime(unix)).c_str();
    for (const StepResult& r : report.steps) {
        pugi::xml_node one = suite.append_child("testcase");
        const std::string row = rowWords(r);
        one.append_attribute("classname") = (bench + "." + report.id).c_str();
        one.append_attribute("name") = (r.number + (row.empty() ? "" : " [" + row + "]") + " " + r.words).c_str();
        one.append_attribute("time") = secondsText(r.began, r.ended).c_str();
        if (r.verdict == StepVerdict::failed)
            one.append_child("failure").append_attribute("message") = r.why.english().c_str();
        if (r.verdict == StepVerdict::undone) {
            pugi::xml_node skipped = one.append_child("skipped");
            if (const Text& why = r.why.empty() ? report.why : r.why; !why.empty())
                skipped.append_attribute("message") = why.english().c_str();
        }
        std::string values;
        for (const StepValue& v : r.values)
            values += fmt::format("{}: {}, {}\n", v.name, valueWords(v), stepVerdictName(v.verdict));
        if (!values.empty()) one.append_child("system-out").text().set(values.c_str());
    }
    std::ostringstream out;
    doc.save(out, "  ");
    return out.str();
}

std::string procedureJson(const ProcedureReport& report) {
    ReportJson j{{"procedure", report.id},
                 {"name", report.name},
                 {"verdict", stepVerdictName(report.verdict)},
                 {"why", report.why.english()},
                 {"steps", ReportJson::array()}};
    for (const StepResult& r : report.steps) {
        ReportJson s{{"number", r.number}, {"words", r.words}, {"verdict", stepVerdictName(r.verdict)}};
        if (!r.why.empty()) s["why"] = r.why.english();
        for (const auto& [name, value] : r.row) s["row"][name] = value;
        if (r.began) s["from-s"] = (*r.began - report.began).seconds();
        if (r.ended) s["to-s"] = (*r.ended - report.began).seconds();
        for (const StepValue& v : r.values) {
            ReportJson one{{"name", v.name},
                           {"value", number(v.value)},
                           {"unit", v.unit},
                           {"verdict", stepVerdictName(v.verdict)}};
            if (!v.signal.empty()) one["signal"] = v.signal;
            if (v.u >= 0) one["standard-uncertainty"] = number(v.u);
            if (v.low) one["low"] = number(*v.low);
            if (v.high) one["high"] = number(*v.high);
            if (!v.why.empty()) one["why"] = v.why.english();
            if (!v.note.empty()) one["note"] = v.note.english();
            s["values"].push_back(std::move(one));
        }
        j["steps"].push_back(std::move(s));
    }
    return jsonText(j, 2);
}

}  // namespace cruscotto
