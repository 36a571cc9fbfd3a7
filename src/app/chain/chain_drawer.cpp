#include "app/chain/chain_drawer.h"

#include <QComboBox>
#include <QDate>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QMenu>
#include <QPushButton>
#include <QToolButton>
#include <cmath>
#include <map>

#include "app/chain/raw_watch.h"
#include "app/chain/stage_trace.h"
#include "app/widgets/fields.h"
#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/keep.h"
#include "core/bench/uncertainty.h"
#include "core/chain/stage_kind.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

/// What can be set at the terminal now, and what not: with another, its card is built anew.
std::string setupShape(const Bench& bench, const SignalSpec& s) {
    const DeviceSpec* device = bench.device(s.device);
    const DeviceKind* kind = device ? deviceKind(device->kind) : nullptr;
    if (!kind || !kind->setup) return {};
    const auto all = requestsOf(bench, s.device);
    std::string out;
    for (const TerminalSetting& setting : kind->setup(device->settings, s.terminal, all)) {
        out += setting.key;
        for (const auto& c : setting.choices) out += c.blocked.empty() ? '+' : '-';
    }
    if (kind->ranges)
        for (const Scale& r : kind->ranges(s.terminal, all)) out += "/" + exactNumber(r.high);
    return out;
}

}  // namespace

ChainDrawer::ChainDrawer(Session& session, QWidget* parent) : QScrollArea(parent), session_(session) {
    scrollUpAndDown(*this, "panel");
    setAccessibleName(tr("Chain"));
    connect(&session_, &Session::benchChanged, this, [this] {
        if (!signal_.isEmpty() && !spec()) Q_EMIT closeAsked();
        if (isVisible()) rebuild();
    });
    connect(&session_, &Session::sourceChanged, this, [this] { shape_.clear(); });
}

const SignalSpec* ChainDrawer::spec() const {
    return session_.corrected(signal_.toStdString());
}

bool ChainDrawer::editable() const {
    const SignalSpec* s = spec();
    return s && !isOutput(s->kind) && (!session_.isRun() || keepsRaw(s->keep));
}

void ChainDrawer::open(const QString& signal) {
    if (signal != signal_) endTrial();
    asksForSensor_ = false;
    signal_ = signal;
    shape_.clear();
    rebuild();
    verticalScrollBar();
}

void ChainDrawer::hideEvent(QHideEvent* event) {
    if (!event->spontaneous()) endTrial();
    QScrollArea::hideEvent(event);
}

void ChainDrawer::endTrial() {
    const std::string id = std::exchange(tried_, {});
    const SignalSpec* s = session_.bench().signal(id);
    if (!s || !s->output || !session_.engine()) return;
    for (const auto& page : session_.bench().pages)
        for (const TileSpec& tile : page->tiles)
            if (std::ranges::find(tile.signals, id) != tile.signals.end()) return;  // somebody sees and holds it there
    session_.engine()->setOutput(id, s->output->safe);
}

void ChainDrawer::edit(const QString& effect, SignalSpec next) {
    if (session_.isRun())
        session_.correct(effect, std::move(next));
    else
        session_.edit(effect, withSignal(session_.bench(), std::move(next)));
}

void ChainDrawer::editStage(std::size_t i, const Stage& stage, const QString& effect) {
    const SignalSpec* s = spec();
    if (!s || i >= s->chain.size()) return;
    SignalSpec next = *s;
    next.chain[i] = stage;
    // A stage further on may depend on this one's unit: the whole chain has to hold.
    auto checked = checkChain(next.chain, s->kind);
    if (checked) checked = checkNeeded(withSignal(session_.bench(), next), next);
    if (!checked) {
        cardOf(i)->setWrong(shown(checked.error().message));
        return;
    }
    cardOf(i)->setWrong({});
    edit(effect, std::move(next));
}

void ChainDrawer::rebuild() {
    const SignalSpec* s = spec();
    if (!s) return;
    std::string shape = s->id + "/" + std::to_string(static_cast<int>(s->kind)) + (session_.isRun() ? "run" : "");
    for (const Stage& stage : s->chain) {
        shape += "/" + stageKey(stage);
        shape += stage.isOff() ? "/off" : "";
        for (const StageField& field : stage.kind().fields) shape += matters(stage, field) ? '+' : '-';
        for (const WantedSource& wanted : sourcesOf(stage)) shape += wanted.source->signal.empty() ? 'c' : 's';
    }
    if (asksForSensor_) shape += "/sensor " + recipe_;
    shape += "/" + setupShape(session_.bench(), *s);
    if (s->computed) shape += s->computed->clock.empty() ? "/rate" : "/clock";
    shape += "/" + std::to_string(static_cast<int>(s->keep.what));
    if (shape != shape_) {
        shape_ = shape;
        stageCards_.clear();
        traces_.clear();
        dropLine_ = nullptr;
        showers_.clear();
        limitsCard_ = nullptr;
        budget_ = nullptr;
        evidence_ = nullptr;
        behind_.clear();
        uncertainAt_.reset();
        watch_ = nullptr;
        auto* content = new QWidget;
        content->setObjectName("panel");
        auto* column = new QVBoxLayout(content);
        column->setContentsMargins(0, 0, 0, 12);
        column->setSpacing(0);
        addIdentity(column);
        if (session_.isRun()) addCorrection(column);
        if (!isOutput(s->kind) && !asksForSensor_) addEvidence(column);
        if (s->computed)
            addComputation(column);
        else
            addTerminal(column);
        if (asksForSensor_) addSensor(column);
        const bool asRecorded = s->computed && session_.isRun();  // the unit alone, which the readings show
        for (std::size_t i = 0; !asksForSensor_ && !asRecorded && i < s->chain.size(); ++i) addStage(column, i);
        if (editable() && !asksForSensor_) {
            auto* add = new QPushButton(tr("Add a stage"), content);
            add->setAccessibleDescription(tr("At its usual place in the chain"));
            connect(add, &QPushButton::clicked, this, [this, add] {
                const SignalSpec* now = spec();
                if (!now) return;
                QMenu menu;
                const auto offered = offeredStages(now->kind, now->unit());
                constexpr std::size_t mostInOneList = 8;
                std::map<StageGroup, QMenu*> groups;
                for (const Stage& stage : offered) {
                    QMenu*& group = groups[stage.kind().group];
                    if (offered.size() <= mostInOneList) group = &menu;
                    if (!group) group = menu.addMenu(shown(stageGroupTitle(stage.kind().group)));
                    group->addAction(shown(stageTitle(stage)), this, [this, stage] {
                        SignalSpec next = *spec();
                        next.chain = withStageInPlace(next.chain, stage, next.kind);
                        edit(tr("Add stage"), std::move(next));
                    });
                }
                menu.exec(add->mapToGlobal(QPoint(0, add->height())));
            });
            auto* row = new QHBoxLayout;
            row->setContentsMargins(16, 4, 16, 12);
            row->addWidget(add);
            if (!s->computed && !session_.isRun()) {
                auto* sensor = new QPushButton(tr("What is this sensor?"), content);
                sensor->setToolTip(tr("Choose the kind of sensor: the whole chain is built, units included"));
                connect(sensor, &QPushButton::clicked, this, [this] { askForSensor(true); });
                row->addWidget(sensor);
            }
            row->addStretch();
            column->addLayout(row);
        }
        if (!isOutput(s->kind) && !s->isState() && !asksForSensor_ && !asRecorded) addBudget(column);
        if (isOutput(s->kind))
            addOutput(column);
        else if (!s->isState() && !asksForSensor_)
            addLimits(column);
        if (!isOutput(s->kind) && !asksForSensor_) addKeep(column);
        column->addStretch();
        if (session_.isRun())
            for (QWidget* w : content->findChildren<QWidget*>())
                if (qobject_cast<QLineEdit*>(w) || qobject_cast<QComboBox*>(w)) {
                    const bool ofStage = std::any_of(stageCards_.begin() + 1, stageCards_.end(),
                                                     [&](StageCard* card) { return card->isAncestorOf(w); });
                    w->setEnabled(ofStage && editable());
                }
        // What is replaced may be in the middle of telling about the edit that replaces it.
        if (QWidget* old = takeWidget()) old->deleteLater();
        setWidget(content);
    }
    for (const auto& show : showers_) show(*s);
    for (StageCard* card : stageCards_) card->setWrong({});
    refresh(session_.shownAt(), true);
}

Field* ChainDrawer::addField(StageCard& card, const QString& label, std::function<QString(const SignalSpec&)> show,
                             std::function<void(const QString&)> take) {
    auto* field = new Field(label, &card);
    connect(field, &Field::taken, this, [take](const QString& text) { take(text); });
    showers_.push_back([field, show](const SignalSpec& s) { field->show(show(s)); });
    place(card.fields(), labelled(label, field, &card));
    return field;
}

Field* ChainDrawer::numberField(StageCard& card, const QString& label, std::function<double(const SignalSpec&)> get,
                                std::function<void(double)> set) {
    auto* field = new Field(label, &card);
    connect(field, &Field::taken, this, [field, set](const QString& text) {
        double v = 0;
        const bool fine = parseNumber(text.toStdString(), v);
        field->markWrong(!fine, fine ? QString() : tr("A number is expected here"));
        if (fine) set(v);
    });
    showers_.push_back([field, get](const SignalSpec& s) { field->show(exactText(get(s))); });
    place(card.fields(), labelled(label, field, &card));
    return field;
}

void ChainDrawer::addIdentity(QVBoxLayout* column) {
    auto* head = new StageCard({}, column->parentWidget());
    head->layout()->setContentsMargins(16, 12, 16, 10);
    auto* row = new QHBoxLayout;
    auto* name = new Field(tr("Name"), head);
    name->setStyleSheet(
        "font-size: 17px; font-weight: 600; border-color: transparent; padding-left: 0; background: transparent;");
    connect(name, &Field::taken, this, [this, name](const QString& text) {
        if (text.trimmed().isEmpty()) return name->markWrong(true, tr("A signal needs a name"));
        name->markWrong(false);
        SignalSpec next = *spec();
        next.name = text.trimmed().toStdString();
        edit(tr("Rename signal"), std::move(next));
    });
    showers_.push_back([name](const SignalSpec& s) { name->show(shown(s.name)); });
    auto* close = closeButton(tr("Close the chain"));
    close->setToolTip(tr("Close the chain (Esc)"));
    connect(close, &QToolButton::clicked, this, &ChainDrawer::closeAsked);
    row->addWidget(name, 1);
    row->addWidget(close);
    head->fields()->addLayout(row);
    if (asksForSensor_) return column->addWidget(head);  // what there is to fill in is to fit beside it
    auto* second = new QHBoxLayout;
    second->setSpacing(8);
    auto* tag = new Field(tr("Tag"), head);
    tag->setMaxLength(4);
    connect(tag, &Field::taken, this, [this, tag](const QString& text) {
        tag->markWrong(false);
        SignalSpec next = *spec();
        next.tag = text.trimmed().toStdString();
        edit(tr("Change tag"), std::move(next));
    });
    showers_.push_back([tag](const SignalSpec& s) { tag->show(shown(s.tag)); });
    auto* colour = combo(tr("Colour"), head);
    const QStringList colours{tr("blue"), tr("orange"), tr("green"), tr("violet"),
                              tr("sky"),  tr("brown"),  tr("olive"), tr("grey")};
    for (int i = 0; i < 8; ++i) {
        QPixmap swatch(12, 12);
        swatch.fill(theme().signal[static_cast<std::size_t>(i)]);
        colour->addItem(QIcon(swatch), colours[i]);
    }
    connect(colour, &QComboBox::activated, this, [this](int i) {
        SignalSpec next = *spec();
        next.colour = i;
        edit(tr("Change colour"), std::move(next));
    });
    showers_.push_back([colour](const SignalSpec& s) { colour->setCurrentIndex(s.colour); });
    second->addWidget(labelled(tr("Tag"), tag, head), 1);
    second->addWidget(labelled(tr("Colour"), colour, head), 2);
    head->fields()->addLayout(second);
    column->addWidget(head);
}

/// What can be done about a chain that was wrong while it was recorded.
void ChainDrawer::addCorrection(QVBoxLayout* column) {
    auto* card = new StageCard({}, column->parentWidget());
    card->layout()->setContentsMargins(16, 10, 16, 12);
    auto* again = new QPushButton(tr("Work the readings out again…"), card);
    auto* back = new QPushButton(tr("Take it back"), card);
    auto* buttons = static_cast<QVBoxLayout*>(card->layout());
    buttons->addWidget(again, 0, Qt::AlignLeft);
    buttons->addWidget(back, 0, Qt::AlignLeft);
    connect(again, &QPushButton::clicked, this, &ChainDrawer::workOutAgainAsked);
    connect(back, &QPushButton::clicked, this, [this] {
        if (const SignalSpec* was = session_.bench().signal(signal_.toStdString()))
            edit(tr("Take the chain back"), *was);
    });
    showers_.push_back([this, card, again, back](const SignalSpec& s) {
        const SignalSpec* was = session_.bench().signal(s.id);
        const bool changed = was && was->chain != s.chain;
        again->setVisible(changed);
        back->setVisible(changed);
        card->setSentence(
            !editable() ? tr("Not the raw samples were recorded, but readings: they stay as they are.")
            : changed ? tr("Below is what this chain would make of the raw samples. The page still shows the readings "
                           "of the chain before.")
                      : tr("If the chain was wrong, correct it below: the raw samples are all there."));
    });
    column->addWidget(card);
}

void ChainDrawer::addStage(QVBoxLayout* column, std::size_t i) {
    const Stage& stage = spec()->chain[i];
    auto* card = new StageCard(shown(stageTitle(stage)), column->parentWidget());
    if (editable()) {
        card->menu_->show();
        connect(card, &StageCard::menuAsked, this, [this, i](QPoint at) { stageMenu(i, at); });
        connect(card, &StageCard::dragged, this, [this](QPoint at) {
            const std::size_t to = placeAt(at);
            if (!dropLine_) {
                dropLine_ = new QWidget(widget());
                dropLine_->setStyleSheet(QString("background: %1").arg(theme().accent.name()));
            }
            const QWidget* behind = to + 1 < stageCards_.size() ? stageCards_[to + 1] : nullptr;
            const int y = behind ? behind->y() : stageCards_.back()->geometry().bottom();
            dropLine_->setGeometry(12, y - 1, widget()->width() - 24, 3);
            dropLine_->show();
            dropLine_->raise();
        });
        connect(card, &StageCard::dropped, this, [this, i](QPoint at) {
            if (dropLine_) dropLine_->hide();
            moveStage(i, placeAt(at));
        });
    }
    stageCards_.push_back(card);
    if (StageTrace::suits(stage) && !session_.isRun()) {
        auto* trace = new StageTrace(card);
        card->fields()->addWidget(trace);
        traces_.emplace_back(i, trace);
        connect(trace, &StageTrace::levelAsked, this, [this, i](const QString& field, double v) {
            const SignalSpec* now = spec();
            if (now && i < now->chain.size())
                editStage(i, now->chain[i].with(field.toStdString(), v), tr("Drag the threshold"));
        });
    }
    addStageFields(*card, i);
    showers_.push_back([card, i](const SignalSpec& s) {
        if (i < s.chain.size()) card->setSentence(shown(describeStage(s.chain[i])));
    });
    column->addWidget(card);
}

void ChainDrawer::addOutput(QVBoxLayout* column) {
    auto* card = new StageCard(tr("Output"), column->parentWidget());
    const auto number = [&](const QString& label, double OutputSpec::*member) {
        numberField(
            *card, label, [member](const SignalSpec& s) { return s.output ? *s.output.*member : 0.0; },
            [this, card, member](double v) {
                SignalSpec next = *spec();
                OutputSpec& o = *next.output;
                o.*member = v;
                if (!(o.low < o.high) || o.start < o.low || o.start > o.high || o.safe < o.low || o.safe > o.high)
                    return card->setWrong(tr("The start and safe values must lie between the lowest and the highest."));
                card->setWrong({});
                edit(tr("Change output"), std::move(next));
            });
    };
    if (!isDigital(spec()->kind)) {
        number(tr("Lowest"), &OutputSpec::low);
        number(tr("Highest"), &OutputSpec::high);
        addField(
            *card, tr("Unit"),
            [](const SignalSpec& s) { return s.output ? shown(unitText(s.output->unit)) : QString(); },
            [this](const QString& text) {
                if (!spec() || !spec()->output) return;
                SignalSpec next = *spec();
                next.output->unit = unitFromTyped(text.toStdString());
                edit(tr("Change unit"), std::move(next));
            });
    }
    number(tr("At start"), &OutputSpec::start);
    number(tr("Safe"), &OutputSpec::safe);
    auto* back = combo(tr("When a lost device is back"), card);
    back->addItems({tr("stays safe"), tr("start value"), tr("as it was before")});
    connect(back, &QComboBox::activated, this, [this](int i) {
        SignalSpec next = *spec();
        next.output->onReturn = static_cast<OutputSpec::OnReturn>(i);
        edit(tr("Change output"), std::move(next));
    });
    showers_.push_back([back](const SignalSpec& s) {
        if (s.output) back->setCurrentIndex(static_cast<int>(s.output->onReturn));
    });
    card->fields()->addWidget(labelled(tr("Device back"), back, card));
    if (session_.engine()) {
        auto* now = new Field(tr("Try it"), card);
        now->setPlaceholderText(tr("a value"));
        connect(now, &Field::taken, this, [this, card, now](const QString& typed) {
            double v = 0;
            const SignalSpec* s = spec();
            const bool fine =
                parseNumber(typed.toStdString(), v) && s && s->output && v >= s->output->low && v <= s->output->high;
            now->markWrong(!fine, fine ? QString() : tr("A number between the lowest and the highest"));
            if (!fine) return;
            tried_ = s->id;
            const bool driven = session_.engine() && session_.engine()->setOutput(s->id, v);
            card->setWrong(driven
                               ? QString()
                               : tr("It is not driven now: the outputs are at rest or safe, or the device is away."));
        });
        place(card->fields(), labelled(tr("Try it"), now, card));
    }
    card->setSentence(
        tr("Tried from here, it goes back to its safe value when the chain is closed, unless it stands on a page. ") +
        tr("The safe value is applied whenever the bench stops, fails or closes, and while the device is lost."));
    column->addWidget(card);
}

void ChainDrawer::rearrange(const QString& effect, const ChainSpec& chain, std::size_t from) {
    auto checked = checkChain(chain, spec()->kind);
    SignalSpec next = *spec();
    next.chain = chain;
    if (checked && !session_.isRun()) checked = checkNeeded(withSignal(session_.bench(), next), next);
    if (!checked) return cardOf(from)->setWrong(shown(checked.error().message));
    edit(effect, std::move(next));
}

std::size_t ChainDrawer::placeAt(QPoint globalAt) const {
    const int y = widget()->mapFromGlobal(globalAt).y();
    std::size_t to = 0;
    for (std::size_t i = 1; i < stageCards_.size(); ++i)
        if (y > stageCards_[i]->geometry().center().y()) to = i;
    return to;
}

void ChainDrawer::moveStage(std::size_t from, std::size_t to) {
    if (!spec() || from >= spec()->chain.size() || to > spec()->chain.size() || to == from || to == from + 1) return;
    ChainSpec chain = spec()->chain;
    const Stage moved = chain[from];
    chain.insert(chain.begin() + static_cast<std::ptrdiff_t>(to), moved);
    chain.erase(chain.begin() + static_cast<std::ptrdiff_t>(from < to ? from : from + 1));
    rearrange(tr("Move stage"), chain, from);
}

void ChainDrawer::stageMenu(std::size_t i, QPoint at) {
    const SignalSpec* s = spec();
    if (!s || i >= s->chain.size()) return;
    const auto rearranged = [this](const QString& effect, const ChainSpec& chain, std::size_t from) {
        rearrange(effect, chain, from);
    };
    QMenu menu;
    menu.addAction(tr("Move up"), this,
                   [=, this] {
                       ChainSpec chain = spec()->chain;
                       std::swap(chain[i], chain[i - 1]);
                       rearranged(tr("Move stage"), chain, i);
                   })
        ->setEnabled(i > 0);
    menu.addAction(tr("Move down"), this,
                   [=, this] {
                       ChainSpec chain = spec()->chain;
                       std::swap(chain[i], chain[i + 1]);
                       rearranged(tr("Move stage"), chain, i);
                   })
        ->setEnabled(i + 1 < s->chain.size());
    const bool off = s->chain[i].isOff();
    menu.addAction(off ? tr("Switch on") : tr("Switch off to compare"), this, [=, this] {
        ChainSpec chain = spec()->chain;
        chain[i] = chain[i].switched(off);
        rearranged(off ? tr("Switch stage on") : tr("Switch stage off"), chain, i);
    });
    menu.addSeparator();
    menu.addAction(tr("Remove stage"), this, [=, this] {
        ChainSpec chain = spec()->chain;
        chain.erase(chain.begin() + static_cast<std::ptrdiff_t>(i));
        rearranged(tr("Remove stage"), chain, i);
    });
    menu.exec(at);
}

void ChainDrawer::refresh(Instant t, bool digits) {
    const SignalSpec* s = spec();
    if (!digits || !s || stageCards_.empty()) return;
    const std::vector<double> values = session_.source().stagesAt(s->id, t);
    if (watch_) watch_->look(session_.source(), *s, values, t);
    showUncertainty(t);
    showEvidence(t);
    std::string unit = isOutput(s->kind) ? s->unit() : rawUnit(s->kind);
    double step = 0;  // of the converter, as long as the unit stays
    std::string stepUnit;
    if (asksForSensor_ && stageCards_.size() > 1) {
        const Reading r = session_.source().at(s->id, t);
        stageCards_.back()->setValue(s->isState() ? stateWord(*s, r.value) : session_.numberText(*s, r.value),
                                     s->isState() ? QString() : shown(unitText(s->unit())));
    }
    for (std::size_t i = 0; i < (asksForSensor_ ? 1 : stageCards_.size()) && i <= s->chain.size(); ++i) {
        if (i > 0) unit = unitAfter(s->chain[i - 1], unit);
        const double v = i < values.size() ? values[i] : std::nan("");
        int decimals = 0;
        const bool whole = unit == "{counts}" || unit == "{pulses}" || (isDigital(s->kind) && unit == "1");
        if (!whole || v != std::floor(v)) {  // what a board says in words is raw too, and need not be whole
            // Four figures or so; of volts as many decimals as the converter's step has.
            const double size = std::fabs(v);
            decimals = size < 1 ? 4 : size < 10 ? 3 : size < 100 ? 2 : 1;
            const auto resolution = i > 0 ? s->chain[i - 1].kind().resolution : nullptr;
            if (const auto own = resolution ? resolution(s->chain[i - 1]) : std::nullopt) {
                step = *own;
                stepUnit = unit;
            } else if (unit != stepUnit) {
                step = 0;
            }
            if (step > 0) decimals = std::clamp(static_cast<int>(std::ceil(-std::log10(step))), 0, 7);
        }
        if (i == s->chain.size() && i > 0 && !s->isState())
            decimals = unit == "1" && v == std::floor(v) && session_.decimalsOf(*s) == 0
                           ? 0
                           : std::max(decimals, session_.decimalsOf(*s));
        for (const auto& [at, trace] : traces_)
            if (at + 1 == i && trace->isVisible())
                trace->look(session_.source(), s->id, at, s->chain[at], unitBefore(s->chain, at, s->kind), t);
        if (i > 0 && i <= s->chain.size())
            if (const auto remark = s->chain[i - 1].kind().remark; remark && i - 1 < values.size()) {
                const QString words = shown(describeStage(s->chain[i - 1]));
                const Text more = s->chain[i - 1].isOff() ? Text{} : remark(s->chain[i - 1], values[i - 1]);
                stageCards_[i]->setSentence(more.empty() ? words : words + ' ' + shown(more));
            }
        // What is computed begins with nothing of its own.
        QString behind = shown(unitText(unit));
        if (i > 0 && i < behind_.size() && behind_[i] > 0 && !std::isnan(v)) {
            const int known = cruscotto::decimalsFor(session_.bench().coverage * behind_[i]);
            decimals = std::min(decimals, known);
            behind = aroundText(session_.bench().coverage * behind_[i], unit);
        }
        if (i > 0 || !s->computed) stageCards_[i]->setValue(shown(readingText(v, decimals)), behind);
    }
    if (limitsCard_) {
        const Reading r = session_.source().at(s->id, t);
        QString word;
        switch (verdictOf(s->limits, r.value)) {
            case Verdict::none:
                word = tr("none");
                break;
            case Verdict::within:
                word = tr("within");
                break;
            case Verdict::low:
                word = tr("▼ below");
                break;
            case Verdict::high:
                word = tr("▲ above");
                break;
        }
        limitsCard_->setValue(word, {});
    }
}

}  // namespace cruscotto
