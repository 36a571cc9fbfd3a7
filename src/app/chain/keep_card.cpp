// What is recorded of a signal.
#include <QComboBox>
#include <cmath>

#include "app/chain/chain_drawer.h"
#include "app/widgets/fields.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/keep.h"

namespace cruscotto {

void ChainDrawer::addKeep(QVBoxLayout* column) {
    auto* card = new StageCard(tr("Recorded"), column->parentWidget());
    const auto change = [this](auto&& set) {
        SignalSpec next = *spec();
        set(next.keep);
        edit(tr("Change what is recorded"), std::move(next));
    };
    auto* what = combo(tr("What is recorded"), card);
    what->addItems({tr("every sample"), tr("one sample in so many"), tr("mean, min and max"), tr("what changes")});
    connect(what, &QComboBox::activated, this,
            [change](int i) { change([i](KeepSpec& keep) { keep.what = static_cast<KeepSpec::What>(i); }); });
    showers_.push_back([what](const SignalSpec& s) { what->setCurrentIndex(static_cast<int>(s.keep.what)); });
    card->fields()->addWidget(labelled(tr("What"), what, card));  // too wide to share its row

    const auto number = [&]<class N>(const QString& label, N KeepSpec::*member, double low, double high) {
        numberField(
            *card, label, [member](const SignalSpec& s) { return static_cast<double>(s.keep.*member); },
            [card, change, member, low, high](double v) {
                const bool fine = v >= low && v <= high && (std::is_floating_point_v<N> || v == std::floor(v));
                card->setWrong(fine ? QString()
                                    : (std::is_floating_point_v<N>
                                           ? tr("A number from %1 to %2 is expected here.")
                                           : tr("A whole number from %1 to %2 is expected here."))
                                          .arg(exactText(low), exactText(high)));
                if (fine) change([&](KeepSpec& keep) { keep.*member = static_cast<N>(v); });
            });
    };
    const KeepSpec::What now = spec()->keep.what;
    if (now == KeepSpec::What::oneInN) number(tr("One in"), &KeepSpec::every, 1, 1e6);
    if (now == KeepSpec::What::summary) number(tr("Of every, s"), &KeepSpec::intervalSeconds, 0.001, 86400);
    if (now == KeepSpec::What::changes) {
        number(tr("By more than"), &KeepSpec::deadBand, 0, 1e12);
        number(tr("At least every, s"), &KeepSpec::atLeastEvery, 0, 86400);
    }
    if (now != KeepSpec::What::summary) {
        auto* as = combo(tr("Recorded as"), card);
        as->addItems({tr("raw samples"), tr("readings")});
        connect(as, &QComboBox::activated, this,
                [change](int i) { change([i](KeepSpec& keep) { keep.asReadings = i == 1; }); });
        showers_.push_back([as, run = session_.isRun()](const SignalSpec& s) {
            const KeepSpec keep = resolvedKeep(s);
            as->setItemText(0, keep.rawBeside ? tr("readings and raw samples") : tr("raw samples"));
            as->setCurrentIndex(keep.asReadings && !keep.rawBeside ? 1 : 0);
            as->setEnabled(!run && (keep.asReadings == s.keep.asReadings || keep.rawBeside));
        });
        place(card->fields(), labelled(tr("As"), as, card));
    }
    showers_.push_back([card](const SignalSpec& s) { card->setSentence(shown(describeKeep(s))); });
    column->addWidget(card);
}

}  // namespace cruscotto
