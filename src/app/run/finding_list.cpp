#include "app/run/finding_list.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <algorithm>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

namespace {
constexpr int nameHeight = 20, barHeight = 3, airBelow = 10;
constexpr int inset = 2;
}  // namespace

FindingList::FindingList(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setAccessibleName(tr("What was found"));
    setFocusPolicy(Qt::StrongFocus);
    QSizePolicy policy(QSizePolicy::Preferred, QSizePolicy::Minimum);
    policy.setHeightForWidth(true);
    setSizePolicy(policy);
}

void FindingList::show(const std::vector<SignalDifference>& differences, const std::vector<Text>& written) {
    std::vector<Row> rows;
    int same = 0;
    for (const SignalDifference& d : differences) {
        if (d.parts.empty()) {
            ++same;
            continue;
        }
        const SignalSpec* s = session_.bench().signal(d.signal);
        QStringList words;
        for (const DifferencePart& part : d.parts) words << cruscotto::shown(part.words);
        const bool measured = d.parts.front().kind != DifferenceKind::missing;
        rows.push_back({s ? cruscotto::shown(s->name) : cruscotto::shown(d.signal), words.join(QStringLiteral("; ")),
                        s ? cruscotto::shown(d.signal) : QString(), measured ? std::min(1.0, d.size()) : -1});
    }
    if (same) rows.push_back({tr("No difference in %1 signals").arg(same), {}, {}, -1});
    if (!written.empty()) {
        QStringList words;
        for (const Text& t : written) words << cruscotto::shown(t);
        rows.push_back({tr("What is written about them"), words.join('\n'), {}, -1});
    }
    show(std::move(rows));
}

void FindingList::show(std::vector<Row> rows) {
    rows_ = std::move(rows);
    chosen_ = -1;
    QStringList all;
    for (const Row& row : rows_) all << row.name + QStringLiteral(": ") + row.words;
    setAccessibleDescription(all.join('\n'));
    updateGeometry();
    setMinimumHeight(heightForWidth(width()));
    update();
}

QString FindingList::words() const {
    QStringList out;
    for (const Row& row : rows_)
        out << row.name + '\t' + (row.size >= 0 ? QString::number(row.size, 'g', 4) : QString()) + '\t' + row.words;
    return out.join('\n');
}

int FindingList::heightOf(const Row& row, int width) const {
    int height = nameHeight + airBelow;
    if (row.size >= 0) height += barHeight + 4;
    if (!row.words.isEmpty())
        height += QFontMetrics(uiFont(12))
                      .boundingRect(QRect(0, 0, std::max(80, width - 2 * inset), 4000), Qt::TextWordWrap, row.words)
                      .height();
    return height;
}

int FindingList::heightForWidth(int width) const {
    int height = 0;
    for (const Row& row : rows_) height += heightOf(row, width);
    return std::max(height, 8);
}

QSize FindingList::sizeHint() const {
    constexpr int wide = 320;
    return {wide, heightForWidth(width() > 0 ? width() : wide)};
}

void FindingList::resizeEvent(QResizeEvent*) {
    setMinimumHeight(heightForWidth(width()));
}

void FindingList::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    int y = 0;
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        const Row& row = rows_[i];
        const int height = heightOf(row, width());
        if (hasFocus() && static_cast<int>(i) == chosen_) {
            p.setPen(t.accent);
            p.drawLine(0, y, 0, y + height - airBelow);
        }
        p.setFont(uiFont(13, row.signal.isEmpty() ? QFont::Normal : QFont::DemiBold));
        p.setPen(row.size < 0 && row.words.isEmpty() ? t.muted : t.ink);
        p.drawText(QRect(inset, y, width() - 60, nameHeight), Qt::AlignLeft | Qt::AlignVCenter,
                   p.fontMetrics().elidedText(row.name, Qt::ElideRight, width() - 60));
        int at = y + nameHeight;
        if (row.size >= 0) {
            constexpr double percent = 100, least = 0.005;
            p.setFont(uiFont(12));
            p.setPen(t.muted);
            p.drawText(QRect(inset, y, width() - 2 * inset, nameHeight), Qt::AlignRight | Qt::AlignVCenter,
                       row.size >= 1      ? tr("all of it")
                       : row.size < least ? tr("airBelow 1 %")
                                          : tr("%1 %").arg(percent * row.size, 0, 'f', 0));
            p.fillRect(QRectF(inset, at, width() - 2.0 * inset, barHeight), t.hairline);
            p.fillRect(QRectF(inset, at, (width() - 2.0 * inset) * row.size, barHeight), t.ink);
            at += barHeight + 4;
        }
        p.setFont(uiFont(12));
        p.setPen(t.muted);
        p.drawText(QRect(inset, at, width() - 2 * inset, y + height - at), Qt::TextWordWrap, row.words);
        y += height;
    }
}

int FindingList::rowAt(int y) const {
    int top = 0;
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        top += heightOf(rows_[i], width());
        if (y < top) return static_cast<int>(i);
    }
    return -1;
}

void FindingList::mousePressEvent(QMouseEvent* event) {
    const int row = rowAt(static_cast<int>(event->position().y()));
    chosen_ = row;
    update();
    if (row >= 0 && !rows_[static_cast<std::size_t>(row)].signal.isEmpty())
        Q_EMIT signalAsked(rows_[static_cast<std::size_t>(row)].signal);
}

void FindingList::keyPressEvent(QKeyEvent* event) {
    const int last = static_cast<int>(rows_.size()) - 1;
    if (event->key() == Qt::Key_Down || event->key() == Qt::Key_Up) {
        chosen_ = std::clamp(chosen_ + (event->key() == Qt::Key_Down ? 1 : -1), 0, std::max(0, last));
        update();
    } else if ((event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) && chosen_ >= 0 && chosen_ <= last) {
        if (const QString& signal = rows_[static_cast<std::size_t>(chosen_)].signal; !signal.isEmpty())
            Q_EMIT signalAsked(signal);
    } else {
        QWidget::keyPressEvent(event);
    }
}

}  // namespace cruscotto
