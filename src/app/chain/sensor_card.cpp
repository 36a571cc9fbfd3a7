// "What is this sensor?": a part of the chain drawer.
#include <QComboBox>
#include <QPushButton>

#include "app/chain/chain_drawer.h"
#include "app/widgets/fields.h"
#include "app/widgets/words.h"
#include "core/chain/sensor_recipes.h"
#include "core/chain/stage_kind.h"
#include "devices/device_kind.h"

namespace cruscotto {

void ChainDrawer::askForSensor(bool on) {
    asksForSensor_ = on;
    recipe_.clear();
    rebuild();
}

void ChainDrawer::takeSensor(const SensorRecipe& recipe) {
    SignalSpec next = *spec();
    // As the terminal must be set up for it, where it can be.
    const DeviceSpec* device = session_.bench().device(next.device);
    const DeviceKind* kind = device ? deviceKind(device->kind) : nullptr;
    if (kind && kind->setup) {
        for (const auto& [key, value] : recipe.setup) {
            SignalSpec tried = next;
            tried.setup[key] = value;
            const auto all = requestsOf(withSignal(session_.bench(), tried), next.device);
            if (problemsOf({next.terminal, next.range, tried.setup}, kind->setup(device->settings, next.terminal, all))
                    .empty())
                next = tried;
        }
    }
    next.chain = chainWithSensor(next.chain, recipe.stages, next.kind);
    if (auto fine = checkChain(next.chain, next.kind); !fine)
        return stageCards_.back()->setWrong(shown(fine.error().message));
    recipe_ = recipe.key;
    edit(tr("Set up as: %1").arg(shown(recipe.title)), std::move(next));
}

void ChainDrawer::addSensor(QVBoxLayout* column) {
    auto* card = new StageCard(tr("What is this sensor?"), column->parentWidget());
    stageCards_.push_back(card);
    std::vector<const SensorRecipe*> offered;
    auto* kinds = combo(tr("Kind of sensor"), card);
    kinds->addItem(tr("Choose its kind"));
    for (const SensorRecipe& recipe : sensorRecipes())
        if (std::ranges::find(recipe.kinds, spec()->kind) != recipe.kinds.end()) {
            offered.push_back(&recipe);
            kinds->addItem(shown(recipe.title));
            if (recipe.key == recipe_) kinds->setCurrentIndex(kinds->count() - 1);
        }
    connect(kinds, &QComboBox::activated, this, [this, offered](int i) {
        if (i > 0) takeSensor(*offered[static_cast<std::size_t>(i - 1)]);
    });
    card->fields()->addWidget(kinds);
    const auto recipe = std::ranges::find(offered, recipe_, [](const SensorRecipe* r) { return r->key; });
    if (recipe != offered.end() && spec()->chain.size() >= (*recipe)->stages.size()) {
        const std::size_t before = spec()->chain.size() - (*recipe)->stages.size();
        for (const SensorRecipe::Asked& asked : (*recipe)->asked) {
            const Stage& stage = spec()->chain[before + asked.stage];
            const auto field = std::ranges::find(stage.kind().fields, asked.field, &StageField::key);
            if (field != stage.kind().fields.end() && matters(stage, *field))
                addStageField(*card, before + asked.stage,
                              static_cast<std::size_t>(field - stage.kind().fields.begin()));
        }
        showers_.push_back([card, before](const SignalSpec& s) {
            QStringList words;
            for (std::size_t i = before; i < s.chain.size(); ++i) words << shown(describeStage(s.chain[i]));
            card->setSentence(words.join(' '));
        });
    } else {
        card->setSentence(
            tr("The whole chain is built from it, units included, in the place of the one that is there. "
               "Undo brings that back."));
    }
    auto* done = new QPushButton(recipe_.empty() ? tr("Leave it as it is") : tr("Done: show the chain"), card);
    done->setDefault(true);
    connect(done, &QPushButton::clicked, this, [this] { askForSensor(false); });
    static_cast<QVBoxLayout*>(card->layout())->addWidget(done, 0, Qt::AlignLeft);
    column->addWidget(card);
}

}  // namespace cruscotto
