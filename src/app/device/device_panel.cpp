#include "app/device/device_panel.h"

#include <QCheckBox>
#include <QComboBox>
#include <QCompleter>
#include <QFileDialog>
#include <QPushButton>
#include <QToolButton>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "app/device/device_edits.h"
#include "app/widgets/fields.h"
#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "devices/device_kind.h"

namespace cruscotto {

using Json = nlohmann::ordered_json;

DevicePanel::DevicePanel(Session& session, QWidget* parent) : QScrollArea(parent), session_(session) {
    scrollUpAndDown(*this, "panel");
    setAccessibleName(tr("Device"));
    connect(&session_, &Session::benchChanged, this, [this] {
        if (!isVisible()) return;
        if (!session_.bench().device(device_.toStdString()))
            Q_EMIT closeAsked();
        else
            rebuild();
    });
}

void DevicePanel::open(const QString& device) {
    askedFor_.clear();  // its files may have changed since
    device_ = device;
    shape_.clear();
    rebuild();
}

void DevicePanel::edit(const SettingInfo& info, const std::string& value) {
    QString wrong;
    const auto next = withSetting(session_.bench(), device_.toStdString(), info, value, &wrong);
    showWrong(wrong);
    if (next) session_.edit(tr("Change device"), *next);
}

void DevicePanel::chooseFile(const SettingInfo& info) {
    const QString path = QFileDialog::getOpenFileName(
        this, tr("Choose a file: %1").arg(shown(info.label)), session_.folderToShow(),
        tr("%1 files (*%2);;All files (*)").arg(shown(info.files).mid(1).toUpper(), shown(info.files)));
    const DeviceSpec* d = session_.bench().device(device_.toStdString());
    if (path.isEmpty() || !d) return;
    if (info.type != SettingInfo::Type::pairs) return edit(info, path.toStdString());
    // It describes the first part that has no description yet; else what its own name says.
    const std::string text = "\n" + settingText(*d, info);
    std::string name = QFileInfo(path).completeBaseName().toStdString();
    if (session_.engine()) {
        const auto statuses = session_.engine()->deviceStatus();
        if (const auto status = statuses.find(d->id); status != statuses.end())
            for (auto part = status->second.parts.rbegin(); part != status->second.parts.rend(); ++part)
                if (text.find("\n" + part->place + " =") == std::string::npos) name = part->place;
    }
    session_.edit(tr("Change device"), withPairs(session_.bench(), d->id, info.key, {{name, path.toStdString()}}));
}

void DevicePanel::showWrong(const QString& words) {
    wrong_->setText(words);
    wrong_->setVisible(!words.isEmpty());
}

void DevicePanel::addSetting(QVBoxLayout* column, const SettingInfo& info) {
    const DeviceSpec* d = session_.bench().device(device_.toStdString());
    const QString value = shown(settingText(*d, info));
    if (info.type == SettingInfo::Type::flag) {
        auto* box = new QCheckBox(shown(info.label).replace('-', ' '), column->parentWidget());
        box->setChecked(value == "true");
        connect(box, &QCheckBox::toggled, this, [this, info](bool on) { edit(info, on ? "true" : "false"); });
        column->addWidget(box);
        return;
    }
    auto* caption = new QLabel(shown(info.label), column->parentWidget());
    caption->setObjectName("caption");
    column->addWidget(caption);
    if (info.type == SettingInfo::Type::choice) {
        auto* box = new Choice(column->parentWidget());
        box->setAccessibleName(shown(info.label));
        for (const std::string& c : info.choices) box->addItem(shown(c));
        box->setCurrentText(value);
        connect(box, &QComboBox::activated, this,
                [this, info, box](int) { edit(info, box->currentText().toStdString()); });
        column->addWidget(box);
    } else if (info.type == SettingInfo::Type::pairs) {
        auto* lines = new LinesField(shown(info.label), value, column->parentWidget());
        connect(lines, &LinesField::taken, this, [this, info](const QString& text) { edit(info, text.toStdString()); });
        column->addWidget(lines);
    } else {
        auto* field = new Field(shown(info.label), column->parentWidget());
        field->show(value);
        if (!info.choices.empty()) {
            QStringList choices;
            for (const std::string& c : info.choices) choices << shown(c);
            field->setCompleter(new QCompleter(choices, field));
        }
        connect(field, &Field::taken, this, [this, info, field](const QString& text) {
            field->markWrong(false);
            edit(info, text.trimmed().toStdString());
        });
        column->addWidget(field);
    }
    if (!info.files.empty()) {
        auto* choose = new QPushButton(tr("Choose a file…"), column->parentWidget());
        choose->setAccessibleName(tr("Choose a file: %1").arg(shown(info.label)));
        connect(choose, &QPushButton::clicked, this, [this, info] { chooseFile(info); });
        column->addWidget(choose, 0, Qt::AlignLeft);
    }
    if (!info.help.empty()) {
        auto* help = new QLabel(shown(info.help), column->parentWidget());
        help->setObjectName("muted");
        help->setWordWrap(true);
        column->addWidget(help);
    }
    column->addSpacing(4);
}

void DevicePanel::rebuild() {
    const DeviceSpec* d = session_.bench().device(device_.toStdString());
    if (!d) return;
    const std::string shape = d->id + d->name + d->settings;
    if (shape == shape_) return offerTerminals();
    shape_ = shape;
    const DeviceKind* kind = deviceKind(d->kind);
    auto* content = new QWidget;
    content->setObjectName("panel");
    auto* column = new QVBoxLayout(content);
    column->setContentsMargins(16, 12, 16, 16);
    column->setSpacing(4);
    auto* head = new QHBoxLayout;
    auto* name = new Field(tr("Name of the device"), content);
    name->setStyleSheet(
        "font-size: 17px; font-weight: 600; border-color: transparent; padding-left: 0; background: transparent;");
    name->show(shown(d->name));
    connect(name, &Field::taken, this, [this, name](const QString& text) {
        if (text.trimmed().isEmpty()) return name->markWrong(true, tr("A device needs a name"));
        name->markWrong(false);
        DeviceSpec next = *session_.bench().device(device_.toStdString());
        next.name = text.trimmed().toStdString();
        session_.edit(tr("Rename device"), withDevice(session_.bench(), next));
    });
    auto* close = closeButton(tr("Close"));
    connect(close, &QToolButton::clicked, this, &DevicePanel::closeAsked);
    head->addWidget(name, 1);
    head->addWidget(close);
    column->addLayout(head);
    auto* title = new QLabel(kind ? shown(kind->title) : shown(d->kind), content);
    title->setObjectName("muted");
    title->setWordWrap(true);
    column->addWidget(title);
    status_ = new QLabel(content);
    status_->setWordWrap(true);
    status_->setTextInteractionFlags(Qt::TextSelectableByMouse);  // there may be a command in it
    column->addSpacing(6);
    column->addWidget(status_);
    suggestions_ = new SuggestionButtons(session_, QBoxLayout::TopToBottom, content);
    connect(suggestions_, &SuggestionButtons::refused, this, &DevicePanel::showWrong);
    column->addWidget(suggestions_);
    parameters_ = new ParameterList(content);
    connect(parameters_, &ParameterList::writeAsked, this, [this](const QString& key, const QString& value) {
        if (session_.engine())
            session_.engine()->setParameter(device_.toStdString(), key.toStdString(), value.toStdString());
    });
    connect(parameters_, &ParameterList::keepAsked, this, &DevicePanel::keepParameters);
    column->addWidget(parameters_->difference());
    load_ = new QLabel(content);
    load_->setWordWrap(true);
    load_->setObjectName("muted");
    load_->hide();
    column->addWidget(load_);
    rejected_ = new QLabel(content);
    rejected_->setWordWrap(true);
    rejected_->setObjectName("muted");
    rejected_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    column->addWidget(rejected_);
    column->addSpacing(4);
    terminals_ = session_.isRun() ? nullptr : new TerminalList(session_, content);
    if (terminals_) {
        connect(terminals_, &TerminalList::useAsked, this, &DevicePanel::addSignalsFor);
        connect(terminals_, &TerminalList::refused, this, &DevicePanel::showWrong);
        connect(terminals_, &TerminalList::signalAsked, this, &DevicePanel::signalAdded);
    }
    if (kind && kind->hasWire && !session_.isRun()) {
        auto* wire = new QPushButton(tr("See the wire"), content);
        wire->setToolTip(tr("The bytes that pass on the link, with their times and what they mean"));
        connect(wire, &QPushButton::clicked, this, [this] { Q_EMIT wireAsked(device_); });
        column->addWidget(wire, 0, Qt::AlignLeft);
    }
    // A device without a signal is there to be wired up: its terminals come first, its settings behind them.
    const bool none = std::ranges::none_of(session_.bench().signals, [&](const auto& s) { return s->device == d->id; });
    if (terminals_ && none) column->addWidget(terminals_);
    column->addSpacing(8);
    if (kind && !session_.isRun())
        for (const SettingInfo& info : kind->settings) {
            if (info.key.starts_with("faults/") && &info != &kind->settings.front() &&
                !(&info - 1)->key.starts_with("faults/")) {
                auto* caption = new QLabel(tr("Faults to try"), content);
                caption->setObjectName("caption");
                column->addSpacing(8);
                column->addWidget(caption);
            }
            QString wrong;  // the scene that is simulated cannot have every fault
            if (info.key.starts_with("faults/") && settingText(*d, info) != "true" &&
                !withSetting(session_.bench(), d->id, info, "true", &wrong))
                continue;
            addSetting(column, info);
        }
    wrong_ = new QLabel(content);
    wrong_->setObjectName("wrong");
    wrong_->setWordWrap(true);
    wrong_->hide();
    column->addWidget(wrong_);
    column->addWidget(parameters_);
    if (terminals_ && !none) column->addWidget(terminals_);
    if (!session_.isRun()) {
        auto* remove = new QPushButton(tr("Remove this device"), content);
        connect(remove, &QPushButton::clicked, this,
                [this] { session_.edit(tr("Remove device"), withoutDevice(session_.bench(), device_.toStdString())); });
        column->addSpacing(12);
        column->addWidget(remove, 0, Qt::AlignLeft);
    }
    column->addStretch();
    // What is replaced may be in the middle of telling about the edit that replaces it.
    if (QWidget* old = takeWidget()) old->deleteLater();
    setWidget(content);
    refresh(true);
}

void DevicePanel::offerTerminals() {
    const DeviceSpec* d = session_.bench().device(device_.toStdString());
    if (!d || !terminals_ || !session_.engine()) return;
    const DeviceKind* kind = deviceKind(d->kind);
    if (const std::string asked = d->id + "\n" + d->kind + "\n" + d->settings; askedFor_ != asked) {
        known_ = kind ? kind->terminals(d->settings) : std::vector<TerminalInfo>{};
        askedFor_ = asked;
    }
    std::vector<TerminalInfo> terminals = known_;
    const auto offer = [&](const TerminalInfo& info) {
        if (std::ranges::find(terminals, info.terminal, &TerminalInfo::terminal) == terminals.end())
            terminals.push_back(info);
    };
    const auto statuses = session_.engine()->deviceStatus();
    if (const auto status = statuses.find(d->id); status != statuses.end())
        for (const TerminalInfo& found : status->second.found) offer(found);
    for (const SeenTerminal& seen : session_.engine()->seenTerminals())
        if (seen.device == d->id && !isOutput(seen.channel.kind))
            offer({seen.channel.terminal, seen.channel.kind, seen.channel.type});
    terminals_->show(*d, terminals, kind && kind->choices);
}

void DevicePanel::addSignalsFor(const std::vector<TerminalInfo>& terminals) {
    Bench bench = session_.bench();
    QString last;
    for (const TerminalInfo& t : terminals) {
        std::string id;
        bench = withSignalFor(bench, device_.toStdString(), t, &id);
        last = shown(id);
    }
    session_.edit(
        terminals.size() == 1 ? tr("Add signal") : tr("Add %n signals", nullptr, static_cast<int>(terminals.size())),
        bench);
    if (terminals.size() == 1) Q_EMIT signalAdded(last);
}

void DevicePanel::keepParameters() {
    const DeviceSpec* d = session_.bench().device(device_.toStdString());
    if (!d || !session_.engine()) return;
    const auto statuses = session_.engine()->deviceStatus();
    const auto it = statuses.find(d->id);
    if (it == statuses.end()) return;
    std::map<std::string, std::string> pairs;
    for (const DeviceParameter& p : it->second.parameters)
        if (p.differs()) pairs[p.key] = *p.there;
    session_.edit(tr("Keep the device's settings"),
                  withPairs(session_.bench(), device_.toStdString(), "parameters", pairs));
}

void DevicePanel::refresh(bool digits) {
    if (!digits || !status_) return;
    if (!session_.engine()) {
        status_->setText(tr("Recorded; nothing is measured now."));
        rejected_->hide();
        return;
    }
    offerTerminals();
    const auto statuses = session_.engine()->deviceStatus();
    const auto it = statuses.find(device_.toStdString());
    if (it == statuses.end()) return;
    const DeviceStatus& s = it->second;
    status_->setText(shown(s.sentence));
    suggestions_->offer(device_, s.suggestions);
    parameters_->show(s.parameters, [this](Instant at) { return wallTimeText(session_.source(), at); });
    QStringList load;
    if (s.linkShare) load << tr("%1 % of the link is used.").arg(*s.linkShare * 100, 0, 'f', 1);
    if (!s.linkAdvice.empty()) load << shown(s.linkAdvice);
    load_->setText(load.join(QLatin1Char(' ')));
    load_->setVisible(!load.isEmpty());
    QString text;
    if (s.bytes) text = tr("%1 bytes, %2 messages, %3 skipped.").arg(s.bytes).arg(s.lines).arg(s.rejected);
    for (auto r = s.lastRejected.rbegin(); r != s.lastRejected.rend() && r - s.lastRejected.rbegin() < 5; ++r) {
        QString bytes;
        for (const char c : r->bytes.substr(0, 60))
            bytes += c >= 32 && c < 127 ? QString(QLatin1Char(c))
                                        : QString("\\x%1").arg(static_cast<unsigned char>(c), 2, 16, QLatin1Char('0'));
        text += "\n" + QString("“%1”: %2").arg(bytes, shown(r->reason));
    }
    rejected_->setTextFormat(Qt::PlainText);
    rejected_->setText(text);
    rejected_->setVisible(!text.isEmpty());
}

}  // namespace cruscotto
