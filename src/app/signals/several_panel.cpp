#include "app/signals/several_panel.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QRegularExpression>
#include <QToolButton>
#include <map>
#include <set>

#include "app/device/device_edits.h"
#include "app/widgets/fields.h"
#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/stage_kind.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

std::vector<Scale> rangesFor(const Bench& bench, const SignalSpec& s) {
    const DeviceSpec* device = bench.device(s.device);
    const DeviceKind* kind = device ? deviceKind(device->kind) : nullptr;
    if (!kind || s.computed) return {};
    for (const TerminalInfo& t : kind->terminals(device->settings))
        if (t.terminal == s.terminal) return rangesOf(*kind, t, requestsOf(bench, s.device));
    return {};
}

/// The setting that says how often a device is read; null: it has none.
const SettingInfo* rateSetting(const DeviceSpec& device) {
    const DeviceKind* kind = deviceKind(device.kind);
    if (!kind || kind->rateKey.empty()) return nullptr;
    const auto info = std::ranges::find(kind->settings, kind->rateKey, &SettingInfo::key);
    return info == kind->settings.end() ? nullptr : &*info;
}

QString limitText(const std::optional<double>& v) {
    return v ? exactText(*v) : QString();
}

}  // namespace

SeveralPanel::SeveralPanel(Session& session, QWidget* parent) : QScrollArea(parent), session_(session) {
    scrollUpAndDown(*this, "panel");
    setAccessibleName(tr("Several signals"));
    connect(&session_, &Session::benchChanged, this, [this] {
        if (isVisible()) rebuild();
    });
}

QString SeveralPanel::numbered(const QString& pattern, int index) {
    static const QRegularExpression place(R"(\{n(?::(\d{1,6}))?\})");
    QString out = pattern;
    for (auto match = place.match(out); match.hasMatch(); match = place.match(out)) {
        const int first = match.captured(1).isEmpty() ? 1 : match.captured(1).toInt();
        out.replace(match.capturedStart(), match.capturedLength(), QString::number(first + index));
    }
    return out;
}

void SeveralPanel::open(std::vector<std::string> signalIds) {
    ids_ = std::move(signalIds);
    rebuild();
}

void SeveralPanel::changeAll(const QString& effect, const Change& change) {
    Bench next = session_.bench();
    QStringList left;
    int index = 0;
    for (const std::string& id : ids_) {
        const SignalSpec* now = session_.bench().signal(id);
        if (!now) continue;
        SignalSpec s = *now;
        if (change(s, index++) && checkChain(s.chain, s.kind) && (s.output || checkNeeded(withSignal(next, s), s)))
            next = withSignal(std::move(next), std::move(s));
        else
            left << shown(now->name);
    }
    if (!sameBench(next, session_.bench())) session_.edit(effect, std::move(next));
    said_->setText(left.isEmpty() ? QString()
                                  : tr("Left as they are, since it does not suit them: %1.").arg(left.join(", ")));
    said_->setVisible(!left.isEmpty());
}

Field* SeveralPanel::addField(QVBoxLayout* column, const QString& label,
                              const std::function<QString(const SignalSpec&)>& show,
                              const std::function<void(Field*, const QString&)>& take) {
    auto* field = new Field(label, column->parentWidget());
    std::set<QString> values;
    for (const std::string& id : ids_)
        if (const SignalSpec* s = session_.bench().signal(id)) values.insert(show(*s));
    field->show(values.size() == 1 ? *values.begin() : QString());
    field->setPlaceholderText(values.size() > 1 ? tr("various") : QString());
    connect(field, &Field::taken, this, [field, take](const QString& text) { take(field, text); });
    place(column, labelled(label, field, column->parentWidget()));
    return field;
}

void SeveralPanel::addRates(QVBoxLayout* column) {
    // How often is a device's own: one field for all devices that call it the same.
    std::map<std::string, std::vector<std::pair<std::string, SettingInfo>>> byLabel;
    QStringList wholes;
    for (const std::string& id : ids_) {
        const DeviceSpec* d = session_.bench().device(session_.bench().signal(id)->device);
        const SettingInfo* info = d ? rateSetting(*d) : nullptr;
        if (!info) continue;
        auto& devices = byLabel[info->label.english()];
        if (std::ranges::any_of(devices, [&](const auto& known) { return known.first == d->id; })) continue;
        devices.emplace_back(d->id, *info);
        wholes << shown(d->name);
    }
    for (const auto& [name, sharing] : byLabel)
        addField(
            column, shown(sharing.front().second.label),
            [this](const SignalSpec& s) {
                const DeviceSpec* d = session_.bench().device(s.device);
                const SettingInfo* info = d ? rateSetting(*d) : nullptr;
                return info ? shown(settingText(*d, *info)) : QString();
            },
            [this, devices = sharing](Field* asked, const QString& typed) {
                Bench next = session_.bench();
                QString wrong;
                for (const auto& [id, info] : devices) {
                    auto changed = withSetting(next, id, info, typed.toStdString(), &wrong);
                    if (!changed) return asked->markWrong(true, wrong);
                    next = std::move(*changed);
                }
                asked->markWrong(false, {});
                session_.edit(tr("Change rate"), std::move(next));
            });
    if (byLabel.empty()) return;
    auto* note = new QLabel(tr("How often they are read holds for all signals of %1.").arg(wholes.join(", ")),
                            column->parentWidget());
    note->setObjectName("muted");
    note->setWordWrap(true);
    column->addWidget(note);
}

void SeveralPanel::rebuild() {
    std::erase_if(ids_, [&](const std::string& id) { return !session_.bench().signal(id); });
    if (ids_.size() < 2) return Q_EMIT closeAsked();
    auto* content = new QWidget;
    content->setObjectName("panel");
    auto* column = new QVBoxLayout(content);
    column->setContentsMargins(16, 12, 16, 16);
    column->setSpacing(8);
    auto* head = new QHBoxLayout;
    auto* title = panelTitle(tr("%n signals", nullptr, static_cast<int>(ids_.size())));
    auto* close = closeButton(tr("Close"));
    connect(close, &QToolButton::clicked, this, &SeveralPanel::closeAsked);
    head->addWidget(title, 1);
    head->addWidget(close);
    column->addLayout(head);
    QStringList names;
    for (const std::string& id : ids_) names << shown(session_.bench().signal(id)->name);
    auto* who = new QLabel(names.join(", "), content);
    who->setObjectName("muted");
    who->setWordWrap(true);
    column->addWidget(who);

    auto* fields = new QVBoxLayout;
    fields->setSpacing(8);
    auto* holder = new QWidget(content);
    holder->setLayout(fields);
    fields->setContentsMargins(0, 0, 0, 0);
    column->addWidget(holder);
    addField(
        fields, tr("Name"), [](const SignalSpec& s) { return shown(s.name); },
        [this](Field* field, const QString& typed) {
            field->markWrong(typed.trimmed().isEmpty(), tr("A signal needs a name"));
            if (typed.trimmed().isEmpty()) return;
            changeAll(tr("Rename signals"), [&](SignalSpec& s, int i) {
                s.name = numbered(typed.trimmed(), i).toStdString();
                return true;
            });
        });
    addField(
        fields, tr("Tag"), [](const SignalSpec& s) { return shown(s.tag); },
        [this](Field*, const QString& typed) {
            changeAll(tr("Change tags"), [&](SignalSpec& s, int i) {
                s.tag = numbered(typed.trimmed(), i).left(8).toStdString();
                return true;
            });
        });
    auto* hint = new QLabel(tr("{n} numbers them in the order of the list, {n:3} from 3 on: T{n}."), content);
    hint->setObjectName("muted");
    hint->setWordWrap(true);
    fields->addWidget(hint);

    auto* colour = combo(tr("Colour"), content);
    colour->addItem(tr("as they are"));
    for (int i = 0; i < 8; ++i) {
        QPixmap swatch(12, 12);
        swatch.fill(theme().signal[static_cast<std::size_t>(i)]);
        colour->addItem(QIcon(swatch), tr("colour %1").arg(i + 1));
    }
    connect(colour, &QComboBox::activated, this, [this](int c) {
        if (c == 0) return;
        changeAll(tr("Change colours"), [&](SignalSpec& s, int) {
            s.colour = c - 1;
            return true;
        });
    });
    place(fields, labelled(tr("Colour"), colour, content));

    std::vector<Scale> ranges;
    for (const std::string& id : ids_)
        for (const Scale& r : rangesFor(session_.bench(), *session_.bench().signal(id)))
            if (std::ranges::find(ranges, r) == ranges.end()) ranges.push_back(r);
    if (!ranges.empty()) {
        auto* range = combo(tr("Range"), content);
        range->addItem(tr("as they are"));
        for (const Scale& r : ranges)
            range->addItem(tr("%1 to %2 V")
                               .arg(shown(shortNumber(r.low)).replace('-', QChar(0x2212)), shown(shortNumber(r.high))));
        connect(range, &QComboBox::activated, this, [this, ranges](int c) {
            if (c == 0) return;
            const Scale wanted = ranges[static_cast<std::size_t>(c - 1)];
            changeAll(tr("Change ranges"), [&](SignalSpec& s, int) {
                const auto own = rangesFor(session_.bench(), s);
                if (std::ranges::find(own, wanted) == own.end()) return false;
                s.range = wanted;
                for (Stage& stage : s.chain) stage = withRange(stage, wanted);
                return true;
            });
        });
        place(fields, labelled(tr("Range"), range, content));
    }
    addRates(fields);
    addField(
        fields, tr("Unit"), [](const SignalSpec& s) { return shown(unitText(s.unit())); },
        [this](Field*, const QString& typed) {
            const std::string unit = unitFromTyped(typed.toStdString());
            changeAll(tr("Change units"), [&](SignalSpec& s, int) { return showIn(s, unit); });
        });
    const auto limit = [&](const QString& label, std::optional<double> Limits::*member) {
        addField(
            fields, label, [member](const SignalSpec& s) { return limitText(s.limits.*member); },
            [this, member](Field* field, const QString& typed) {
                double v = 0;
                const bool none = typed.trimmed().isEmpty();
                const bool fine = none || parseNumber(typed.toStdString(), v);
                field->markWrong(!fine, tr("A number, or nothing for no limit"));
                if (!fine) return;
                changeAll(tr("Change limits"), [&](SignalSpec& s, int) {
                    s.limits.*member = none ? std::nullopt : std::optional(v);
                    return !(s.limits.low && s.limits.high && *s.limits.low >= *s.limits.high);
                });
            });
    };
    limit(tr("Low limit"), &Limits::low);
    limit(tr("High limit"), &Limits::high);

    auto* from = combo(tr("Chain of"), content);
    from->addItem(tr("each its own"));
    std::vector<std::string> sources;
    for (const auto& s : session_.bench().signals)
        if (!s->output && !s->computed && !s->chain.empty()) {
            sources.push_back(s->id);
            from->addItem(tr("that of %1").arg(shown(s->name)));
        }
    connect(from, &QComboBox::activated, this, [this, sources](int c) {
        if (c == 0) return;
        const SignalSpec* of = session_.bench().signal(sources[static_cast<std::size_t>(c - 1)]);
        if (!of) return;
        changeAll(tr("Copy the chain"), [of = *of](SignalSpec& s, int) { return takeChain(s, of); });
    });
    column->addWidget(labelled(tr("Chain"), from, content));
    said_ = new QLabel(content);
    said_->setObjectName("wrong");
    said_->setWordWrap(true);
    said_->hide();
    column->addWidget(said_);
    column->addStretch();
    if (QWidget* old = takeWidget()) old->deleteLater();
    setWidget(content);
}

}  // namespace cruscotto
