#include "cli/rule_requests.h"

#include <fmt/format.h>

#include <filesystem>

#include "cli/commands.h"
#include "cli/say.h"
#include "core/bench/rule_edits.h"

namespace cruscotto::cli {

bool RuleRequests::obey() {
    bool ends = false;
    const std::vector<RuleRequest> all = engine_.takeRuleRequests();
    if (all.empty()) return false;
    for (const RuleRequest& request : all) {
        const RuleSpec* rule = bench_.rule(request.rule);
        const std::string name = rule ? rule->name : request.rule;
        const auto tell = [&](const std::string& what) { complain(fmt::format("\"{}\" {}", name, what), ok); };
        switch (request.action.kind) {
            case ActionKind::record:
                if (run_.empty()) tell("wants a recording, which \"record\" makes.");
                break;
            case ActionKind::endRecording:
                if (run_.empty()) break;
                tell("has ended the recording.");
                ends = true;
                break;
            case ActionKind::keep:
                keep(name, request.at, request.action.seconds);
                break;
            case ActionKind::reset:
                if (const SignalSpec* s = bench_.signal(request.action.on))
                    if (auto next = withTotalReset(*s)) {
                        bench_ = withSignal(bench_, std::move(*next));
                        engine_.apply(bench_);
                        tell("has begun a total anew.");
                    }
                break;
            case ActionKind::tone:
                tell("sounds a tone.");
                break;
            default:
                break;
        }
    }
    if (ends && endsDevices_) engine_.interrupt();
    engine_.requestsObeyed();
    return ends;
}

void RuleRequests::keep(const std::string& rule, Instant at, double lasts) {
    if (run_.empty()) {
        complain(fmt::format("\"{}\" wants to keep the last {} s, which \"record\" does.", rule, lasts), ok);
        return;
    }
    std::filesystem::path path;
    std::error_code ec;
    do {
        const std::filesystem::path run = run_;
        path = run.parent_path() / fmt::format("{}-kept-{}.run", run.stem().string(), ++kept_);
    } while (std::filesystem::exists(path, ec));
    const auto done = engine_.keep(path.string(), {at - seconds(lasts), at});
    complain(done ? fmt::format("\"{}\" has kept {} s in {}.", rule, lasts, path.string())
                  : fmt::format("\"{}\" could not keep the last {} s: {}", rule, lasts, done.error().english()),
             ok);
}

}  // namespace cruscotto::cli
