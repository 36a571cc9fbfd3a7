#include "app/signals/signal_list.h"

#include <QApplication>
#include <QContextMenuEvent>
#include <QDragEnterEvent>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QMimeData>
#include <QPainter>
#include <QStyledItemDelegate>
#include <cmath>

#include "app/widgets/spark.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/units.h"
#include "core/chain/calibration_sheet.h"

namespace cruscotto {

namespace {

constexpr int rowHeight = 35;
constexpr int left = 16;
constexpr int right = 14;

class RowPainter : public QStyledItemDelegate {
public:
    using QStyledItemDelegate::QStyledItemDelegate;

    [[nodiscard]] QSize sizeHint(const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const auto& row = static_cast<const SignalModel*>(index.model())->row(index.row());
        if (row.signal) return {100, rowHeight};
        if (row.sentence.isEmpty()) return {100, 32};
        const auto* view = qobject_cast<const QListView*>(option.widget);
        const int width = (view ? view->viewport()->width() : 240) - left - right;
        return {100, 34 + sentenceHeight(row.sentence, width)};
    }

    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const auto& row = static_cast<const SignalModel*>(index.model())->row(index.row());
        const Theme& t = theme();
        const QRect r = option.rect;
        const bool current = option.state & QStyle::State_Selected;
        p->save();
        if (current) {
            p->fillRect(r, t.track);
            p->fillRect(QRect(r.left(), r.top(), 3, r.height()), t.accent);
        }
        if (row.signal)
            paintSignal(*p, r, row);
        else
            paintDevice(*p, r, row, index.row() == 0);
        p->restore();
    }

private:
    static int sentenceHeight(const QString& sentence, int width) {
        return QFontMetrics(uiFont(12)).boundingRect(QRect(0, 0, width, 1000), Qt::TextWordWrap, sentence).height() + 6;
    }

    static void paintDevice(QPainter& p, const QRect& r, const SignalModel::Row& row, bool first) {
        const Theme& t = theme();
        if (!first) {
            p.setPen(t.hairline);
            p.drawLine(r.left() + left, r.top(), r.right() - right, r.top());
        }
        p.setPen(row.qualityColour);
        p.setFont(uiFont(11, QFont::Medium));
        p.drawText(QRect(r.left(), r.top() + 8, r.width() - right, 18), Qt::AlignRight | Qt::AlignVCenter, row.quality);
        const int qualityRoom = row.quality.isEmpty() ? 0 : p.fontMetrics().horizontalAdvance(row.quality) + 8;
        p.setFont(uiFont(11));
        p.setPen(t.muted);
        p.drawText(QPointF(r.left() + 4, r.top() + 21), row.folded ? QStringLiteral("▸") : QStringLiteral("▾"));
        p.setFont(captionFont());
        const QString name = row.folded ? shown(row.device->name) + QStringLiteral(", ") +
                                              counted(static_cast<std::uint64_t>(row.hidden),
                                                      SignalList::tr("1 signal"), SignalList::tr("%1 signals"))
                                        : shown(row.device->name);
        p.drawText(QPointF(r.left() + left, r.top() + 21),
                   p.fontMetrics().elidedText(name, Qt::ElideRight, r.width() - left - right - qualityRoom));
        if (row.sentence.isEmpty()) return;
        p.setFont(uiFont(12));
        p.setPen(t.ink);
        p.drawText(QRect(r.left() + left, r.top() + 30, r.width() - left - right, r.height() - 30), Qt::TextWordWrap,
                   row.sentence);
    }

    static void paintSignal(QPainter& p, const QRect& r, const SignalModel::Row& row) {
        const Theme& t = theme();
        const SignalSpec& s = *row.signal;
        const QColor colour = t.signal[static_cast<std::size_t>(s.colour)];
        p.setRenderHint(QPainter::Antialiasing);
        p.setFont(uiFont(11, QFont::Bold));
        p.setPen(colour);
        p.drawText(QPointF(r.left() + left, r.top() + 15), shown(s.tag));
        const int tagRoom = std::max(32, p.fontMetrics().horizontalAdvance(shown(s.tag)) + 6);

        const QFont number = uiFont(14, QFont::Medium);
        const QFont unit = uiFont(12);
        const double unitRoom = row.unit.isEmpty() ? 0 : QFontMetricsF(unit).horizontalAdvance(row.unit) + 4;
        const double numberRoom = figuresWidth(number, row.value);
        const double x = r.right() - right - unitRoom - numberRoom;
        p.setPen(t.ink);
        drawFigures(p, {x, r.top() + 16.0}, number, row.value);
        p.setFont(unit);
        p.setPen(t.muted);
        p.drawText(QPointF(r.right() - right - unitRoom + 4, r.top() + 16), row.unit);

        p.setFont(uiFont(13));
        p.setPen(t.ink);
        const int nameLeft = r.left() + left + tagRoom;
        p.drawText(QPointF(nameLeft, r.top() + 15),
                   p.fontMetrics().elidedText(shown(s.name), Qt::ElideRight, static_cast<int>(x) - nameLeft - 6));
        double sparkRight = r.right() - right;
        if (!row.quality.isEmpty()) {
            p.setFont(uiFont(11, QFont::Medium));
            p.setPen(row.qualityColour);
            p.drawText(QRect(r.left(), r.top() + 18, r.width() - right, 15), Qt::AlignRight | Qt::AlignVCenter,
                       row.quality);
            sparkRight -= p.fontMetrics().horizontalAdvance(row.quality) + 10;
        }
        paintSpark(p, QRectF(nameLeft, r.top() + 20, sparkRight - nameLeft, 10), row.columns, colour, holds(s),
                   leastSparkSpan(s));
    }
};

}  // namespace

SignalModel::SignalModel(Session& session, QObject* parent) : QAbstractListModel(parent), session_(session) {
    connect(&session_, &Session::benchChanged, this, &SignalModel::take);
    take();
}

void SignalModel::take() {
    std::vector<Row> next;
    const auto take = [&](const std::shared_ptr<const DeviceSpec>& device) {
        const bool finding = !find_.isEmpty() || onlyUnwell_;
        Row heading;
        heading.device = device;
        heading.folded = folded_.contains(device->id) && !finding;
        const std::size_t at = next.size();
        next.push_back(std::move(heading));
        for (const auto& signal : session_.bench().signals) {
            if (signal->device != device->id) continue;
            if (next[at].folded || !shows(*signal, *device)) {
                ++next[at].hidden;
                continue;
            }
            Row row;
            row.device = device;
            row.signal = signal;
            next.push_back(std::move(row));
        }
        if (finding && next.size() == at + 1) next.pop_back();  // nothing of it
    };
    for (const auto& device : session_.bench().devices) take(device);
    // What is computed from others stands behind all devices, under a heading that is none.
    static const auto computed = [] {
        DeviceSpec heading;
        heading.name = tr("Computed").toStdString();
        return std::make_shared<const DeviceSpec>(heading);
    }();
    if (std::ranges::any_of(session_.bench().signals, [](const auto& s) { return s->computed.has_value(); }))
        take(computed);
    const bool same = std::equal(next.begin(), next.end(), rows_.begin(), rows_.end(), [](const Row& a, const Row& b) {
        return a.device->id == b.device->id && a.folded == b.folded && !a.signal == !b.signal &&
               (!a.signal || a.signal->id == b.signal->id);
    });
    if (same) {  // the selection stays where it is
        for (std::size_t i = 0; i < rows_.size(); ++i) {
            rows_[i].device = next[i].device;
            rows_[i].hidden = next[i].hidden;
            rows_[i].signal = next[i].signal;
        }
    } else {
        beginResetModel();
        rows_ = std::move(next);
        endResetModel();
    }
    refresh(session_.shownAt());
}

bool SignalModel::shows(const SignalSpec& s, const DeviceSpec& device) const {
    if (onlyUnwell_ && !unwell_.contains(s.id)) return false;
    const QStringList words = find_.split(' ', Qt::SkipEmptyParts);
    const QString all =
        QStringList{shown(s.name), shown(s.tag), shown(s.terminal), shown(device.name), shown(unitText(s.unit())),
                    shown(s.id)}
            .join(' ');
    return std::ranges::all_of(words, [&](const QString& w) { return all.contains(w, Qt::CaseInsensitive); });
}

void SignalModel::find(const QString& words) {
    find_ = words.trimmed();
    take();
}

void SignalModel::showOnlyUnwell(bool on) {
    onlyUnwell_ = on;
    take();
}

void SignalModel::fold(const std::string& device, bool folded) {
    if (folded)
        folded_.insert(device);
    else
        folded_.erase(device);
    take();
}

void SignalModel::move(const std::string& signal, const std::string& before) {
    Bench next = session_.bench();
    const auto named = [&](const std::string& id) {
        return std::ranges::find_if(next.signals, [&](const auto& s) { return s->id == id; });
    };
    const auto from = named(signal);
    if (from == next.signals.end() || signal == before) return;
    const auto moved = *from;
    next.signals.erase(from);
    auto to = named(before);
    if (to != next.signals.end() && (*to)->device != moved->device) return;
    if (to == next.signals.end())  // behind the last one of its device
        for (auto it = next.signals.begin(); it != next.signals.end(); ++it)
            if ((*it)->device == moved->device) to = it + 1;
    next.signals.insert(to, moved);
    session_.edit(tr("Move signal"), std::move(next));
}

bool SignalModel::setData(const QModelIndex& index, const QVariant& value, int role) {
    const QString name = value.toString().trimmed();
    if (role != Qt::EditRole || !index.isValid() || !row(index.row()).signal || name.isEmpty()) return false;
    SignalSpec next = *row(index.row()).signal;
    if (session_.isRun() || shown(next.name) == name) return false;
    next.name = name.toStdString();
    session_.edit(tr("Rename signal"), withSignal(session_.bench(), std::move(next)));
    return true;
}

int SignalModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(rows_.size());
}

QVariant SignalModel::data(const QModelIndex& index, int role) const {
    const Row& r = row(index.row());
    if (role == Qt::AccessibleTextRole || role == Qt::DisplayRole) {
        if (!r.signal) return QString("%1 %2").arg(shown(r.device->name), r.sentence).trimmed();
        return QString("%1 %2 %3 %4").arg(shown(r.signal->name), r.value, r.unit, r.quality).simplified();
    }
    if (role == Qt::EditRole && r.signal) return shown(r.signal->name);
    if (role == Qt::ToolTipRole && r.signal && !r.evidence.isEmpty()) return r.evidence;
    if (role == Qt::ToolTipRole && r.signal && r.signal->computed)
        return tr("%1, computed. Drag it to the page; double-click to see how it is worked out.")
            .arg(shown(r.signal->name));
    if (role == Qt::ToolTipRole && r.signal)
        return tr("%1 on %2, %3. Drag it to the page; double-click to see how the reading is made.")
            .arg(shown(r.signal->terminal), shown(r.device->name), shown(r.signal->name));
    return {};
}

Qt::ItemFlags SignalModel::flags(const QModelIndex& index) const {
    if (!index.isValid()) return Qt::NoItemFlags;
    return row(index.row()).signal
               ? Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsDragEnabled | Qt::ItemIsEditable
               : Qt::ItemIsEnabled | Qt::ItemIsSelectable;
}

QStringList SignalModel::mimeTypes() const {
    return {signalMime};
}

QMimeData* SignalModel::mimeData(const QModelIndexList& indexes) const {
    if (indexes.isEmpty() || !row(indexes.front().row()).signal) return nullptr;
    auto* data = new QMimeData;
    data->setData(signalMime, QByteArray::fromStdString(row(indexes.front().row()).signal->id));
    return data;
}

bool SignalModel::refresh(Instant t) {
    bool heights = false;
    if (onlyUnwell_) {
        std::set<std::string> unwell;
        for (const auto& s : session_.bench().signals) {
            const Reading r = session_.source().at(s->id, t);
            const Verdict verdict = verdictOf(s->limits, r.value);
            const bool doubted = !remarkOn(*s, r, session_.source().evidenceAt(s->id, t)).words.isEmpty();
            if (doubted || verdict == Verdict::low || verdict == Verdict::high) unwell.insert(s->id);
        }
        if (unwell != unwell_) {
            unwell_ = std::move(unwell);
            take();
            return true;
        }
    }
    std::map<std::string, DeviceStatus> statuses;
    if (session_.engine()) statuses = session_.engine()->deviceStatus();
    const Duration window = seconds(30);
    const Duration width{window.ns / 80};
    const Instant from{(t.ns - window.ns) / width.ns * width.ns};
    for (Row& r : rows_) {
        if (!r.signal) {
            QString sentence;
            r.qualityColour = theme().muted;
            if (const auto it = statuses.find(r.device->id); it != statuses.end()) {
                const bool well = it->second.state == LinkState::live;
                r.quality =
                    well ? QString()
                         : QStringLiteral("▲ ") + QCoreApplication::translate("core", linkStateWord(it->second.state));
                if (!well)
                    sentence = shown(it->second.sentence), r.qualityColour = theme().amber;
                else if (it->second.rejected)
                    sentence = counted(it->second.rejected, tr("1 line did not fit and was skipped."),
                                       tr("%1 lines did not fit and were skipped."));
            } else {
                r.quality = session_.isRun() && !r.device->id.empty() ? tr("recorded") : QString();
            }
            heights = heights || sentence != r.sentence;
            r.sentence = sentence;
            continue;
        }
        const SignalSpec& s = *r.signal;
        const Reading reading = session_.source().at(s.id, t);
        session_.seen().look(s, session_.source(), reading.value);
        r.value = s.isState() ? stateWord(s, reading.value) : session_.numberText(s, reading.value);
        r.unit = r.value == QStringLiteral("–") ? QString() : unitOf(s);
        const auto evidence = session_.source().evidenceAt(s.id, t);
        r.evidence = evidenceText(evidence);
        const Remark remark = remarkOn(s, reading, evidence);
        r.quality = reading.quality == Quality::gap && std::isnan(reading.value) ? QString() : remark.words;
        r.qualityColour = remark.colour;
        if (const Alarm* alarm = session_.cursor().atEnd() ? session_.alarmOn(s.id) : nullptr)
            r.quality = alarmText(*alarm), r.qualityColour = theme().red;
        if (const Stage* sheet = r.quality.isEmpty() ? calibrationIn(s.chain) : nullptr)
            if (const auto days = daysUntilDue(sheetOf(*sheet), session_.today()); days && *days < 0)
                r.quality = tr("▲ calibration overdue"), r.qualityColour = theme().amber;
        readSpark(session_.source(), s, {from, width, 80}, t, r.columns);
    }
    return heights;
}

SignalList::SignalList(Session& session, QWidget* parent) : QListView(parent), model_(session) {
    setObjectName("signals");
    setAccessibleName(tr("Signals"));
    setModel(&model_);
    setItemDelegate(new RowPainter(this));
    setUniformItemSizes(false);
    setSelectionMode(QAbstractItemView::ExtendedSelection);
    setEditTriggers(QAbstractItemView::NoEditTriggers);
    setDragEnabled(true);
    setDragDropMode(QAbstractItemView::DragDrop);
    setDropIndicatorShown(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    setFrameShape(QFrame::NoFrame);
    setViewportMargins(0, 4, 0, 4);
    // A device is for opening only: one click does. A signal is also dragged and selected.
    connect(this, &QListView::clicked, this, [this](const QModelIndex& index) {
        const auto& row = model_.row(index.row());
        if (!row.signal && QApplication::keyboardModifiers() == Qt::NoModifier && !row.device->id.empty())
            Q_EMIT deviceAsked(shown(model_.row(index.row()).device->id));
    });
    connect(this, &QListView::activated, this, [this](const QModelIndex& index) {
        const auto& row = model_.row(index.row());
        if (row.signal)
            Q_EMIT chainAsked(shown(row.signal->id));
        else if (!row.device->id.empty())
            Q_EMIT deviceAsked(shown(row.device->id));
    });
}

QString SignalList::currentSignal() const {
    if (!currentIndex().isValid()) return {};
    const auto& row = model_.row(currentIndex().row());
    return row.signal ? shown(row.signal->id) : QString();
}

void SignalList::select(const QString& signal) {
    for (int i = 0; i < model_.rowCount(); ++i)
        if (model_.row(i).signal && shown(model_.row(i).signal->id) == signal) setCurrentIndex(model_.index(i));
}

std::vector<std::string> SignalList::selectedSignals() const {
    QModelIndexList all = selectionModel()->selectedIndexes();
    std::ranges::sort(all, {}, &QModelIndex::row);
    std::vector<std::string> out;
    for (const QModelIndex& index : all)
        if (const auto& row = model_.row(index.row()); row.signal) out.push_back(row.signal->id);
    return out;
}

void SignalList::rename() {
    if (!currentSignal().isEmpty()) edit(currentIndex());
}

void SignalList::keyPressEvent(QKeyEvent* event) {
    const bool folds = event->key() == Qt::Key_Left || event->key() == Qt::Key_Right;
    if (folds && currentIndex().isValid()) {
        const std::string device = model_.row(currentIndex().row()).device->id;
        model_.fold(device, event->key() == Qt::Key_Left);
        for (int i = 0; i < model_.rowCount(); ++i)
            if (!model_.row(i).signal && model_.row(i).device->id == device) setCurrentIndex(model_.index(i));
        return;
    }
    QListView::keyPressEvent(event);
}

void SignalList::mousePressEvent(QMouseEvent* event) {
    // The arrow in front of a heading folds; the heading itself opens the device.
    const QModelIndex at = indexAt(event->pos());
    if (event->button() == Qt::LeftButton && at.isValid() && !model_.row(at.row()).signal && event->pos().x() < left) {
        const std::string device = model_.row(at.row()).device->id;
        model_.fold(device, !model_.isFolded(device));
        return;
    }
    QListView::mousePressEvent(event);
}

void SignalList::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasFormat(signalMime)) event->acceptProposedAction();
}

void SignalList::dragMoveEvent(QDragMoveEvent* event) {
    if (event->mimeData()->hasFormat(signalMime)) event->acceptProposedAction();
}

void SignalList::dropEvent(QDropEvent* event) {
    if (!event->mimeData()->hasFormat(signalMime) || event->source() != this) return;
    const std::string moved = event->mimeData()->data(signalMime).toStdString();
    QModelIndex at = indexAt(event->position().toPoint());
    if (at.isValid() && event->position().y() > visualRect(at).center().y()) at = model_.index(at.row() + 1);
    const auto* row = at.isValid() ? &model_.row(at.row()) : nullptr;
    event->setDropAction(Qt::CopyAction);  // else the view takes its row away
    event->accept();
    model_.move(moved, row && row->signal ? row->signal->id : std::string());
    select(shown(moved));
}

SignalPanel::SignalPanel(Session& session, QWidget* parent)
    : QWidget(parent),
      search_(new QLineEdit(this)),
      unwell_(new QToolButton(this)),
      list_(new SignalList(session, this)) {
    setObjectName("panel");
    setAttribute(Qt::WA_StyledBackground);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 8, 0, 0);
    column->setSpacing(0);
    auto* line = new QHBoxLayout;
    line->setContentsMargins(16, 0, 14, 4);
    line->setSpacing(6);
    search_->setPlaceholderText(tr("Find a signal"));
    search_->setAccessibleName(tr("Find a signal"));
    search_->setClearButtonEnabled(true);
    unwell_->setText(QStringLiteral("▲"));
    unwell_->setCheckable(true);
    unwell_->setFixedWidth(32);
    unwell_->setStyleSheet("padding: 4px 0;");
    unwell_->setAccessibleName(tr("Only those that are not well"));
    unwell_->setToolTip(tr("Only signals that are not well: of bad quality, or beyond their limits (F8)"));
    line->addWidget(search_, 1);
    line->addWidget(unwell_);
    column->addLayout(line);
    column->addWidget(list_, 1);
    connect(search_, &QLineEdit::textChanged, this, [this](const QString& words) { list_->rows().find(words); });
    connect(search_, &QLineEdit::returnPressed, this, [this] { list_->setFocus(); });
    connect(unwell_, &QToolButton::toggled, this, [this](bool on) { list_->rows().showOnlyUnwell(on); });
}

void SignalPanel::showOnlyUnwell(bool on) {
    unwell_->setChecked(on);
}

void SignalList::refresh(Instant t, bool digits) {
    if (!digits) return;
    if (model_.refresh(t)) scheduleDelayedItemsLayout();
    viewport()->update();
}

void SignalList::contextMenuEvent(QContextMenuEvent* event) {
    const bool byKey = event->reason() == QContextMenuEvent::Keyboard;
    const QModelIndex at = byKey ? currentIndex() : indexAt(event->pos());
    if (!at.isValid()) return;
    setCurrentIndex(at);
    Q_EMIT menuAsked(byKey ? viewport()->mapToGlobal(visualRect(at).center()) : event->globalPos());
}

void SignalList::resizeEvent(QResizeEvent* event) {
    QListView::resizeEvent(event);
    scheduleDelayedItemsLayout();
}

}  // namespace cruscotto
