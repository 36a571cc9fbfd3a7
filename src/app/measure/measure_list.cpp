#include "app/measure/measure_list.h"

#include <QHelpEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>
#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/uncertainty.h"

namespace cruscotto {

namespace {
constexpr double rowHeight = 24, headingHeight = 30, lineBelow = 16;

/// Shares are told in percent.
bool isShare(const std::string& name) {
    return name == "duty" || name == "on-share" || name == "clipped-share";
}
}  // namespace

QString measureText(const Measure& m, std::optional<int> decimals) {
    if (!m.whyNot.empty() || std::isnan(m.value)) return QStringLiteral("–");
    if (m.u > 0) return cruscotto::shown(withUncertainty(m.value, 2 * m.u));
    constexpr double manyDigits = 1e7;
    if (m.value == std::round(m.value) && std::fabs(m.value) < manyDigits)
        return cruscotto::shown(readingText(m.value, 0));
    constexpr int digits = 4;
    const int four = digits - 1 - static_cast<int>(std::floor(std::log10(std::fabs(m.value))));
    return cruscotto::shown(readingText(m.value, std::clamp(decimals.value_or(four), 0, 9)));
}

MeasureList::MeasureList(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Fixed);
}

void MeasureList::show(const StretchMeasures& measures, const Bench& bench, const std::string& signal,
                       const std::string& against, int decimals) {
    rows_.clear();
    const SignalSpec* s = bench.signal(signal);
    double y = 0;
    const auto add = [&](Row row, double height) {
        row.y = y;
        row.height = height;
        y += height;
        rows_.push_back(std::move(row));
    };
    const auto addGroup = [&](std::span<const MeasureKind> kinds, MeasureGroup group, const std::string& with) {
        std::vector<std::pair<QString, QStringList>> reasons;  // and what has none for it
        std::vector<const MeasureKind*> of;
        bool any = false;
        for (const MeasureKind& kind : kinds) {
            if (kind.group != group || !measures.all.contains(kind.name)) continue;
            any = true;
            const Measure& m = measures.all.at(kind.name);
            if (m.whyNot.empty() || expectedOf(bench, signal, with, kind.name)) {
                of.push_back(&kind);
                continue;
            }
            const QString why = cruscotto::shown(m.whyNot);
            auto it = std::ranges::find(reasons, why, &std::pair<QString, QStringList>::first);
            if (it == reasons.end()) it = reasons.insert(it, {why, {}});
            it->second << cruscotto::shown(kind.title);
        }
        if (!any) return;
        Row heading;
        heading.heading = true;
        heading.title = cruscotto::shown(measureGroupTitle(group));
        add(heading, headingHeight);
        for (const MeasureKind* kind : of) {
            Measure m = measures.all.at(kind->name);
            constexpr double shortTime = 0.1;
            if (m.unit == "s" && m.whyNot.empty() && std::fabs(m.value) < shortTime && m.value != 0)
                m.value *= 1000, m.u *= 1000, m.unit = "ms";
            if (isShare(kind->name) && m.whyNot.empty()) m.value *= 100, m.unit = "%";
            Row row;
            row.name = kind->name;
            row.title = cruscotto::shown(kind->title);
            row.value = measureText(m, s && m.unit == s->unit() ? std::optional(decimals) : std::nullopt);
            row.unit = m.unit == "1" ? QString() : cruscotto::shown(unitText(m.unit));
            if (!m.whyNot.empty()) row.unit.clear(), row.below = cruscotto::shown(m.whyNot);
            if (!m.note.empty()) row.below = cruscotto::shown(m.note);
            if (const ExpectedMeasure* expected = expectedOf(bench, signal, with, kind->name)) {
                const Measure& plain = measures.all.at(kind->name);
                if (const auto verdict = judged(plain, *expected)) {
                    row.verdict = verdict->fine ? Row::Verdict::fine : Row::Verdict::off;
                    row.below = (verdict->fine ? tr("✓ %1") : tr("▲ %1, which is too much"))
                                    .arg(cruscotto::shown(verdict->words));
                } else {
                    row.below = tr("expected: %1").arg(cruscotto::shown(shortNumber(expected->value)));
                }
            }
            add(row, rowHeight + (row.below.isEmpty() ? 0 : lineBelow));
        }
        for (const auto& [why, names] : reasons) {
            Row none;
            none.reason = true;
            none.title = of.empty() && reasons.size() == 1 ? why : tr("%1: %2").arg(names.join(", "), why);
            const QFontMetricsF metrics(uiFont(11));
            const double high =
                metrics.boundingRect(QRectF(0, 0, std::max(120, width() - 12), 1000), Qt::TextWordWrap, none.title)
                    .height();
            add(none, high + 8);
        }
    };
    const bool state = s && s->isState();
    if (!against.empty()) addGroup(measureKindsOfTwo(), MeasureGroup::ofTwo, against);
    for (const MeasureGroup group : {MeasureGroup::ofLevel, MeasureGroup::onAndOff, MeasureGroup::repeating,
                                     MeasureGroup::asSine, MeasureGroup::overTime}) {
        if (group == (state ? MeasureGroup::asSine : MeasureGroup::onAndOff)) continue;
        if (state && (group == MeasureGroup::overTime || group == MeasureGroup::ofLevel)) continue;
        addGroup(measureKinds(), group, "");
    }
    setAccessibleName(tr("Measures"));
    setAccessibleDescription(words());
    updateGeometry();
    setFixedHeight(sizeHint().height());
    update();
}

QSize MeasureList::sizeHint() const {
    return {200, rows_.empty() ? 40 : static_cast<int>(rows_.back().y + rows_.back().height) + 4};
}

QString MeasureList::words() const {
    QStringList out;
    for (const Row& r : rows_) {
        if (r.name.empty()) continue;
        QStringList cells{r.title, r.value, r.unit};
        if (!r.below.isEmpty()) cells << r.below;
        out << cells.join('\t');
    }
    return out.join('\n');
}

void MeasureList::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    const double w = width();
    for (const Row& r : rows_) {
        if (r.heading) {
            p.setPen(t.muted);
            p.setFont(captionFont());
            p.drawText(QPointF(0, r.y + r.height - 8), r.title);
            p.setPen(t.hairline);
            p.drawLine(QPointF(0, r.y + r.height - 1.5), QPointF(w, r.y + r.height - 1.5));
            continue;
        }
        p.setRenderHint(QPainter::Antialiasing);
        if (r.reason) {
            p.setPen(t.muted);
            p.setFont(uiFont(11));
            p.drawText(QRectF(8, r.y + 5, w - 12, r.height), Qt::TextWordWrap, r.title);
            continue;
        }
        if (!r.name.empty() && r.name == chosen_) {
            p.fillRect(QRectF(-4, r.y, w + 8, r.height), t.track);
            if (hasFocus()) p.fillRect(QRectF(0, r.y, 2, r.height), t.accent);
        }
        const bool none = r.value == QStringLiteral("–");
        const QFont valueFont = uiFont(13, QFont::Medium), unitFont = uiFont(12);
        const double unitWide = r.unit.isEmpty() ? 0 : QFontMetricsF(unitFont).horizontalAdvance(r.unit) + 4;
        const double valueWide = figuresWidth(valueFont, r.value);
        p.setPen(r.name.empty() || none ? t.muted : t.ink);
        p.setFont(uiFont(12));
        const double room = w - 8 - (r.name.empty() ? 0 : valueWide + unitWide + 8);
        p.drawText(QPointF(8, r.y + 16), p.fontMetrics().elidedText(r.title, Qt::ElideRight, static_cast<int>(room)));
        if (!r.name.empty()) {
            p.setPen(none ? t.muted : t.ink);
            drawFigures(p, QPointF(w - valueWide - unitWide - 4, r.y + 16), valueFont, r.value);
            p.setPen(t.muted);
            p.setFont(unitFont);
            p.drawText(QPointF(w - unitWide, r.y + 16), r.unit);
        }
        if (!r.below.isEmpty()) {
            p.setPen(r.verdict == Row::Verdict::off ? t.red : t.muted);
            p.setFont(uiFont(11));
            p.drawText(QPointF(8, r.y + 32),
                       p.fontMetrics().elidedText(r.below, Qt::ElideRight, static_cast<int>(w - 12)));
        }
    }
}

const MeasureList::Row* MeasureList::rowAt(double y) const {
    for (const Row& r : rows_)
        if (!r.name.empty() && y >= r.y && y < r.y + r.height) return &r;
    return nullptr;
}

void MeasureList::choose(const std::string& name) {
    if (name == chosen_) return;
    chosen_ = name;
    update();
    Q_EMIT chosenChanged();
}

void MeasureList::step(int by) {
    std::vector<const Row*> of;
    int at = -1;
    for (const Row& r : rows_)
        if (!r.name.empty()) {
            if (r.name == chosen_) at = static_cast<int>(of.size());
            of.push_back(&r);
        }
    if (of.empty()) return;
    choose(of[static_cast<std::size_t>(std::clamp(at + by, 0, static_cast<int>(of.size()) - 1))]->name);
}

void MeasureList::mousePressEvent(QMouseEvent* event) {
    if (const Row* r = rowAt(event->position().y())) choose(r->name);
}
void MeasureList::mouseDoubleClickEvent(QMouseEvent* event) {
    if (rowAt(event->position().y())) Q_EMIT expectAsked();
}
void MeasureList::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Down) return step(1);
    if (event->key() == Qt::Key_Up) return step(-1);
    if (event->key() == Qt::Key_Return && !chosen_.empty()) return Q_EMIT expectAsked();
    QWidget::keyPressEvent(event);
}
void MeasureList::focusInEvent(QFocusEvent* event) {
    if (chosen_.empty()) step(1);
    update();
    QWidget::focusInEvent(event);
}
void MeasureList::focusOutEvent(QFocusEvent* event) {
    update();
    QWidget::focusOutEvent(event);
}

bool MeasureList::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip) {  // what may be cut
        const auto* help = static_cast<QHelpEvent*>(event);
        const Row* r = rowAt(help->pos().y());
        if (r)
            QToolTip::showText(help->globalPos(),
                               r->title + QStringLiteral("  ") + r->value + QStringLiteral(" ") + r->unit +
                                   (r->below.isEmpty() ? QString() : QStringLiteral("\n") + r->below),
                               this);
        else
            QToolTip::hideText();
        return true;
    }
    return QWidget::event(event);
}

}  // namespace cruscotto
