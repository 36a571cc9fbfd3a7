#include "app/rules/rule_row.h"

#include <QCursor>
#include <QPainter>
#include <algorithm>
#include <utility>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

void SentenceLabel::show(const std::vector<SentencePart>& parts) {
    parts_ = parts;
    ink_ = theme().ink;
    places_.clear();
    QString html;
    for (const SentencePart& part : parts_) {
        const QString words = shown(part.words).toHtmlEscaped();
        html += part.place.empty() ? words
                                   : QStringLiteral("<a href=\"%1\" style=\"color: %2;\">%3</a>")
                                         .arg(shown(part.place), ink_.name(), words);
        if (!part.place.empty()) places_.push_back(part.place);
    }
    setText(html);
}

void SentenceLabel::focusPlace(const std::string& place) {
    goOn_ = place;
    setFocus(Qt::TabFocusReason);
    if (hasFocus()) goOn();
}

QPoint SentenceLabel::menuAt() const {
    return underMouse() ? QCursor::pos() : mapToGlobal(QPoint(0, height()));
}

int SentenceLabel::heightForWidth(int width) const {
    // A layout asks for some widths by turns: with a scroll bar, without, and the one it would like.
    constexpr std::size_t most = 8;
    if (text() != of_ || heights_.size() > most) heights_.clear();
    of_ = text();
    const auto known = heights_.find(width);
    return known != heights_.end() ? known->second : heights_[width] = QLabel::heightForWidth(width);
}

void SentenceLabel::focusInEvent(QFocusEvent* event) {
    QLabel::focusInEvent(event);
    goOn();
}

void SentenceLabel::changeEvent(QEvent* event) {
    heights_.clear();
    QLabel::changeEvent(event);
    if (!parts_.empty() && ink_ != theme().ink) show(std::vector(parts_));  // the theme has changed
}

void SentenceLabel::goOn() {
    if (!goOn_) return;
    const auto at = std::ranges::find(places_, *std::exchange(goOn_, std::nullopt));
    const auto n = at == places_.end() ? 0 : at - places_.begin();
    for (std::ptrdiff_t i = 0; i <= n && hasFocus(); ++i) focusNextPrevChild(true);
}

RuleStrip::RuleStrip(QWidget* parent) : QWidget(parent) {
    constexpr int high = 14;
    setFixedHeight(high);
    setAccessibleName(tr("When it would have held"));
}

void RuleStrip::show(Span span, const std::vector<RuleFiring>& firings) {
    span_ = span;
    firings_ = firings;
    update();
}

void RuleStrip::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    const double line = height() - 3.5;
    p.setPen(QPen(t.hairline, 1));
    p.drawLine(QPointF(0, line), QPointF(width(), line));
    const double lasts = (span_.to - span_.from).seconds();
    if (!(lasts > 0)) return;
    const auto x = [&](Instant at) { return (at - span_.from).seconds() / lasts * (width() - 2) + 1; };
    std::optional<Instant> since;
    const auto bar = [&](Instant from, Instant to) {
        p.fillRect(QRectF(QPointF(x(from), 2), QPointF(std::max(x(to), x(from) + 2), line)), t.muted);
    };
    for (const RuleFiring& f : firings_) {
        if (f.momentary) {
            bar(f.at, f.at);
        } else if (f.holds) {
            since = f.at;
        } else if (since) {
            bar(*since, f.at);
            since.reset();
        }
    }
    if (since) bar(*since, span_.to);
}

}  // namespace cruscotto
