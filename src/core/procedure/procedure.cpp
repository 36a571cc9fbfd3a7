#include "core/procedure/procedure.h"

#include <array>

namespace cruscotto {

namespace {

constexpr std::array stepNames{std::pair{StepKind::set, "set"},         std::pair{StepKind::wait, "wait"},
                               std::pair{StepKind::hold, "hold"},       std::pair{StepKind::measure, "measure"},
                               std::pair{StepKind::mark, "mark"},       std::pair{StepKind::ask, "ask"},
                               std::pair{StepKind::command, "command"}, std::pair{StepKind::repeat, "repeat"}};

void plan(const std::vector<ProcedureStep>& steps, const PlannedStep& in, std::vector<PlannedStep>& out) {
    for (std::size_t i = 0; i < steps.size() && out.size() < mostStepsDone; ++i) {
        PlannedStep one = in;
        one.step = &steps[i];
        one.path.push_back(i);
        if (steps[i].kind != StepKind::repeat) {
            out.push_back(std::move(one));
            continue;
        }
        const std::size_t rows = steps[i].columns.empty() ? 0 : steps[i].columns.front().values.size();
        for (std::size_t row = 0; row < rows; ++row) {
            PlannedStep within = one;
            within.turn = row + 1;
            for (const RepeatColumn& column : steps[i].columns)
                if (row < column.values.size()) within.row.emplace_back(column.name, column.values[row]);
            plan(steps[i].steps, within, out);
        }
    }
}

template <class Spec, class Step>
Step* find(Spec& procedure, const StepPath& path) {
    auto* list = &procedure.steps;
    Step* step = nullptr;
    for (const std::size_t i : path) {
        if (i >= list->size()) return nullptr;
        step = &(*list)[i];
        list = &step->steps;
    }
    return step;
}

}  // namespace

const char* stepName(StepKind kind) {
    for (const auto& [known, name] : stepNames)
        if (known == kind) return name;
    return "";
}

std::optional<StepKind> stepNamed(const std::string& wanted) {
    for (const auto& [kind, name] : stepNames)
        if (wanted == name) return kind;
    return std::nullopt;
}

const ProcedureStep* stepAt(const ProcedureSpec& procedure, const StepPath& path) {
    return find<const ProcedureSpec, const ProcedureStep>(procedure, path);
}

ProcedureStep* stepAt(ProcedureSpec& procedure, const StepPath& path) {
    return find<ProcedureSpec, ProcedureStep>(procedure, path);
}

std::string stepNumber(const StepPath& path) {
    std::string out;
    for (const std::size_t i : path) out += (out.empty() ? "" : ".") + std::to_string(i + 1);
    return out;
}

ProcedureSpec onlyStep(const ProcedureSpec& procedure, const StepPath& path) {
    ProcedureSpec out = procedure;
    auto* list = &out.steps;
    for (std::size_t level = 0; level < path.size(); ++level) {
        if (path[level] >= list->size()) return procedure;
        ProcedureStep one = std::move((*list)[path[level]]);
        if (level + 1 < path.size())
            for (RepeatColumn& column : one.columns)
                column.values.resize(std::min<std::size_t>(1, column.values.size()));
        list->clear();
        list->push_back(std::move(one));
        list = &list->back().steps;
    }
    return out;
}

std::vector<PlannedStep> plannedSteps(const ProcedureSpec& procedure) {
    std::vector<PlannedStep> out;
    plan(procedure.steps, {}, out);
    return out;
}

}  // namespace cruscotto
