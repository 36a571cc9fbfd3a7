// What the rules of a bench would have done over a recorded run.
#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <thread>

#include "cli/commands.h"
#include "cli/say.h"
#include "core/base/number_text.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/bench/rule_words.h"
#include "core/rules/rehearsal.h"
#include "devices/device_kind.h"
#include "engine/run_source.h"

namespace cruscotto::cli {

int rehearseRules(const RehearseOptions& options) {
    using nlohmann::ordered_json;
    auto read = loadBench(options.bench, checkDevices);
    if (!read) return complain(read.error().english(), badFile);
    const Bench& bench = read.value();
    RunSource source(options.run, std::size_t{4} << 30);
    while (!source.state().done) std::this_thread::sleep_for(std::chrono::milliseconds(2));
    if (const auto& error = source.state().error) return complain(error->english(), badFile);
    const auto info = source.info();
    std::vector<std::string> missing;
    std::vector<std::shared_ptr<const RuleSpec>> rules;
    for (const auto& rule : bench.rules) {
        // The run's readings are in the units that it was recorded in.
        rules.push_back(std::make_shared<const RuleSpec>(ruleAsRead(info->bench, *rule)));
        for (const std::string& signal : signalsOf(*rule))
            if (!info->bench.signal(signal) && std::ranges::find(missing, signal) == missing.end())
                missing.push_back(signal);
    }
    std::vector<RehearsedMark> marks;
    for (const RunMark& mark : info->marks) marks.push_back({mark.at, mark.words});
    const Span span{info->span.from, info->span.to + nanoseconds(1)};
    const auto firings = rehearse(rules, source, span, marks);
    ordered_json j{{"bench", options.bench},
                   {"run", options.run},
                   {"firings", ordered_json::array()},
                   {"rules", ordered_json::object()}};
    for (const auto& rule : rules) j["rules"][rule->id] = 0;
    for (const RuleFiring& firing : firings) {
        const RuleSpec& rule = *rules[firing.rule];
        const double at = (firing.at - info->span.from).seconds();
        ordered_json one{
            {"at-s", at}, {"rule", rule.id}, {"holds", firing.holds}, {"readings", ordered_json::object()}};
        for (const std::string& signal : signalsOf(rule)) {
            const double v = source.at(signal, firing.at).value;
            one["readings"][signal] = v == v ? ordered_json(v) : ordered_json(nullptr);
        }
        one["actions"] = ordered_json::array();
        std::string words;
        const ordered_json whole = ordered_json::parse(ruleToText(rule));
        const char* list = firing.holds ? "then" : "else";
        if (whole.contains(list)) one["actions"] = whole[list];
        for (const Action& a : firing.holds ? rule.then : rule.otherwise)
            words += (words.empty() ? "" : ", ") + actionWords(bench, a);
        if (firing.holds) j["rules"][rule.id] = j["rules"][rule.id].get<int>() + 1;
        if (!options.json)
            say(fmt::format("{:>10} s  {:<24} {}{}", shortNumber(at), rule.name,
                            firing.holds ? "holds" : "no longer holds", words.empty() ? "" : ": " + words));
        j["firings"].push_back(std::move(one));
    }
    if (!missing.empty()) j["missing"] = missing;
    if (options.json) {
        say(j.dump(2));
    } else {
        for (const std::string& signal : missing) say(fmt::format("The run has no signal {}.", signal));
        if (rules.empty()) say("The bench has no rules.");
        for (const auto& rule : rules) say(fmt::format("{:<24} {} ×", rule->name, j["rules"][rule->id].get<int>()));
    }
    return ok;
}

}  // namespace cruscotto::cli
