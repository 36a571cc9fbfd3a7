#include "core/bench/explanation.h"

#include <cmath>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/chain.h"

namespace cruscotto {

namespace {

constexpr int deepestExplained = 8;

Result<Explanation> explainAt(const Bench& bench, const Source& source, const std::string& signal, Instant t,
                              int depth) {
    const SignalSpec* s = bench.signal(signal);
    if (!s) return failure("There is no signal \"{0}\".", signal);
    Explanation out;
    out.signal = s->id;
    out.name = s->name;
    out.at = t;
    const DeviceSpec* device = bench.device(s->device);
    out.wired = s->computed ? std::string("computed from other signals")
                            : fmt::format("{}, terminal {}", device ? device->name : s->device, s->terminal);
    out.reading = source.at(signal, t);
    out.unit = s->unit();
    out.evidence = source.evidenceAt(signal, t);
    if (const Stage* sheet = calibrationIn(s->chain)) out.calibration = sheetOf(*sheet);
    auto uncertainty = uncertaintyAt(bench, source, signal, t);
    if (uncertainty)
        out.uncertainty = std::move(uncertainty.value());
    else
        out.whyNone = uncertainty.error().message;
    const std::vector<double> values = stagesOf(bench, source, signal, t);
    std::string unit = rawUnit(s->kind);
    for (std::size_t i = 0; !isOutput(s->kind) && i <= s->chain.size(); ++i) {
        if (i > 0) unit = unitAfter(s->chain[i - 1], unit);
        if (i == 0 && s->computed) continue;
        Explanation::Step step;
        step.stage = i == 0 ? "raw" : stageKey(s->chain[i - 1]);
        step.title = i == 0 ? Text(CRUSCOTTO_TEXT("From the terminal")) : stageTitle(s->chain[i - 1]);
        if (i > 0) step.sentence = describeStage(s->chain[i - 1]);
        step.value = i < values.size() ? values[i] : std::nan("");
        step.unit = unit;
        if (out.uncertainty && i < out.uncertainty->behind.size()) step.standard = out.uncertainty->behind[i];
        out.steps.push_back(std::move(step));
    }
    if (depth < deepestExplained)
        for (const NeededSignal& needed : neededSignals(s->chain))
            if (auto other = explainAt(bench, source, needed.id, t, depth + 1))
                out.from.push_back(std::move(other.value()));
    return out;
}

std::string number(double v, double standard, double k) {
    if (standard > 0) return withUncertainty(v, k * standard);
    return std::isnan(v) ? std::string("–") : threeDigits(v) == "0" ? "0" : shortNumber(v);
}

std::string inUnit(const std::string& number, const std::string& unit) {
    const std::string words = unitText(unit);
    return words.empty() ? number : number + " " + words;
}

void write(std::string& out, const Explanation& e, const std::string& today, int depth) {
    const std::string indent(static_cast<std::size_t>(depth) * 4, ' ');
    const auto line = [&](const std::string& words) { out += indent + words + "\n"; };
    const double standard = e.uncertainty ? e.uncertainty->standard : 0, k = e.uncertainty ? e.uncertainty->k : 2;
    line(fmt::format(
        "{} at {} s: {}{}", e.name, shortNumber(e.at.seconds()), inUnit(number(e.reading.value, standard, k), e.unit),
        e.reading.quality == Quality::good ? std::string() : ", " + std::string(qualityWord(e.reading.quality))));
    line("  " + e.wired);
    for (const Explanation::Step& step : e.steps) {
        line(fmt::format("  {}: {}", step.title.english(),
                         inUnit(number(step.value, std::max(step.standard, 0.0), k), step.unit)));
        if (!step.sentence.english().empty()) line("      " + step.sentence.english());
    }
    if (e.uncertainty) {
        const Uncertainty& u = *e.uncertainty;
        if (u.standard > 0)
            line(fmt::format("  Uncertainty: ± {} (k = {}), of which", inUnit(threeDigits(u.expanded()), u.unit),
                             shortNumber(u.k)));
        for (const UncertaintyPart& p : u.parts)
            line(fmt::format("      {:3.0f} %  {}: {}, {}", 100 * p.share, p.signal, p.source.english(),
                             inUnit(threeDigits(std::fabs(p.amount)), u.unit)));
        for (const Text& m : u.missing) line("      " + m.english());
    } else {
        line("  Uncertainty: " + e.whyNone.english());
    }
    line("  " + (e.calibration ? calibrationState(*e.calibration, today).english()
                               : std::string("There is no calibration sheet in the chain.")));
    for (const Evidence& said : e.evidence) {
        const DoubtKind& kind = doubtKind(said.doubt);
        line(fmt::format("  {} since {} s, {}: {}", kind.word.english(), shortNumber(said.since.seconds()),
                         surenessWord(said.sure).english(), said.grounds.english()));
    }
    if (e.evidence.empty()) line("  Nothing speaks against it.");
    for (const Explanation& other : e.from) write(out, other, today, depth + 1);
}

}  // namespace

Result<Explanation> explain(const Bench& bench, const Source& source, const std::string& signal, Instant t) {
    return explainAt(bench, source, signal, t, 0);
}

std::string explanationText(const Explanation& explanation, const std::string& today) {
    std::string out;
    write(out, explanation, today, 0);
    return out;
}

}  // namespace cruscotto
