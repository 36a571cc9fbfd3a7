#include "app/device/find_panel.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QPushButton>
#include <QToolButton>
#include <array>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "app/device/device_edits.h"
#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/json_text.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

QLabel* label(const QString& text, const char* style, QVBoxLayout* column) {
    auto* l = new QLabel(text);
    l->setTextFormat(Qt::PlainText);
    l->setObjectName(style);
    l->setWordWrap(true);
    column->addWidget(l);
    return l;
}

/// Two names of one port.
bool samePort(const std::string& a, const std::string& b) {
    std::error_code ec;
    return a == b || std::filesystem::equivalent(a, b, ec);
}

}  // namespace

FindPanel::FindPanel(Session& session, QWidget* parent) : QScrollArea(parent), session_(session) {
    scrollUpAndDown(*this, "panel");
    setAccessibleName(tr("Add a device"));
    auto* content = new QWidget(viewport());
    content->setObjectName("panel");
    column_ = new QVBoxLayout(content);
    column_->setContentsMargins(16, 12, 16, 16);
    column_->setSpacing(4);
    auto* head = new QHBoxLayout;
    auto* title = panelTitle(tr("Add a device"));
    auto* close = closeButton(tr("Close"));
    connect(close, &QToolButton::clicked, this, &FindPanel::closeAsked);
    head->addWidget(title, 1);
    head->addWidget(close);
    column_->addLayout(head);
    list_ = new QWidget;
    column_->addWidget(list_);
    buildHosts();
    column_->addSpacing(12);
    label(tr("Without hardware, or by hand"), "caption", column_);
    for (const DeviceKind& kind : deviceKinds()) {
        auto* add = new QPushButton(shown(kind.title));
        add->setStyleSheet("text-align: left;");
        add->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);  // a long title does not widen the panel
        add->setToolTip(shown(kind.title));
        connect(add, &QPushButton::clicked, this, [this, &kind] { addDevice(kind.key, "", ""); });
        column_->addWidget(add);
    }
    auto* replay = new QPushButton(tr("Replay what was saved from a wire…"));
    replay->setStyleSheet("text-align: left;");
    connect(replay, &QPushButton::clicked, this, [this] {
        const QString path = QFileDialog::getOpenFileName(this, tr("Replay what was saved from a wire"),
                                                          session_.folderToShow(), tr("Wire captures (*.wire)"));
        if (path.isEmpty()) return;
        auto device = captureReplay(path.toStdString());
        if (device)
            if (auto fits = deviceKind(device.value().kind)->check(device.value().settings); !fits)
                device = fits.error();
        replayWrong_->setText(device ? QString() : shown(device.error().message));
        replayWrong_->setVisible(!device);
        if (device)
            addDevice(device.value().kind, QFileInfo(path).completeBaseName().toStdString(), device.value().settings);
    });
    column_->addWidget(replay);
    replayWrong_ = label({}, "wrong", column_);
    replayWrong_->hide();
    column_->addStretch();
    setWidget(content);
}

void FindPanel::showEvent(QShowEvent* event) {
    scout_ = std::make_unique<PortScout>(root_);
    rebuild(scout_->state());
    QScrollArea::showEvent(event);
}

void FindPanel::hideEvent(QHideEvent* event) {
    scout_.reset();
    stopLooking();
    QScrollArea::hideEvent(event);
}

void FindPanel::addDevice(const std::string& key, const std::string& name, const std::string& settings) {
    const DeviceKind* kind = deviceKind(key);
    stopLooking();  // it may hold what the bench's device opens
    std::string id;
    Bench next = withNewDevice(session_.bench(), *kind, &id);
    DeviceSpec device = *next.device(id);
    if (!name.empty()) device.name = name;
    if (!settings.empty()) device.settings = settings;
    session_.edit(tr("Add device"), withDevice(next, device));
    Q_EMIT added(shown(id));
}

void FindPanel::refresh(bool digits) {
    if (!digits || !scout_) return;
    if (trial_) trial_->refresh();
    const PortScout::State state = scout_->state();
    QStringList used;
    for (const auto& d : session_.bench().devices) used << shown(d->name) << shown(d->settings);
    const bool moved = state.tried != shown_.tried;
    PortScout::State before = shown_;
    before.tried = state.tried;
    before.speeds = state.speeds;
    before.hosts = state.hosts;
    if (state.hosts != hostsShown_) showHosts(state.hosts);
    if (before != state || used != used_) {
        used_ = used;
        return rebuild(state);
    }
    shown_ = state;
    if (moved && progress_) {
        progress_->setMaximum(static_cast<int>(state.speeds));
        progress_->setValue(static_cast<int>(state.tried));
    }
}

void FindPanel::rebuild(const PortScout::State& state) {
    shown_ = state;
    progress_ = nullptr;
    auto* fresh = new QWidget;
    auto* column = new QVBoxLayout(fresh);
    column->setContentsMargins(0, 8, 0, 0);
    column->setSpacing(4);
    label(tr("Attached now"), "caption", column);
    for (const FoundPort& port : state.ports) addPort(port, state, column);
    if (!state.looked) label(tr("Looking…"), "muted", column);
    if (state.looked && state.ports.empty())
        label(tr("No serial port is attached; the list that the system keeps of them is empty. Plug the board in: it "
                 "appears here by itself. If it does not: is the cable one that carries data, not only power? Does "
                 "the board have power?"),
              "muted", column);
    addSystem(state, column);
    if (trial_ && list_->isAncestorOf(trial_.get())) dropTrial();  // what was looked at is gone
    delete column_->replaceWidget(list_, fresh);
    list_->hide();
    list_->deleteLater();
    list_ = fresh;
}

void FindPanel::addSystem(const PortScout::State& state, QVBoxLayout* column) {
    const auto used = [&](const FoundInput& input) {
        for (const auto& d : session_.bench().devices) {
            const DeviceKind* kind = d->kind == input.kind ? deviceKind(d->kind) : nullptr;
            if (!kind) continue;
            const auto settings = parseJson(d->settings.empty() ? "{}" : d->settings);
            const auto info = std::ranges::find(kind->settings, input.key, &SettingInfo::key);
            const auto it = settings.find(input.key);
            const std::string value = it != settings.end() && it->is_string() ? it->get<std::string>()
                                      : info != kind->settings.end()          ? info->otherwise
                                                                              : std::string();
            if (value == input.value) return shown(d->name);
        }
        return QString();
    };
    for (const FoundInput& input : state.inputs) {
        const QString name = input.name.empty() ? tr("This computer") : shown(input.name);
        column->addSpacing(8);
        auto* title = new QLabel(name);
        title->setTextFormat(Qt::PlainText);
        title->setStyleSheet("font-weight: 600;");
        column->addWidget(title);
        label(shown(input.what), "muted", column);
        if (const QString inUse = used(input); !inUse.isEmpty()) {
            label(tr("In this bench as %1.").arg(inUse), "muted", column);
            continue;
        }
        const QString key = shown(input.kind + input.value);
        auto* add = new QPushButton(tr("Add"));
        add->setAccessibleName(tr("Add %1").arg(name));
        connect(add, &QPushButton::clicked, this,
                [this, input, name, key] { addDevice(input.kind, name.toStdString(), asFound(key, input.settings)); });
        auto* see = lookButton(key, name, [this, key, input] { look(key, input.kind, input.settings); });
        auto* buttons = new QHBoxLayout;
        buttons->setSpacing(8);
        buttons->addWidget(add);
        buttons->addWidget(see);
        buttons->addStretch();
        column->addLayout(buttons);
        placeTrial(key, column);
    }
}

QPushButton* FindPanel::lookButton(const QString& key, const QString& name, std::function<void()> look) {
    const bool looks = trial_ && trialOf_ == key;
    auto* out = new QPushButton(looks ? tr("Stop looking") : tr("Look inside"));
    out->setAccessibleName(looks ? tr("Stop looking inside %1").arg(name) : tr("Look inside %1").arg(name));
    if (looks)
        connect(out, &QPushButton::clicked, this, &FindPanel::stopLooking);
    else
        connect(out, &QPushButton::clicked, this, std::move(look));
    return out;
}

void FindPanel::look(const QString& key, const std::string& kind, const std::string& settings) {
    dropTrial();
    trialOf_ = key;
    auto quiet = parseOrderedJson(settings);
    if (kind == "can") quiet["listen-only"] = true;
    trial_ = std::make_unique<TrialView>(*deviceKind(kind), jsonText(quiet), this);
    rebuild(shown_);
    listHosts();
}

std::string FindPanel::asFound(const QString& key, const std::string& settings) const {
    if (!trial_ || trialOf_ != key) return settings;
    auto found = parseOrderedJson(trial_->settings());
    if (!parseOrderedJson(settings).contains("listen-only")) found.erase("listen-only");  // the look was quiet, no more
    return jsonText(found);
}

void FindPanel::stopLooking() {
    if (!trial_) return;
    dropTrial();
    rebuild(shown_);
    listHosts();
}

void FindPanel::dropTrial() {
    trial_.reset();
    trialOf_.clear();
}

void FindPanel::placeTrial(const QString& key, QVBoxLayout* below) {
    if (!trial_ || trialOf_ != key) return;
    below->addWidget(trial_.get());
    trial_->show();
}

void FindPanel::buildHosts() {
    column_->addSpacing(12);
    label(tr("On the network"), "caption", column_);
    auto* line = new QHBoxLayout;
    line->setSpacing(8);
    range_ = new Field(tr("Addresses"));
    range_->setPlaceholderText(tr("192.0.2.1-20"));
    port_ = new Field(tr("Port"));
    port_->show("502");
    port_->setFixedWidth(64);
    line->addWidget(range_, 1);
    line->addWidget(port_);
    column_->addLayout(line);
    asks_ = new Choice;
    asks_->setAccessibleName(tr("What is asked"));
    asks_->addItems({tr("Modbus: ask what it is"), tr("Instrument: ask what it is (*IDN?)"),
                     tr("IO-Link master: ask what it is"), tr("Only whether it takes a connection")});
    connect(asks_, &QComboBox::activated, this, [this](int i) {
        constexpr std::array ports{"502", "5025", "80"};
        if (i < 3) port_->show(ports.at(static_cast<std::size_t>(i)));
    });
    column_->addWidget(asks_);
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(8);
    scan_ = new QPushButton(tr("Look"));
    scan_->setAccessibleName(tr("Look which hosts answer"));
    scanned_ = new QProgressBar;
    scanned_->setAccessibleName(tr("Addresses tried"));
    scanned_->setTextVisible(false);
    scanned_->hide();
    buttons->addWidget(scan_);
    buttons->addWidget(scanned_, 1);
    buttons->addStretch();
    column_->addLayout(buttons);
    scanSays_ = label({}, "muted", column_);
    scanSays_->setText(
        tr("Only these addresses and this port are touched, when you press Look. Nothing is changed in what answers."));
    hosts_ = new QVBoxLayout;
    hosts_->setSpacing(4);
    column_->addLayout(hosts_);
    const auto look = [this] {
        if (!scout_) return;
        if (hostsShown_.going) return scout_->stopScan();
        bool number = false;
        const int port = port_->text().trimmed().toInt(&number);
        port_->markWrong(!number || port < 1 || port > 65535, tr("A port is a number from 1 to 65535."));
        if (!number || port < 1 || port > 65535) return;
        constexpr std::array questions{HostQuestion::modbusIdentity, HostQuestion::scpiIdentity,
                                       HostQuestion::ioLinkIdentity, HostQuestion::nothing};
        scout_->scan(range_->text().trimmed().toStdString(), static_cast<std::uint16_t>(port),
                     questions.at(static_cast<std::size_t>(asks_->currentIndex())));
    };
    connect(scan_, &QPushButton::clicked, this, look);
    connect(range_, &QLineEdit::returnPressed, this, look);
}

void FindPanel::showHosts(const PortScout::State::Hosts& hosts) {
    const bool sameFound = hosts.result == hostsShown_.result && hosts.port == hostsShown_.port;
    hostsShown_ = hosts;
    scan_->setText(hosts.going ? tr("Stop") : tr("Look"));
    scanned_->setVisible(hosts.going);
    scanned_->setMaximum(static_cast<int>(std::max<std::uint64_t>(hosts.all, 1)));
    scanned_->setValue(static_cast<int>(hosts.done));
    if (hosts.going)
        scanSays_->setText(tr("%1 of %2 addresses").arg(hosts.done).arg(hosts.all));
    else if (!hosts.sentence.empty())
        scanSays_->setText(shown(hosts.sentence));
    if (!sameFound) listHosts();
}

void FindPanel::listHosts() {
    const PortScout::State::Hosts& hosts = hostsShown_;
    std::vector<QWidget*> before;
    while (QLayoutItem* item = hosts_->takeAt(0)) {
        if (item->widget()) before.push_back(item->widget());
        delete item;
    }
    for (const HostScan::Found& found : hosts.result.found) {
        const std::string address = addressText(found.address) + ":" + std::to_string(hosts.port);
        auto* row = new QWidget;
        auto* rows = new QVBoxLayout(row);
        rows->setContentsMargins(0, 4, 0, 0);
        rows->setSpacing(4);
        auto* words = new QLabel(shown(address) +
                                 (found.identity.empty() ? QString() : QStringLiteral("\n") + shown(found.identity)));
        words->setTextFormat(Qt::PlainText);
        words->setWordWrap(true);
        rows->addWidget(words);
        if (hosts.question != HostQuestion::nothing) {
            auto* add = new QPushButton(tr("Add"));
            add->setAccessibleName(tr("Add %1").arg(shown(address)));
            const char* kind = hosts.question == HostQuestion::scpiIdentity     ? "scpi"
                               : hosts.question == HostQuestion::ioLinkIdentity ? "io-link-master"
                                                                                : "modbus";
            std::string name = found.identity.substr(0, found.identity.find(',', found.identity.find(',') + 1));
            if (constexpr std::string_view protocol = "Modbus "; name.starts_with(protocol))
                name.erase(0, protocol.size());
            const std::string settings = jsonText(nlohmann::ordered_json{{"address", address}});
            connect(add, &QPushButton::clicked, this, [this, kind, name, address, settings] {
                addDevice(kind, name, asFound(shown(address), settings));
            });
            auto* see = lookButton(shown(address), shown(address),
                                   [this, kind, address, settings] { look(shown(address), kind, settings); });
            auto* buttons = new QHBoxLayout;
            buttons->setSpacing(8);
            buttons->addWidget(add);
            buttons->addWidget(see);
            buttons->addStretch();
            rows->addLayout(buttons);
            placeTrial(shown(address), rows);
        }
        hosts_->addWidget(row);
    }
    for (QWidget* row : before) {
        if (trial_ && row->isAncestorOf(trial_.get())) dropTrial();
        row->hide();
        row->deleteLater();
    }
}

void FindPanel::addPort(const FoundPort& port, const PortScout::State& state, QVBoxLayout* column) {
    column->addSpacing(8);
    const QString said = shown(port.product.empty() ? port.node : port.product);
    auto* name = new QLabel(said);
    name->setTextFormat(Qt::PlainText);
    name->setStyleSheet("font-weight: 600;");
    column->addWidget(name);
    QStringList more;
    if (!port.maker.empty()) more << shown(port.maker);
    if (!port.serial.empty()) more << tr("number %1").arg(shown(port.serial));
    if (!port.product.empty()) more << shown(port.node);
    if (!more.isEmpty()) label(more.join(QStringLiteral(" · ")), "muted", column);
    QString inUse;
    for (const auto& d : session_.bench().devices) {
        const auto settings = parseJson(d->settings.empty() ? "{}" : d->settings);
        for (const char* key : {"port", "address"})
            if (const auto it = settings.find(key);
                it != settings.end() && it->is_string() && samePort(it->get<std::string>(), port.path))
                inUse = shown(d->name);
    }
    if (!inUse.isEmpty()) {
        label(tr("In this bench as %1.").arg(inUse), "muted", column);
        return;
    }
    if (!port.problem.empty()) label(shown(port.problem), "wrong", column);
    const auto heard = state.heard.find(port.path);
    if (heard != state.heard.end()) {
        label(shown(heard->second.sentence), "muted", column);
        if (!heard->second.line.empty())
            label(QStringLiteral("“%1”").arg(shown(printableBytes(heard->second.line))), "", column);
    }
    const QString key = shown(port.path);
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(8);
    if (state.listening == port.path) {
        progress_ = new QProgressBar;
        progress_->setAccessibleName(tr("Speeds tried"));
        progress_->setMaximum(static_cast<int>(std::max<std::size_t>(state.speeds, 1)));
        progress_->setValue(static_cast<int>(state.tried));
        progress_->setTextVisible(false);
        auto* stop = new QPushButton(tr("Stop"));
        connect(stop, &QPushButton::clicked, this, [this] { scout_->stopListening(); });
        buttons->addWidget(progress_, 1);
        buttons->addWidget(stop);
        label(tr("Listening at one speed after the other. Nothing is sent."), "muted", column);
    } else {
        // What stands on the other side of a port nobody can tell beforehand; most boards print text.
        auto* as = new Choice;
        as->setAccessibleName(tr("What is on %1").arg(said));
        for (const auto& [kind, words] : {std::pair{"serial-line-board", tr("prints text")},
                                          {"frame-board", tr("sends frames of bytes")},
                                          {"modbus", tr("answers Modbus")},
                                          {"scpi", tr("instrument (SCPI)")},
                                          {"can", tr("CAN adapter")},
                                          {"firmata", tr("Firmata board")}})
            as->addItem(words, QString(kind));
        if (heard != state.heard.end() && heard->second.bytesNoText) as->setCurrentIndex(1);
        column->addWidget(as);
        auto* add = new QPushButton(tr("Add"));
        add->setAccessibleName(tr("Add %1").arg(said));
        const auto kindThere = [as] { return as->currentData().toString().toStdString(); };
        const auto settingsThere = [this, path = port.path](const std::string& kind) {
            nlohmann::ordered_json settings;
            const auto known = shown_.heard.find(path);
            const auto baud = known != shown_.heard.end() ? known->second.baud : std::nullopt;
            if (kind == "serial-line-board") {
                settings = {{"port", path}, {"baud", baud.value_or(0)}};
                if (known != shown_.heard.end() && known->second.labelled) settings["lines"] = "labelled";
            } else {
                settings = {{"address", path}};
                if (baud && kind != "can") settings["baud"] = *baud;
            }
            const std::string first = jsonText(settings);
            return lookedAs_ == kind ? asFound(shown(path), first) : first;
        };
        connect(add, &QPushButton::clicked, this, [this, said, kindThere, settingsThere] {
            addDevice(kindThere(), said.toStdString(), settingsThere(kindThere()));
        });
        auto* see = lookButton(key, said, [this, key, kindThere, settingsThere] {
            lookedAs_ = kindThere();
            look(key, lookedAs_, settingsThere(lookedAs_));
        });
        if (trialOf_ == key) as->setCurrentIndex(std::max(as->findData(shown(lookedAs_)), 0));
        auto* listen = new QPushButton(heard == state.heard.end() ? tr("Listen first") : tr("Listen again"));
        listen->setAccessibleName(tr("Listen to %1").arg(said));
        connect(listen, &QPushButton::clicked, this, [this, path = port.path] {
            stopLooking();
            scout_->listen(path);
        });
        buttons->addWidget(add);
        buttons->addWidget(see);
        buttons->addWidget(listen);
        buttons->addStretch();
    }
    column->addLayout(buttons);
    placeTrial(key, column);
}

}  // namespace cruscotto
