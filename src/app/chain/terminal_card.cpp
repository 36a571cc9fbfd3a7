// The first card of a chain: what the terminal is set to, and what it does: a part of the chain drawer.
#include <QComboBox>
#include <QPushButton>
#include <QStandardItemModel>
#include <cmath>

#include "app/chain/chain_drawer.h"
#include "app/chain/raw_watch.h"
#include "app/widgets/fields.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/stage_kind.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

QString rangeText(const Scale& r) {
    const auto end = [](double v) { return shown(shortNumber(v)).replace('-', QChar(0x2212)); };
    return QObject::tr("%1 to %2 V").arg(end(r.low), end(r.high));
}

std::vector<TerminalSetting> settingsOf(const Bench& bench, const SignalSpec& s) {
    const DeviceSpec* device = bench.device(s.device);
    const DeviceKind* kind = device ? deviceKind(device->kind) : nullptr;
    if (!kind || !kind->setup) return {};
    return kind->setup(device->settings, s.terminal, requestsOf(bench, s.device));
}

std::vector<Scale> rangesNow(const Bench& bench, const SignalSpec& s) {
    const DeviceSpec* device = bench.device(s.device);
    const DeviceKind* kind = device ? deviceKind(device->kind) : nullptr;
    if (!kind) return {};
    for (const TerminalInfo& t : kind->terminals(device->settings))
        if (t.terminal == s.terminal) return rangesOf(*kind, t, requestsOf(bench, s.device));
    return {};
}

/// The signal with a range that its terminal has as it is set up.
void takeRange(const Bench& bench, SignalSpec& s) {
    const auto ranges = rangesNow(withSignal(bench, s), s);
    if (ranges.empty() || (s.range && std::ranges::find(ranges, *s.range) != ranges.end())) return;
    if (!s.range) return;
    s.range = ranges.back();
    for (Stage& stage : s.chain) stage = withRange(stage, *s.range);
}

}  // namespace

/// Where the chain begins as the terminal brings it, it goes on as the terminal brings it now.
static void followSetup(const Bench& bench, const SignalSpec& before, SignalSpec& next) {
    const DeviceSpec* device = bench.device(next.device);
    const DeviceKind* kind = device ? deviceKind(device->kind) : nullptr;
    if (!kind || !kind->chain) return;
    const ChainSpec was = kind->chain(device->settings, {before.terminal, before.range, before.setup}),
                    is = kind->chain(device->settings, {next.terminal, next.range, next.setup});
    if (was.size() != is.size() || next.chain.size() < was.size() ||
        !std::equal(was.begin(), was.end(), next.chain.begin()))
        return;
    std::copy(is.begin(), is.end(), next.chain.begin());
}

void ChainDrawer::changeSetup(const std::string& key, std::variant<double, std::string> value, const QString& effect) {
    SignalSpec next = *spec();
    next.setup[key] = std::move(value);
    // What has no place any more with this goes.
    const auto left = settingsOf(withSignal(session_.bench(), next), next);
    std::erase_if(next.setup, [&](const auto& entry) {
        return std::ranges::find(left, entry.first, &TerminalSetting::key) == left.end();
    });
    takeRange(session_.bench(), next);
    const auto problems =
        problemsOf({next.terminal, next.range, next.setup}, settingsOf(withSignal(session_.bench(), next), next));
    if (!problems.empty()) return stageCards_[0]->setWrong(shown(problems.front().sentence));
    followSetup(session_.bench(), *spec(), next);
    edit(effect, std::move(next));
}

void ChainDrawer::addSetup(StageCard& card, const TerminalSetting& setting) {
    const QString title = shown(setting.label);
    const QString effect = tr("Change %1").arg(title.toLower());
    if (setting.choices.empty()) {
        const QString label = setting.unit.empty() ? title : title + ", " + shown(unitText(setting.unit));
        numberField(
            card, label, [setting](const SignalSpec& s) { return numberSet(s.setup, setting); },
            [this, &card, setting, effect](double v) {
                if (!(v >= setting.low && v <= setting.high))
                    return card.setWrong(tr("A number from %1 to %2 is expected here.")
                                             .arg(shown(shortNumber(setting.low)), shown(shortNumber(setting.high))));
                changeSetup(setting.key, v, effect);
            });
        return;
    }
    auto* box = combo(title, &card);
    auto* model = qobject_cast<QStandardItemModel*>(box->model());
    QString why;
    for (const TerminalSetting::Choice& c : setting.choices) {
        box->addItem(shown(c.title));
        if (c.blocked.empty()) continue;
        // It is seen, and cannot be chosen; the reason stands at it and below.
        box->setItemData(box->count() - 1, shown(c.blocked), Qt::ToolTipRole);
        if (model) model->item(box->count() - 1)->setEnabled(false);
        why = tr("%1: %2").arg(shown(c.title), shown(c.blocked));
    }
    box->setToolTip(why);
    connect(box, &QComboBox::activated, this, [this, setting, effect](int i) {
        changeSetup(setting.key, setting.choices[static_cast<std::size_t>(i)].key, effect);
    });
    showers_.push_back([box, setting](const SignalSpec& s) {
        const auto at = std::ranges::find(setting.choices, chosen(s.setup, setting), &TerminalSetting::Choice::key);
        box->setCurrentIndex(at == setting.choices.end() ? -1 : static_cast<int>(at - setting.choices.begin()));
    });
    place(card.fields(), labelled(title, box, &card));
}

void ChainDrawer::addTerminal(QVBoxLayout* column) {
    const SignalSpec* s = spec();
    const DeviceSpec* device = session_.bench().device(s->device);
    const DeviceKind* kind = device ? deviceKind(device->kind) : nullptr;
    auto* card = new StageCard(tr("Terminal %1").arg(shown(s->terminal)), column->parentWidget());
    for (const TerminalSetting& setting : settingsOf(session_.bench(), *s)) addSetup(*card, setting);
    const std::vector<Scale> ranges = rangesNow(session_.bench(), *s);
    if (!ranges.empty()) {
        auto* range = combo(tr("Range"), card);
        for (const Scale& r : ranges) range->addItem(rangeText(r));
        connect(range, &QComboBox::activated, this, [this, ranges](int i) {
            // The box's range and the factor from counts to volts are one decision: they change together.
            SignalSpec next = *spec();
            next.range = ranges[static_cast<std::size_t>(i)];
            for (Stage& stage : next.chain) stage = withRange(stage, *next.range);
            edit(tr("Change range"), std::move(next));
        });
        showers_.push_back([range, ranges](const SignalSpec& now) {
            const auto it = std::find(ranges.begin(), ranges.end(), now.range.value_or(ranges.back()));
            range->setCurrentIndex(static_cast<int>(it - ranges.begin()));
        });
        place(card->fields(), labelled(tr("Range"), range, card));
    }
    addTrial(*card);
    const QString where = device ? shown(device->name) : shown(s->device);
    const bool hasRanges = !ranges.empty();
    const JsonText settings = device ? device->settings : JsonText();
    showers_.push_back([this, card, where, kind, settings, hasRanges](const SignalSpec& now) {
        QString sentence;
        const auto all = requestsOf(session_.bench(), now.device);
        if (kind && kind->setupSentence) sentence = shown(kind->setupSentence(settings, now.terminal, all));
        if (sentence.isEmpty()) switch (now.kind) {
                case ChannelKind::analogInput:
                    sentence =
                        hasRanges
                            ? tr("Analog input of %1; the smallest range that the signal fits is the best.").arg(where)
                            : tr("Comes ready made from %1.").arg(where);
                    break;
                case ChannelKind::digitalInput:
                    sentence = tr("Digital input of %1: 0 is low, 1 is high.").arg(where);
                    break;
                case ChannelKind::counterInput:
                    sentence = tr("Counts pulses, in %1.").arg(where);
                    break;
                case ChannelKind::analogOutput:
                    sentence = tr("Analog output of %1, in volts.").arg(where);
                    break;
                case ChannelKind::digitalOutput:
                    sentence = tr("Digital output of %1.").arg(where);
                    break;
                case ChannelKind::computed:
                    break;
            }
        QStringList more{sentence};
        for (const TerminalSetting& setting : settingsOf(session_.bench(), now)) {
            if (!setting.note.empty()) more << shown(setting.note);
            for (const auto& c : setting.choices)
                if (!c.blocked.empty()) more << tr("Not now, “%1”: %2").arg(shown(c.title), shown(c.blocked));
        }
        card->setSentence(more.join(' '));
    });
    stageCards_.push_back(card);
    column->addWidget(card);
}

void ChainDrawer::addTrial(StageCard& card) {
    const SignalSpec& s = *spec();
    if (session_.isRun()) return;
    watch_ = new RawWatch(s, &card);
    card.fields()->addWidget(watch_);
    auto* fit = new QPushButton(&card);
    fit->hide();
    watch_->setButton(fit);
    card.fields()->addWidget(fit, 0, Qt::AlignLeft);
    connect(fit, &QPushButton::clicked, this, [this] {
        const auto smallest =
            watch_ ? watch_->smallestRange(rangesNow(session_.bench(), *spec()), *spec()) : std::nullopt;
        if (!smallest) return;
        SignalSpec next = *spec();
        next.range = *smallest;
        for (Stage& stage : next.chain) stage = withRange(stage, *smallest);
        edit(tr("Change range"), std::move(next));
    });
    showers_.push_back([this](const SignalSpec& now) {
        if (watch_) watch_->setRanges(rangesNow(session_.bench(), now));
    });
}

}  // namespace cruscotto
