// The calibration sheet of a signal: printed, as data, and as a page to be signed.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "app/shell/application.h"
#include "cli/commands.h"
#include "cli/say.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/calibration_sheet.h"
#include "core/chain/chain.h"

namespace cruscotto::cli {

namespace {

nlohmann::ordered_json fitJson(const CalibrationFit& fit) {
    const PolynomialFit& p = fit.polynomial;
    nlohmann::ordered_json j{{"kind", fit.kind}};
    j["coefficients"] = p.coefficients;
    j["standard-uncertainties"] = p.standardUncertainties;
    j["residual-standard-deviation"] = p.residualStandardDeviation;
    j["degrees-of-freedom"] = p.degreesOfFreedom;
    return j;
}

}  // namespace

int calibration(const CalibrationOptions& options, int argc, char** argv) {
    const auto bench = openBench(options.bench);
    if (!bench) return badFile;
    const SignalSpec* signal = namedSignal(*bench, options.signal);
    if (!signal) return complain(fmt::format("There is no signal {} in this bench.", options.signal), wrongUsage);
    const Stage* stage = calibrationIn(signal->chain);
    if (!stage || stage->table("points").empty())
        return complain(fmt::format("{} has no calibration sheet: there is no stage \"calibration\" with points in its "
                                    "chain.",
                                    signal->name),
                        failed);
    const CalibrationSheet sheet = sheetOf(*stage);
    const auto fit = fitCalibration(sheet.points, sheet.fit);
    if (!fit) return complain(fit.error().english(), badFile);
    const auto at = static_cast<std::size_t>(stage - signal->chain.data());
    const std::string before = unitBefore(signal->chain, at, signal->kind);
    const std::string unit = unitAfter(*stage, before);
    if (!options.out.empty())
        if (const auto written = printSheet({*bench, signal->id, today(), options.out, options.existing}, argc, argv);
            !written)
            return complain(written.error().english(), failed);
    const FitProposal proposal = proposeFit(sheet.points);
    if (options.json) {
        using Json = nlohmann::ordered_json;
        Json j{{"signal", signal->id}, {"unit-indicated", before}, {"unit", unit}, {"fit", fitJson(fit.value())}};
        j["points"] = Json::array();
        for (std::size_t i = 0; i < sheet.points.size(); ++i) {
            const CalibrationPoint& p = sheet.points[i];
            Json one{{"indicated", p.indicated},
                     {"reference", p.reference},
                     {"residual", fit.value().isTable() ? 0 : fit.value().polynomial.residuals[i]}};
            if (p.u > 0) one["u"] = p.u;
            j["points"].push_back(std::move(one));
        }
        j["proposed"] = Json{{"fit", proposal.kind}, {"reason", proposal.reason.english()}};
        for (const auto& [key, words] : {std::pair<const char*, const std::string&>{"date", sheet.date},
                                         {"due", sheet.due},
                                         {"person", sheet.person},
                                         {"reference", sheet.reference},
                                         {"certificate", sheet.certificate},
                                         {"temperature", sheet.temperature},
                                         {"notes", sheet.notes}})
            if (!words.empty()) j[key] = words;
        if (const auto days = daysUntilDue(sheet, today())) j["days-until-due"] = *days;
        j["sheets-before"] = historyOf(*stage).size();
        say(j.dump(2));
        return ok;
    }
    say(fmt::format("{}: {}", signal->name, calibrationState(sheet, today()).english()));
    say("  " + describeStage(*stage).english());
    const auto& p = fit.value().polynomial;
    for (std::size_t k = 0; k < p.coefficients.size(); ++k)
        say(fmt::format("  b{} = {} ± {}", k, shortNumber(p.coefficients[k]), shortNumber(p.standardUncertainties[k])));
    if (p.degreesOfFreedom > 0)
        say(fmt::format("  residual standard deviation {} {}, {} degrees of freedom",
                        shortNumber(p.residualStandardDeviation), unitText(unit), p.degreesOfFreedom));
    for (std::size_t i = 0; i < sheet.points.size(); ++i)
        say(fmt::format("  indicated {} {}, reference {} {}, residual {}", shortNumber(sheet.points[i].indicated),
                        unitText(before), shortNumber(sheet.points[i].reference), unitText(unit),
                        shortNumber(p.residuals[i])));
    if (proposal.kind != sheet.fit) say(fmt::format("  proposed: {}. {}", proposal.kind, proposal.reason.english()));
    if (!options.out.empty()) say(options.out);
    return ok;
}

}  // namespace cruscotto::cli
