#include "app/device/terminal_list.h"

#include <QHBoxLayout>
#include <QPushButton>
#include <QRegularExpression>
#include <QSignalBlocker>
#include <algorithm>
#include <cmath>
#include <map>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostTerminals = 400;
constexpr std::size_t foldedFrom = 40;  // rows, where there are modules

/// What is asked for most often first.
int orderOf(ChannelKind kind) {
    switch (kind) {
        case ChannelKind::analogInput:
            return 0;
        case ChannelKind::counterInput:
            return 1;
        case ChannelKind::digitalInput:
            return 2;
        case ChannelKind::analogOutput:
            return 3;
        case ChannelKind::digitalOutput:
        case ChannelKind::computed:
            break;
    }
    return 4;
}

QString placeOf(const TerminalInfo& t) {
    return shown(t.place.empty() ? t.terminal : t.place);
}

/// "mainboard" for "mainboard.temp1"; empty where there is none.
QString moduleOf(const TerminalInfo& t) {
    const QString place = placeOf(t);
    const auto at = place.indexOf(QRegularExpression("[./]"));
    return at > 0 ? place.left(at) : QString();
}

QString useText(const TerminalInfo& t) {
    if (!t.use.empty()) return shown(t.use);
    switch (t.kind) {
        case ChannelKind::analogInput:
            return TerminalList::tr("analog in");
        case ChannelKind::counterInput:
            return TerminalList::tr("counter");
        case ChannelKind::digitalInput:
            return TerminalList::tr("digital in");
        case ChannelKind::analogOutput:
            return TerminalList::tr("analog out");
        case ChannelKind::digitalOutput:
            return TerminalList::tr("digital out");
        case ChannelKind::computed:
            break;
    }
    return {};
}

}  // namespace

TerminalList::TerminalList(Session& session, QWidget* parent)
    : QWidget(parent), session_(session), column_(new QVBoxLayout(this)) {
    column_->setContentsMargins(0, 8, 0, 0);
    column_->setSpacing(2);
}

void TerminalList::show(const DeviceSpec& device, const std::vector<TerminalInfo>& terminals, bool eitherOr) {
    if (device.id != device_ || terminals != terminals_ || eitherOr != eitherOr_) {
        device_ = device.id;
        terminals_ = terminals;
        eitherOr_ = eitherOr;
        build();
    }
    look();
}

void TerminalList::build() {
    while (QLayoutItem* item = column_->takeAt(0)) {
        if (item->widget()) {
            item->widget()->hide();  // it may be in the middle of telling about the edit that replaces it
            item->widget()->deleteLater();
        }
        delete item;
    }
    rows_.clear();
    modules_.clear();
    search_ = nullptr;
    all_ = nullptr;
    for (const TerminalInfo& t : terminals_) {
        const auto same = std::ranges::find_if(
            rows_, [&](const Row& r) { return !t.place.empty() && r.uses.front().place == t.place; });
        if (same != rows_.end())
            same->uses.push_back(t);
        else
            rows_.push_back({{t}, moduleOf(t)});
    }
    if (rows_.empty()) return;
    std::ranges::stable_sort(rows_, {}, [](const Row& r) { return orderOf(r.uses.front().kind); });
    for (const Row& r : rows_)
        if (std::ranges::find(modules_, r.module, &Module::name) == modules_.end()) modules_.push_back({r.module});
    const bool folds = modules_.size() > 1 && rows_.size() >= 8;
    if (folds)
        std::ranges::stable_sort(rows_, {}, [&](const Row& r) {
            return std::ranges::find(modules_, r.module, &Module::name) - modules_.begin();
        });

    auto* caption = new QLabel(tr("Terminals"), this);
    caption->setObjectName("caption");
    column_->addWidget(caption);
    constexpr std::size_t worthSearching = 8;
    if (rows_.size() >= worthSearching) {
        search_ = new QLineEdit(this);
        search_->setPlaceholderText(tr("Find a terminal"));
        search_->setAccessibleName(tr("Find a terminal"));
        search_->setClearButtonEnabled(true);
        connect(search_, &QLineEdit::textChanged, this, &TerminalList::find);
        column_->addWidget(search_);
    }
    const auto inputs = std::ranges::count_if(rows_, [](const Row& r) { return !isOutput(r.uses.front().kind); });
    if (inputs > 1 && !eitherOr_) {
        all_ = new QPushButton(this);
        connect(all_, &QPushButton::clicked, this, [this] {
            std::vector<TerminalInfo> wanted;
            for (const Row& r : rows_)
                if (!isOutput(r.uses.front().kind) && !signalOf(r) && takenBy(r).isEmpty())
                    wanted.push_back(r.uses.front());
            Q_EMIT useAsked(wanted);
        });
        column_->addWidget(all_, 0, Qt::AlignLeft);
    }
    QString module;
    bool first = true;
    for (std::size_t i = 0; i < std::min(rows_.size(), mostTerminals); ++i) {
        if (folds && (first || rows_[i].module != module)) {
            module = rows_[i].module;
            first = false;
            Module& m = *std::ranges::find(modules_, module, &Module::name);
            m.folded = rows_.size() >= foldedFrom;
            m.head = new QToolButton(this);
            m.head->setObjectName("quiet");
            m.head->setToolButtonStyle(Qt::ToolButtonTextBesideIcon);
            connect(m.head, &QToolButton::clicked, this, [this, name = module] {
                Module& own = *std::ranges::find(modules_, name, &Module::name);
                own.folded = !own.folded;
                find();
            });
            column_->addWidget(m.head, 0, Qt::AlignLeft);
        }
        addRow(rows_[i]);
    }
    if (rows_.size() > mostTerminals) {
        auto* rest = new QLabel(
            tr("And %n more; name them in the bench file.", nullptr, static_cast<int>(rows_.size() - mostTerminals)),
            this);
        rest->setObjectName("muted");
        column_->addWidget(rest);
    }
    find();
}

void TerminalList::addRow(Row& row) {
    row.line = new QWidget(this);
    auto* line = new QHBoxLayout(row.line);
    line->setContentsMargins(0, 0, 0, 0);
    line->setSpacing(8);
    const TerminalInfo& t = row.uses.front();
    auto* name = new QLabel(row.line);
    name->setTextFormat(Qt::PlainText);
    name->setFont(uiFont(13, QFont::Medium));
    name->setText(name->fontMetrics().elidedText(placeOf(t), Qt::ElideMiddle, 108));
    name->setToolTip(t.title.empty() ? placeOf(t) : placeOf(t) + ": " + shown(t.title));
    name->setMinimumWidth(row.uses.size() > 1 ? 44 : 60);
    line->addWidget(name);
    row.value = new QLabel(row.line);
    row.value->setFont(uiFont(13));
    row.value->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
    row.value->setAccessibleName(tr("Raw value of %1").arg(placeOf(t)));
    line->addWidget(row.value, 1);
    if (row.uses.size() > 1) {
        row.use = combo(tr("Use %1 as").arg(placeOf(t)), row.line);
        for (const TerminalInfo& use : row.uses) row.use->addItem(useText(use));
        row.use->setFixedWidth(118);
        line->addWidget(row.use);
    } else {
        auto* use = new QLabel(useText(t), row.line);
        use->setObjectName("muted");
        use->setFixedWidth(74);
        line->addWidget(use);
    }
    row.on = new Switch(row.line);
    row.on->setFixedSize(46, 26);
    row.on->setAccessibleName(tr("Use %1").arg(placeOf(t)));
    connect(row.on, &QAbstractButton::toggled, this, [this, terminal = t.terminal](bool on) { toggle(terminal, on); });
    line->addWidget(row.on);
    column_->addWidget(row.line);
}

void TerminalList::find() {
    const QString words = search_ ? search_->text().trimmed() : QString();
    for (Row& r : rows_) {
        if (!r.line) continue;
        const auto module = std::ranges::find(modules_, r.module, &Module::name);
        bool there = words.isEmpty() ? !(module != modules_.end() && module->head && module->folded) : false;
        for (const TerminalInfo& t : r.uses)
            there = there || (!words.isEmpty() && (placeOf(t).contains(words, Qt::CaseInsensitive) ||
                                                   shown(t.terminal).contains(words, Qt::CaseInsensitive) ||
                                                   shown(t.title).contains(words, Qt::CaseInsensitive) ||
                                                   useText(t).contains(words, Qt::CaseInsensitive)));
        r.line->setVisible(there);
    }
    for (Module& m : modules_) {
        if (!m.head) continue;
        const auto n = static_cast<std::uint64_t>(std::ranges::count(rows_, m.name, &Row::module));
        const QString name = m.name.isEmpty() ? tr("others") : m.name;
        m.head->setText((m.folded ? QStringLiteral("▸ ") : QStringLiteral("▾ ")) + name + QStringLiteral(", ") +
                        counted(n, tr("1 terminal"), tr("%1 terminals")));
        m.head->setVisible(words.isEmpty());
    }
}

const SignalSpec* TerminalList::signalOf(const Row& row) const {
    for (const auto& s : session_.bench().signals)
        if (s->device == device_ && !s->computed)
            for (const TerminalInfo& t : row.uses)
                if (s->terminal == t.terminal) return s.get();
    return nullptr;
}

QString TerminalList::takenBy(const Row& row) const {
    const DeviceSpec* d = session_.bench().device(device_);
    const DeviceKind* kind = d ? deviceKind(d->kind) : nullptr;
    if (!kind || !kind->setup) return {};
    auto all = requestsOf(session_.bench(), device_);
    all.push_back({row.uses.front().terminal});
    const auto problems = problemsOf(all.back(), kind->setup(d->settings, all.back().terminal, all));
    return problems.empty() ? QString() : shown(problems.front().sentence);
}

std::size_t TerminalList::chosenUse(const Row& row) {
    return row.use ? static_cast<std::size_t>(std::max(0, row.use->currentIndex())) : 0;
}

void TerminalList::toggle(const std::string& terminal, bool on) {
    const auto found = std::ranges::find(rows_, terminal, [](const Row& r) { return r.uses.front().terminal; });
    if (found == rows_.end()) return;
    const Row& row = *found;
    if (on) {
        Q_EMIT useAsked({row.uses[chosenUse(row)]});
        return;
    }
    const SignalSpec* s = signalOf(row);
    if (!s) return;
    Bench next = session_.bench();
    for (const auto& other : session_.bench().signals)
        if (other->device == device_ && other->terminal == s->terminal) {
            if (const auto needs = dependentsOf(session_.bench(), other->id); !needs.empty()) {
                Q_EMIT refused(tr("%1 depends on %2. Choose another source there first.")
                                   .arg(shown(needs.front()->name), shown(other->name)));
                return look();
            }
            next = withoutSignal(std::move(next), other->id);
        }
    session_.edit(tr("Remove signal"), std::move(next));
}

void TerminalList::look() {
    if (!session_.engine()) return;
    std::map<std::string, SeenTerminal> seen;
    for (SeenTerminal& terminal : session_.engine()->seenTerminals())
        if (terminal.device == device_ && terminal.newest) seen.emplace(terminal.channel.terminal, std::move(terminal));
    int unused = 0;
    for (const Row& r : rows_) {
        const SignalSpec* s = signalOf(r);
        const QString taken = s ? QString() : takenBy(r);
        unused += !s && taken.isEmpty() && !isOutput(r.uses.front().kind);
        if (!r.line) continue;
        const QSignalBlocker quiet(r.on);
        r.on->setChecked(s != nullptr);
        r.on->setEnabled(taken.isEmpty());
        r.on->setToolTip(!taken.isEmpty() ? taken
                         : s ? tr("It is the signal %1; switched off, that is removed.").arg(shown(s->name))
                             : tr("Makes it a signal"));
        if (r.use) {
            r.use->setEnabled(!s);
            for (std::size_t i = 0; s && i < r.uses.size(); ++i)
                if (r.uses[i].terminal == s->terminal) r.use->setCurrentIndex(static_cast<int>(i));
        }
        const TerminalInfo& use = r.uses[chosenUse(r)];
        QString text;
        if (const auto terminal = seen.find(use.terminal); terminal != seen.end()) {
            const double v = terminal->second.newest->load(std::memory_order_relaxed);
            const bool digital = terminal->second.channel.kind == ChannelKind::digitalInput;
            if (std::isnan(v))
                text.clear();  // nothing has come of it yet
            else if (digital)
                text = v > 0.5 ? tr("high") : tr("low");
            else
                text = shown(shortNumber(v)).replace('-', QChar(0x2212));
        }
        r.value->setText(taken.isEmpty() ? text : tr("taken"));
        r.value->setToolTip(taken);
    }
    if (all_) {
        all_->setVisible(unused > 1);
        all_->setText(tr("Add all %n inputs", nullptr, unused));
    }
}

}  // namespace cruscotto
