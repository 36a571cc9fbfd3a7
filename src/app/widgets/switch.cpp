#include "app/widgets/switch.h"

#include <QPainter>

#include "app/widgets/theme.h"

namespace cruscotto {

Switch::Switch(QWidget* parent) : QAbstractButton(parent) {
    setCheckable(true);
    setFocusPolicy(Qt::StrongFocus);
}

void Switch::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    const Theme& t = theme();
    const QRectF track(1, (height() - 20) / 2.0, 42, 20);
    p.setPen(QPen(hasFocus() ? t.accent : isEnabled() ? t.ink : t.muted, 1.5));
    p.setBrush(isChecked() ? QBrush(isEnabled() ? t.ink : t.muted) : Qt::NoBrush);
    p.drawRoundedRect(track, 4, 4);
    p.setPen(Qt::NoPen);
    p.setBrush(isChecked() ? t.ground : isEnabled() ? t.ink : t.muted);
    p.drawRoundedRect(QRectF(isChecked() ? track.right() - 18 : track.left() + 4, track.top() + 4, 14, 12), 2, 2);
}

}  // namespace cruscotto
