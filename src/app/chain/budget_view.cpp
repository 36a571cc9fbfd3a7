#include "app/chain/budget_view.h"

#include <QPainter>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

namespace {

constexpr int budgetHead = 30, partHeight = 34, mostParts = 7;

QString amount(double v) {
    return shown(readingText(v, decimalsFor(2 * v)));
}

}  // namespace

BudgetView::BudgetView(QWidget* parent) : QWidget(parent) {
    setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Fixed);
}

void BudgetView::show(const Result<Uncertainty>& uncertainty, const std::string& own) {
    own_ = own;
    const int before = sizeHint().height();
    if (uncertainty) {
        what_ = uncertainty.value();
        why_.clear();
    } else {
        what_.reset();
        why_ = cruscotto::shown(uncertainty.error().message);
    }
    QString missing;
    if (what_)
        for (const Text& m : what_->missing) missing += (missing.isEmpty() ? "" : "\n") + cruscotto::shown(m);
    setToolTip(missing);
    setAccessibleName(words());
    if (sizeHint().height() != before) updateGeometry();
    update();
}

QString BudgetView::words() const {
    if (!what_) return why_;
    QStringList out;
    const QString unit = cruscotto::shown(unitText(what_->unit));
    out << QString("%1 %2 (k = %3)")
               .arg(cruscotto::shown(withUncertainty(what_->value, what_->expanded())), unit)
               .arg(what_->k);
    for (const UncertaintyPart& p : what_->parts)
        out << tr("%1, %2: %3 %4, %5 %")
                   .arg(cruscotto::shown(p.signal), cruscotto::shown(p.source), amount(std::fabs(p.amount)), unit)
                   .arg(std::lround(100 * p.share));
    for (const Text& m : what_->missing) out << cruscotto::shown(m);
    return out.join('\n');
}

QSize BudgetView::sizeHint() const {
    const int rows = what_ ? static_cast<int>(std::min<std::size_t>(what_->parts.size(), mostParts)) : 0;
    return {200, budgetHead + rows * partHeight + (what_ && what_->parts.empty() ? 34 : 0)};
}

void BudgetView::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    if (!what_ || what_->parts.empty()) {
        painter.setPen(theme().muted);
        painter.setFont(uiFont(12));
        const QString why = what_ && !what_->missing.empty() ? cruscotto::shown(what_->missing.back()) : why_;
        return painter.drawText(rect(), Qt::TextWordWrap, why);
    }
    const QString unit = cruscotto::shown(unitText(what_->unit));
    painter.setPen(theme().ink);
    const double x = drawFigures(painter, QPointF(0, 18), uiFont(15, QFont::DemiBold),
                                 cruscotto::shown(withUncertainty(what_->value, what_->expanded())) + " " + unit);
    painter.setPen(theme().muted);
    painter.setFont(uiFont(12));
    painter.drawText(QPointF(x + 8, 18), tr("k = %1").arg(what_->k));
    const QFont small = uiFont(12);
    const QFontMetricsF metrics(small);
    const auto shownParts = std::min<std::size_t>(what_->parts.size(), mostParts);
    for (std::size_t i = 0; i < shownParts; ++i) {
        const UncertaintyPart& p = what_->parts[i];
        const double y = budgetHead + static_cast<double>(i) * partHeight;
        const QString right = QString("%1 %").arg(std::lround(100 * p.share));
        const double rightWidth = metrics.horizontalAdvance("100 %") + 6;
        painter.setFont(small);
        painter.setPen(theme().ink);
        painter.drawText(QPointF(0, y + 13),
                         metrics.elidedText(p.signal == own_ ? cruscotto::shown(p.source)
                                                             : tr("%1: %2").arg(cruscotto::shown(p.signal),
                                                                                cruscotto::shown(p.source)),
                                            Qt::ElideRight, width() - rightWidth));
        painter.setPen(theme().muted);
        painter.drawText(QPointF(width() - metrics.horizontalAdvance(right), y + 13), right);
        painter.setPen(Qt::NoPen);
        painter.setBrush(theme().track);
        painter.drawRect(QRectF(0, y + 19, width(), 5));
        painter.setBrush(theme().muted);
        painter.drawRect(QRectF(0, y + 19, std::max(1.0, width() * p.share), 5));
    }
}

}  // namespace cruscotto
