// The uncertainty and the noise behind each stage of a chain, and the budget: a part of the chain drawer.
#include "app/chain/budget_view.h"
#include "app/chain/chain_drawer.h"
#include "app/widgets/fields.h"
#include "app/widgets/words.h"
#include "core/analysis/steadiness.h"
#include "core/base/number_text.h"
#include "core/base/parsed.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {

/// Small volts and amperes in their thousandths or millionths, as people say them.
std::pair<double, QString> asSaid(double v, const std::string& unit) {
    const bool electrical = unit == "V" || unit == "A";
    const QString of = shown(unitText(unit));
    if (electrical && v < 1e-4) return {v * 1e6, QStringLiteral("µ") + of};
    if (electrical && v < 0.1) return {v * 1e3, QStringLiteral("m") + of};
    return {v, of};
}

}  // namespace

QString ChainDrawer::aroundText(double expanded, const std::string& unit) {
    const auto [around, aroundUnit] = asSaid(expanded, unit);
    const QString words = tr("± %1 %2").arg(shown(readingText(around, cruscotto::decimalsFor(around))), aroundUnit);
    const QString own = shown(unitText(unit));
    return aroundUnit == own ? words : own + ' ' + words;
}

void ChainDrawer::addBudget(QVBoxLayout* column) {
    auto* card = new StageCard(tr("Uncertainty"), column->parentWidget());
    budget_ = new BudgetView(card);
    card->fields()->addWidget(budget_);
    auto* k = new Field(tr("Coverage factor k"), card);
    k->setToolTip(
        tr("How many standard uncertainties are shown, of all signals of the bench: 2 holds about 95 % of what "
           "can be expected, 3 nearly all."));
    k->setEnabled(!session_.isRun());
    connect(k, &Field::taken, this, [this, k](const QString& text) {
        double v = 0;
        const bool fine = parseNumber(text.toStdString(), v) && v >= leastCoverage && v <= mostCoverage;
        k->markWrong(!fine, tr("A number from 1 to 4"));
        if (!fine) return;
        Bench next = session_.bench();
        next.coverage = v;
        uncertainAt_.reset();
        session_.edit(tr("Change coverage factor"), std::move(next));
    });
    showers_.push_back([this, k](const SignalSpec&) { k->show(shown(shortNumber(session_.bench().coverage))); });
    place(card->fields(), labelled(tr("Coverage factor k"), k, card));
    card->setSentence(
        tr("So many standard uncertainties, by what is known of them: add “Accuracy, as its maker says”, the "
           "sensor's class or a calibration where something is missing."));
    column->addWidget(card);
}

void ChainDrawer::showUncertainty(Instant t) {
    const SignalSpec* s = spec();
    const Duration every = std::max(milliseconds(500), uncertainPause_);
    if (!budget_ || !s || (uncertainAt_ && t > *uncertainAt_ && t - *uncertainAt_ < every)) return;
    uncertainAt_ = t;
    const Bench bench = session_.isRun() ? withSignal(session_.bench(), *s) : session_.bench();
    const auto uncertainty = uncertaintyAt(bench, session_.source(), s->id, t);
    constexpr std::int64_t restPerReading = 50'000;  // ns; a twentieth of a processor's time
    uncertainPause_ = {uncertainty ? static_cast<std::int64_t>(uncertainty.value().wentOver) * restPerReading : 0};
    budget_->show(uncertainty, s->name);
    behind_ = uncertainty ? uncertainty.value().behind : std::vector<double>();
    // How much it wanders, and what a filter made of that.
    double before = 0;
    std::string unit = rawUnit(s->kind);
    for (std::size_t i = 0; i <= s->chain.size() && i < stageCards_.size(); ++i) {
        if (i > 0) unit = unitAfter(s->chain[i - 1], unit);
        std::vector<double> values;
        std::vector<Instant> times;
        QString words;
        const ChainSpec part(s->chain.begin(), s->chain.begin() + static_cast<std::ptrdiff_t>(i));
        const bool number = !(s->computed && i == 0) && !isDigital(s->kind) && !readsState(part, s->kind);
        if (number && session_.source().stageSeries(s->id, i, noiseSpan(t), noiseSamples, values, times)) {
            const Steadiness calm = steadinessOf(values, times);
            if (calm.samples > 2 && calm.noise > 0) {
                const auto [noise, noiseUnit] = asSaid(calm.noise, unit);
                const auto [peaks, peaksUnit] = asSaid(calm.peakToPeak, unit);
                words = tr("Noise %1 %2, %3 %4 peak to peak")
                            .arg(shown(threeDigits(noise)), noiseUnit, shown(threeDigits(peaks)), peaksUnit);
                if (i > 0 && s->chain[i - 1].kind().smooths && before > calm.noise)
                    words += tr("; %1 times less than before it").arg(shown(threeDigits(before / calm.noise)));
                before = calm.noise;
            }
        }
        stageCards_[i]->setNoise(words);
    }
}

}  // namespace cruscotto
