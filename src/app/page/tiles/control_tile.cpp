#include "app/page/tiles/control_tile.h"
#include "app/page/tiles/tile_form.h"

#include <QKeyEvent>
#include <QLineEdit>
#include <QSignalBlocker>
#include <QStyle>
#include <cmath>
#include <utility>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

namespace {
constexpr int sliderSteps = 1000;
}

ControlTile::ControlTile(Session& session, QWidget* parent)
    : Tile(session, parent), slider_(new OutputSlider(this)), value_(new QLineEdit(this)), switch_(new Switch(this)) {
    slider_->setRange(0, sliderSteps);
    slider_->setPageStep(sliderSteps / 20);
    slider_->setSingleStep(sliderSteps / 100);
    value_->setAlignment(Qt::AlignRight);
    value_->setAcceptDrops(false);
    connect(slider_, &QSlider::valueChanged, this, [this](int v) {
        if (const auto* s = first(); s && s->output)
            drive(s->output->low + (s->output->high - s->output->low) * v / sliderSteps);
    });
    connect(value_, &QLineEdit::editingFinished, this, [this] {
        if (!value_->isModified()) return;
        double v = 0;
        const SignalSpec* s = first();
        const bool fine = parseNumber(value_->text().toStdString(), v) && s && s->output && v >= s->output->low &&
                          v <= s->output->high;
        value_->setProperty("wrong", !fine);
        value_->style()->polish(value_);
        value_->setToolTip(fine || !s || !s->output
                               ? QString()
                               : tr("A number from %1 to %2 is expected")
                                     .arg(outputText(*s, s->output->low), outputText(*s, s->output->high)));
        if (!fine) return;
        value_->setModified(false);
        drive(v);
    });
    for (QWidget* w : {static_cast<QWidget*>(slider_), static_cast<QWidget*>(value_)}) w->installEventFilter(this);
    slider_->setToolTip(tr("+ and − go a step up and down, Delete goes to the safe value"));
    connect(switch_, &QAbstractButton::toggled, this, [this](bool on) { drive(on ? 1 : 0); });
}

void ControlTile::step(int by) {
    const SignalSpec* s = first();
    if (!s || !s->output || isDigital(s->kind) || !session_.engine()) return;
    constexpr double part = 20;
    const double one = numberOf(spec(), "step").value_or((s->output->high - s->output->low) / part);
    const auto state = session_.engine()->outputState(s->id);
    const double from = state ? state->value : s->output->safe;
    drive(std::clamp(from + by * one, s->output->low, s->output->high));
}

bool ControlTile::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::KeyPress) {
        const auto* key = static_cast<QKeyEvent*>(event);
        const SignalSpec* s = first();
        // What is being typed may begin with a sign.
        const bool typing = watched == value_ && (value_->isModified() || value_->hasSelectedText());
        if (s && s->output && !typing && (key->key() == Qt::Key_Plus || key->key() == Qt::Key_Minus)) {
            step(key->key() == Qt::Key_Plus ? 1 : -1);
            return true;
        }
        if (s && s->output && watched == slider_ && key->key() == Qt::Key_Delete) {
            drive(s->output->safe);
            return true;
        }
    }
    return Tile::eventFilter(watched, event);
}

void ControlTile::drive(double value) {
    if (first() && session_.engine() && live_) session_.engine()->setOutput(first()->id, value);
}

void ControlTile::rebuild() {
    const SignalSpec* s = first();
    const bool digital = s && isDigital(s->kind);
    slider_->setVisible(!digital);
    value_->setVisible(!digital);
    switch_->setVisible(digital);
    if (!s) return;
    slider_->setAccessibleName(shown(s->name));
    value_->setAccessibleName(tr("%1, typed").arg(shown(s->name)));
    switch_->setAccessibleName(shown(s->name));
    const QRectF b = body();
    value_->setStyleSheet("font-size: 24px; font-weight: 500; padding: 0 4px;");
    value_->setGeometry(static_cast<int>(b.left()), static_cast<int>(b.top()), 96, 38);
    slider_->setGeometry(static_cast<int>(b.left()), static_cast<int>(b.top()) + 46, static_cast<int>(b.width()), 24);
    switch_->setGeometry(static_cast<int>(b.left()), static_cast<int>(b.top() + b.height() / 2 - 14), 44, 24);
}

void ControlTile::refresh(Instant t, bool digits) {
    const bool changed = read(t, digits);
    const SignalSpec* s = first();
    if (!s) return;
    const bool live = session_.engine() && session_.cursor().atEnd() && !session_.outputsAtRest();
    if (digits && session_.engine()) {
        const QString problem = shown(session_.engine()->outputProblem(s->device, s->terminal));
        if (std::exchange(problem_, problem) != problem) {
            update();
        }
        const auto held = session_.engine()->outputState(s->id);
        const auto waits = held ? held->waits : std::nullopt;
        if (std::exchange(waits_, waits) != waits) update();
        // A rule, a control, a procedure or an interlock: which.
        const bool ruled = held && (held->holder == OutputHolder::rule || held->holder == OutputHolder::procedure ||
                                    held->holder == OutputHolder::interlock);
        const QString by =
            !ruled ? QString()
                   : (held->holder == OutputHolder::interlock ? QStringLiteral("■ ") : QString()) + shown(held->why);
        if (std::exchange(ruledBy_, by) != by) update();
        const QString why = held ? shown(held->why) : QString();
        setToolTip(!problem.isEmpty() ? tr("It did not go through: %1").arg(problem)
                   : waits            ? tr("%1 What is set now is sent when that is over.").arg(why)
                                      : why);
    }
    if (live != live_) {
        live_ = live;
        update();
        slider_->setEnabled(live);
        value_->setEnabled(live);
        switch_->setEnabled(live);
    }
    const double v = shown_.front().reading.value;
    if (!std::isnan(v) && s->output) {
        const QSignalBlocker a(slider_), b(switch_);
        if (!slider_->isSliderDown())
            slider_->setValue(
                static_cast<int>(std::lround((v - s->output->low) / (s->output->high - s->output->low) * sliderSteps)));
        switch_->setChecked(v > 0.5);
        if (!value_->isModified() && value_->text() != shown_.front().text) value_->setText(shown_.front().text);
    }
    if (changed) update();
}

void ControlTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    const SignalSpec* s = first();
    if (!s || !s->output) return;
    const Theme& t = theme();
    const QRectF b = body();
    const bool digital = isDigital(s->kind);
    const QString safe = digital ? stateWord(*s, s->output->safe) : outputText(*s, s->output->safe) + " " + unitOf(*s);
    const bool reached = shown_.front().reading.quality == Quality::good;
    const bool rests = session_.outputsAtRest();
    const QString what = !session_.engine()    ? tr("as recorded")
                         : rests               ? tr("▲ at rest")
                         : !live_              ? tr("as it was then")
                         : !problem_.isEmpty() ? tr("▲ refused")
                         : !ruledBy_.isEmpty() && reached
                             ? ruledBy_ + (waits_ ? tr("; %1 waits").arg(outputText(*s, *waits_)) : QString())
                         : reached ? tr("safe: %1").arg(safe)
                         : waits_  ? tr("▲ not reached; %1 waits").arg(outputText(*s, *waits_))
                                   : tr("▲ not reached");
    const QColor how = rests || (live_ && (!reached || !problem_.isEmpty())) ? theme().amber : theme().muted;
    if (digital) {
        drawFigures(p, {switch_->geometry().right() + 14.0, switch_->geometry().center().y() + 7.0},
                    (p.setPen(t.ink), uiFont(20, QFont::Medium)), shown_.front().text);
        p.setPen(how);
        p.setFont(uiFont(12));
        const double used =
            switch_->geometry().right() + 14.0 + figuresWidth(uiFont(20, QFont::Medium), shown_.front().text) + 12;
        if (b.right() - used >= p.fontMetrics().horizontalAdvance(what))
            p.drawText(QRectF(b.left(), switch_->geometry().top(), b.width(), 24), Qt::AlignRight | Qt::AlignVCenter,
                       what);
        return;
    }
    p.setPen(t.muted);
    p.setFont(uiFont(15));
    p.drawText(QPointF(value_->geometry().right() + 8, value_->geometry().center().y() + 6), unitOf(*s));
    p.setPen(how);
    p.setFont(uiFont(12));
    if (b.right() - value_->geometry().right() - 40 >= p.fontMetrics().horizontalAdvance(what))
        p.drawText(QRectF(b.left(), value_->geometry().top(), b.width(), value_->height()),
                   Qt::AlignRight | Qt::AlignVCenter, what);
    else if (constexpr double belowEnds = 22; slider_->geometry().bottom() + belowEnds + 16 <= b.bottom())
        p.drawText(QRectF(b.left(), slider_->geometry().bottom() + belowEnds, b.width(), 16),
                   Qt::AlignLeft | Qt::AlignVCenter,
                   p.fontMetrics().elidedText(what, Qt::ElideRight, static_cast<int>(b.width())));
    p.setPen(t.muted);
    drawFigures(p, {b.left(), slider_->geometry().bottom() + 14.0}, uiFont(12), outputText(*s, s->output->low));
    const QString high = outputText(*s, s->output->high);
    drawFigures(p, {b.right() - figuresWidth(uiFont(12), high), slider_->geometry().bottom() + 14.0}, uiFont(12), high);
}

const TileForm& tile_forms::control() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a control"), .make = makeTile<ControlTile>};
    return form;
}

}  // namespace cruscotto
