#include "app/device/suggestion_buttons.h"

#include <QPushButton>
#include <algorithm>

#include "app/device/device_edits.h"
#include "app/widgets/words.h"
#include "devices/device_kind.h"

namespace cruscotto {

SuggestionButtons::SuggestionButtons(Session& session, QBoxLayout::Direction direction, QWidget* parent)
    : QWidget(parent), session_(session), buttons_(new QBoxLayout(direction, this)) {
    buttons_->setContentsMargins(0, 0, 0, 0);
    buttons_->setSpacing(direction == QBoxLayout::LeftToRight ? 8 : 4);
    hide();
}

void SuggestionButtons::offer(const QString& device, const std::vector<DeviceStatus::Suggestion>& suggestions) {
    if (device == device_ && suggestions == offered_) return;
    device_ = device;
    offered_ = suggestions;
    while (QLayoutItem* item = buttons_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    const DeviceSpec* d = session_.bench().device(device.toStdString());
    const DeviceKind* kind = d ? deviceKind(d->kind) : nullptr;
    for (const DeviceStatus::Suggestion& s : suggestions) {
        if (!kind) break;
        const auto info = std::ranges::find(kind->settings, s.key, &SettingInfo::key);
        if (info == kind->settings.end()) continue;
        auto* take = new QPushButton(shown(s.label), this);
        connect(take, &QPushButton::clicked, this, [this, value = s.value, info = *info] {
            QString wrong;
            const auto next = withSetting(session_.bench(), device_.toStdString(), info, value, &wrong);
            Q_EMIT refused(wrong);
            if (next) session_.edit(tr("Change device"), *next);
        });
        buttons_->addWidget(take, 0, Qt::AlignLeft);
    }
    setVisible(buttons_->count() > 0);
    if (buttons_->direction() == QBoxLayout::LeftToRight) buttons_->addStretch();
}

}  // namespace cruscotto
