#include "app/device/wire_view.h"

#include <QAbstractItemView>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPaintEvent>
#include <QPainter>
#include <QScrollBar>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>
#include <numeric>

#include "app/device/device_edits.h"
#include "app/widgets/fields.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

constexpr int edge = 16, hexCell = 19, textCell = 9, gap = 20;

/// "00:12:31.123456"
QString momentText(Instant t) {
    const auto micro = t.ns / 1000 % 1'000'000;
    return shown(clockText(t - Instant{})) + QString(".%1").arg(std::abs(micro), 6, 10, QLatin1Char('0'));
}

/// Counts in full, measured values short.
QString valueText(double v) {
    if (v == std::round(v) && std::fabs(v) < 1e15) return QString::number(v, 'f', 0);
    return shown(shortNumber(v));
}

}  // namespace

WireRows::WireRows(QWidget* parent) : QAbstractScrollArea(parent) {
    setFrameShape(QFrame::NoFrame);
    setAccessibleName(tr("Messages on the link"));
    setFocusPolicy(Qt::StrongFocus);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    viewport()->setAutoFillBackground(false);
}

void WireRows::show(std::deque<WireMessagePtr> rows) {
    const bool atEnd = verticalScrollBar()->value() >= verticalScrollBar()->maximum();
    // Somebody who looks back keeps what they look at, while the oldest rows go.
    const auto kept = std::partition_point(rows_.begin(), rows_.end(), [&](const WireMessagePtr& m) {
        return rows.empty() || m->number < rows.front()->number;
    });
    const int gone = static_cast<int>(kept - rows_.begin());
    rows_ = std::move(rows);
    const int value = verticalScrollBar()->value() - gone;
    arrange(atEnd);
    if (!atEnd) verticalScrollBar()->setValue(std::max(0, value));
    viewport()->update();
}

void WireRows::add(const std::vector<WireMessagePtr>& rows, std::uint64_t oldest) {
    const bool atEnd = verticalScrollBar()->value() >= verticalScrollBar()->maximum();
    int gone = 0;
    for (; !rows_.empty() && rows_.front()->number < oldest; ++gone) rows_.pop_front();
    rows_.insert(rows_.end(), rows.begin(), rows.end());
    if (rows.empty() && gone == 0) return;
    const int value = verticalScrollBar()->value() - gone;
    arrange(atEnd);
    if (!atEnd) verticalScrollBar()->setValue(std::max(0, value));
    viewport()->update();
}

void WireRows::setColours(Colours colours) {
    if (colours == colours_) return;
    colours_ = std::move(colours);
    viewport()->update();
}

void WireRows::arrange(bool toEnd) {
    const int fits = std::max(1, (viewport()->height() - rowHeight) / rowHeight);
    verticalScrollBar()->setPageStep(fits);
    verticalScrollBar()->setRange(0, std::max(0, static_cast<int>(rows_.size()) - fits));
    if (toEnd) verticalScrollBar()->setValue(verticalScrollBar()->maximum());
}

void WireRows::resizeEvent(QResizeEvent*) {
    arrange(verticalScrollBar()->value() >= verticalScrollBar()->maximum());
}

void WireRows::keyPressEvent(QKeyEvent* event) {
    QScrollBar* bar = verticalScrollBar();
    if (event->key() == Qt::Key_End)
        bar->setValue(bar->maximum());
    else if (event->key() == Qt::Key_Home)
        bar->setValue(0);
    else
        QAbstractScrollArea::keyPressEvent(event);
}

WireRows::Columns WireRows::columns() const {
    Columns c{};
    c.time = edge;
    c.way = c.time + 128;
    c.hex = c.way + 44;
    c.end = viewport()->width() - edge;
    // What the rows in sight mean takes what it needs, up to two fifths; each value stands below that of the row above.
    int meaning = 120;
    const QFontMetrics metrics(uiFont(12));
    const int first = verticalScrollBar()->value(), fits = viewport()->height() / rowHeight;
    for (int i = first; i < std::min(first + fits, static_cast<int>(rows_.size())); ++i) {
        const WireMessage& m = *rows_[static_cast<std::size_t>(i)];
        if (!m.problem.empty()) meaning = std::max(meaning, metrics.horizontalAdvance(this->meaning(m)) + 4);
        for (std::size_t k = 0; k < m.fields.size(); ++k) {
            if (c.fieldRoom.size() == k) c.fieldRoom.push_back(0);
            const QString words = nameOf(m.fields[k].terminal) + valueText(m.fields[k].value);
            c.fieldRoom[k] = std::max(c.fieldRoom[k], metrics.horizontalAdvance(words) + 24);
        }
    }
    meaning = std::max(meaning, std::accumulate(c.fieldRoom.begin(), c.fieldRoom.end(), 0));
    meaning = std::min(meaning, (c.end - c.hex) * 2 / 5);
    const int room = c.end - c.hex - meaning - 2 * gap;
    c.hexCells = c.textCells = std::max(4, room / (hexCell + textCell));
    c.text = c.hex + c.hexCells * hexCell + gap;
    c.meaning = c.text + c.textCells * textCell + gap;
    return c;
}

void WireRows::select(Selection selection) {
    if (selection == selection_) return;
    selection_ = selection;
    viewport()->update();
    Q_EMIT selected(selection_);
}

QRect WireRows::byteRect(int row, std::size_t byte) const {
    return {columns().hex + static_cast<int>(byte) * hexCell, (row + 1) * rowHeight, hexCell - 4, rowHeight};
}

std::optional<std::size_t> WireRows::byteAt(QPoint at) const {
    const Columns c = columns();
    const int row = at.y() / rowHeight - 1 + verticalScrollBar()->value();
    if (at.y() < rowHeight || row < 0 || row >= static_cast<int>(rows_.size())) return std::nullopt;
    const int cell = at.x() >= c.text  ? (at.x() - c.text) / textCell
                     : at.x() >= c.hex ? (at.x() - c.hex) / hexCell
                                       : -1;
    const int cells = std::min(c.hexCells, static_cast<int>(rows_[static_cast<std::size_t>(row)]->bytes.size()));
    if (cell < 0 || cell >= cells) return std::nullopt;
    return static_cast<std::size_t>(cell);
}

void WireRows::mousePressEvent(QMouseEvent* event) {
    if (!selectable_ || event->button() != Qt::LeftButton) return QAbstractScrollArea::mousePressEvent(event);
    const auto byte = byteAt(event->position().toPoint());
    if (byte) anchor_ = *byte;
    select(byte ? Selection{*byte, 1} : Selection{});
}

void WireRows::mouseMoveEvent(QMouseEvent* event) {
    if (!selectable_ || !(event->buttons() & Qt::LeftButton) || selection_.length == 0) return;
    if (const auto byte = byteAt(event->position().toPoint()))
        select({std::min(anchor_, *byte), std::max(anchor_, *byte) - std::min(anchor_, *byte) + 1});
}

QString WireRows::nameOf(const std::string& terminal) const {
    const auto name = colours_.nameOfTerminal.find(terminal);
    return name == colours_.nameOfTerminal.end() ? cruscotto::shown(terminal) : name->second;
}

QString WireRows::meaning(const WireMessage& m) const {
    if (!m.problem.empty()) return QStringLiteral("▲ ") + cruscotto::shown(m.problem);
    QStringList parts;
    for (const WireField& f : m.fields) parts << nameOf(f.terminal) + " " + valueText(f.value);
    return parts.join(QStringLiteral("   "));
}

void WireRows::paintRow(QPainter& p, const Columns& c, const WireMessage& m, int y) const {
    const Theme& t = theme();
    const QFont font = uiFont(12);
    const int base = y + 15;
    p.setPen(t.muted);
    drawFigures(p, QPointF(c.time, base), font, momentText(m.at));
    p.setFont(uiFont(11));
    p.drawText(c.way, base, m.way == WireMessage::Way::sent ? tr("out") : tr("in"));
    p.setFont(font);
    const bool wrong = !m.problem.empty();
    const auto fieldAt = [&](std::size_t i) -> const WireField* {
        for (const WireField& f : m.fields)
            if (i >= f.start && i < f.start + f.length) return &f;
        return nullptr;
    };
    const auto cells = std::min(m.bytes.size(), static_cast<std::size_t>(c.hexCells));
    if (selection_.start < cells && selection_.length > 0) {
        const int n = static_cast<int>(std::min(selection_.length, cells - selection_.start));
        QColor band = t.accent;
        band.setAlphaF(0.16F);
        p.fillRect(QRect(c.hex + static_cast<int>(selection_.start) * hexCell - 3, y, n * hexCell + 1, rowHeight),
                   band);
        p.fillRect(QRect(c.text + static_cast<int>(selection_.start) * textCell, y, n * textCell, rowHeight), band);
    }
    for (std::size_t i = 0; i < cells; ++i) {
        const auto byte = static_cast<unsigned char>(m.bytes[i]);
        const bool printable = byte >= 32 && byte < 127;
        QColor colour = wrong ? t.amber : printable ? t.ink : t.muted;
        const int hexX = c.hex + static_cast<int>(i) * hexCell, textX = c.text + static_cast<int>(i) * textCell;
        if (const WireField* f = fieldAt(i)) {
            const auto known = colours_.ofTerminal.find(f->terminal);
            colour = known == colours_.ofTerminal.end() ? t.ink : known->second;
            const bool last = i + 1 == f->start + f->length;
            p.fillRect(QRect(hexX, y + 19, last ? hexCell - 4 : hexCell, 2), colour);
            p.fillRect(QRect(textX, y + 19, last ? textCell - 1 : textCell, 2), colour);
        }
        p.setPen(colour);
        // One cell for each byte, whatever the width of its figures.
        p.drawText(QRect(hexX, y, hexCell - 4, rowHeight), Qt::AlignCenter,
                   QString("%1").arg(byte, 2, 16, QLatin1Char('0')));
        p.drawText(QRect(textX, y, textCell, rowHeight), Qt::AlignCenter,
                   printable ? QString(QLatin1Char(m.bytes[i])) : QStringLiteral("·"));
    }
    if (m.bytes.size() > cells) {
        p.setPen(t.muted);
        p.drawText(c.text + c.textCells * textCell, base, QStringLiteral("…"));
    }
    const QFontMetrics metrics(font);
    if (wrong) {
        p.setPen(t.amber);
        p.drawText(c.meaning, base, metrics.elidedText(meaning(m), Qt::ElideRight, c.end - c.meaning));
        return;
    }
    for (int x = c.meaning, k = 0; const WireField& f : m.fields) {
        const auto known = colours_.ofTerminal.find(f.terminal);
        const QString name = nameOf(f.terminal), value = valueText(f.value);
        const int valueX = x + metrics.horizontalAdvance(name) + 5;
        const int end = valueX + static_cast<int>(std::ceil(figuresWidth(font, value)));
        if (end > c.end) {
            p.setPen(t.muted);
            p.drawText(x, base, QStringLiteral("…"));
            break;
        }
        p.setPen(known == colours_.ofTerminal.end() ? t.muted : known->second);
        p.setFont(uiFont(12, QFont::DemiBold));
        p.drawText(x, base, name);
        p.setPen(t.ink);
        drawFigures(p, QPointF(valueX, base), font, value);
        x += c.fieldRoom[static_cast<std::size_t>(k++)];
    }
}

void WireRows::paintEvent(QPaintEvent*) {
    QPainter p(viewport());
    const Theme& t = theme();
    p.fillRect(viewport()->rect(), t.ground);
    const Columns c = columns();
    p.setFont(captionFont());
    p.setPen(t.muted);
    const std::initializer_list<std::pair<int, QString>> heads{{c.time, tr("time")},
                                                               {c.way, tr("way")},
                                                               {c.hex, tr("bytes")},
                                                               {c.text, tr("as text")},
                                                               {c.meaning, tr("meaning")}};
    for (const auto& [x, head] : heads) p.drawText(x, 15, head);
    p.fillRect(QRect(edge, rowHeight - 1, c.end - edge, 1), t.hairline);
    if (rows_.empty()) {
        p.setFont(uiFont(13));
        p.drawText(QRect(edge, rowHeight, c.end - edge, viewport()->height() - rowHeight), Qt::AlignCenter,
                   tr("Nothing has passed since this window was opened, or nothing that you asked for."));
        return;
    }
    const int first = verticalScrollBar()->value();
    const int fits = (viewport()->height() - rowHeight) / rowHeight;
    for (int i = 0; i < fits && first + i < static_cast<int>(rows_.size()); ++i)
        paintRow(p, c, *rows_[static_cast<std::size_t>(first + i)], (i + 1) * rowHeight);
}

FieldBar::FieldBar(Session& session, const QString& device, WireRows& rows, QWidget* parent)
    : QWidget(parent), session_(session), device_(device), rows_(rows) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(16, 4, 16, 4);
    column->setSpacing(8);
    suggestions_ = new SuggestionButtons(session, QBoxLayout::LeftToRight, this);
    column->addWidget(suggestions_);
    auto* line = new QHBoxLayout;
    line->setSpacing(8);
    said_ = new QLabel(this);
    choice_ = new Choice(this);
    choice_->setAccessibleName(tr("What the bytes are"));
    choice_->setMinimumWidth(340);
    name_ = new QLineEdit(this);
    name_->setPlaceholderText(tr("Name, as in weight"));
    name_->setAccessibleName(tr("Name of the value"));
    name_->setMaximumWidth(220);
    add_ = new QPushButton(tr("Add as a reading"), this);
    line->addWidget(said_, 1);
    line->addWidget(choice_);
    line->addWidget(name_);
    line->addWidget(add_);
    column->addLayout(line);
    connect(&rows_, &WireRows::selected, this, &FieldBar::propose);
    connect(choice_, &QComboBox::activated, this, [this](int i) {
        if (i < 0 || i >= static_cast<int>(proposals_.size())) return;
        // Chosen among all values of the frame: its bytes are marked, and only what they may be is left to choose from.
        const FieldProposal& p = proposals_[static_cast<std::size_t>(i)];
        if (rows_.selection().length == 0) rows_.select({p.start, p.length});
        name_->setFocus();
    });
    connect(name_, &QLineEdit::returnPressed, this, &FieldBar::take);
    connect(add_, &QPushButton::clicked, this, &FieldBar::take);
    propose();
}

const DeviceKind* FieldBar::kind() const {
    const DeviceSpec* d = session_.bench().device(device_.toStdString());
    return d ? deviceKind(d->kind) : nullptr;
}

void FieldBar::propose() {
    const DeviceSpec* d = session_.bench().device(device_.toStdString());
    const DeviceKind* k = kind();
    if (!k || !k->proposals) return;
    std::vector<std::string> frames;
    for (auto m = rows_.rows().rbegin(); m != rows_.rows().rend() && frames.size() < 400; ++m)
        if ((*m)->problem.empty() && (*m)->way == WireMessage::Way::received) frames.push_back((*m)->bytes);
    std::ranges::reverse(frames);
    const WireRows::Selection s = rows_.selection();
    auto proposals = k->proposals(d->settings, frames, s.start, s.length);
    const auto words = [](const FieldProposal& p) {
        return tr("%1, now %2, from %3 to %4")
            .arg(cruscotto::shown(p.words), valueText(p.value), valueText(p.low), valueText(p.high));
    };
    if (s.length > 0 && s == proposedFor_ && proposals.size() == proposals_.size()) {
        // The values go on, what was chosen stays.
        for (std::size_t i = 0; i < proposals_.size(); ++i) {
            const auto now = std::ranges::find(proposals, proposals_[i].words, &FieldProposal::words);
            if (now != proposals.end()) choice_->setItemText(static_cast<int>(i), words(*now));
        }
        return;
    }
    proposedFor_ = s;
    proposals_ = std::move(proposals);
    choice_->clear();
    for (const FieldProposal& p : proposals_) choice_->addItem(words(p));
    const bool any = !proposals_.empty();
    if (s.length == 0) {
        said_->setText(any ? tr("Drag over the bytes of a value, or choose one that they seem to hold:")
                           : tr("Once the frames fit, drag over the bytes of a value to name it."));
        choice_->setCurrentIndex(-1);
        choice_->setPlaceholderText(tr("%n values", nullptr, static_cast<int>(proposals_.size())));
    } else {
        choice_->setCurrentIndex(any ? 0 : -1);
        said_->setText(any ? tr("Bytes %1 to %2 may be:").arg(s.start).arg(s.start + s.length - 1)
                           : tr("Bytes %1 to %2 are no number; a value has one to eight bytes.")
                                 .arg(s.start)
                                 .arg(s.start + s.length - 1));
    }
    choice_->setVisible(any);
    name_->setVisible(any && s.length > 0);
    add_->setVisible(any && s.length > 0);
}

void FieldBar::take() {
    const DeviceKind* k = kind();
    const int i = choice_->currentIndex();
    const QString name = name_->text().trimmed();
    if (!k || i < 0 || i >= static_cast<int>(proposals_.size())) return;
    if (name.isEmpty() || name.contains('=')) {
        said_->setText(tr("Give it a name first, without =."));
        return name_->setFocus();
    }
    const std::string device = device_.toStdString(), terminal = name.toStdString();
    Bench next =
        withPairs(session_.bench(), device, k->fieldsKey, {{terminal, proposals_[static_cast<std::size_t>(i)].words}});
    const DeviceSpec* d = next.device(device);
    if (auto checked = k->check(d->settings); !checked) return said_->setText(shown(checked.error().message));
    const auto terminals = k->terminals(d->settings);
    const auto info = std::ranges::find(terminals, terminal, &TerminalInfo::terminal);
    if (info == terminals.end()) return;
    const bool there = std::ranges::any_of(
        next.signals, [&](const auto& s) { return s->device == device && s->terminal == terminal; });
    if (!there) next = withSignalFor(next, device, *info, nullptr);
    name_->clear();
    rows_.select({});
    session_.edit(tr("Name a value of a frame"), next);
}

void FieldBar::refresh() {
    const auto statuses = session_.engine()->deviceStatus();
    if (const auto it = statuses.find(device_.toStdString()); it != statuses.end())
        suggestions_->offer(device_, it->second.suggestions);
    // While somebody chooses, what they choose from stays. What whole frames are made of takes longer to see, and
    // changes seldom.
    constexpr int seldom = 25;
    const bool whole = rows_.selection().length == 0 && !proposals_.empty();
    if (!choice_->view()->isVisible() && (!whole || ++refreshed_ % seldom == 0)) propose();
}

WireView::WireView(Session& session, const QString& device, QWidget* parent)
    : QWidget(parent, Qt::Window), session_(session), device_(device) {
    setObjectName("page");
    setAttribute(Qt::WA_DeleteOnClose);
    setAttribute(Qt::WA_StyledBackground);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 12, 0, 8);
    column->setSpacing(8);
    auto* bar = new QHBoxLayout;
    bar->setContentsMargins(16, 0, 16, 0);
    bar->setSpacing(8);
    title_ = new QLabel(this);
    title_->setStyleSheet("font-size: 17px; font-weight: 600;");
    search_ = new QLineEdit(this);
    search_->setPlaceholderText(tr("Find text, bytes or a name"));
    search_->setAccessibleName(tr("Find in the messages"));
    search_->setClearButtonEnabled(true);
    search_->setMaximumWidth(280);
    filter_ = new QComboBox(this);
    filter_->setAccessibleName(tr("Which messages are shown"));
    filter_->addItems({tr("Everything"), tr("What does not fit"), tr("What came in"), tr("What went out")});
    freeze_ = new QPushButton(tr("Freeze"), this);
    freeze_->setCheckable(true);
    freeze_->setShortcut(QKeySequence("Ctrl+Space"));
    freeze_->setToolTip(tr("Hold the picture; the device goes on (Ctrl+Space)"));
    save_ = new QPushButton(tr("Save…"), this);
    save_->setToolTip(tr("Write the messages that are shown into a file, which can be replayed as a device"));
    bar->addWidget(title_, 1);
    bar->addWidget(search_, 1);
    bar->addWidget(filter_);
    bar->addWidget(freeze_);
    bar->addWidget(save_);
    column->addLayout(bar);
    rows_ = new WireRows(this);
    column->addWidget(rows_, 1);
    fields_ = new FieldBar(session_, device_, *rows_, this);
    column->addWidget(fields_);
    summary_ = new QLabel(this);
    summary_->setObjectName("muted");
    summary_->setContentsMargins(16, 0, 16, 0);
    column->addWidget(summary_);
    connect(search_, &QLineEdit::textChanged, this, &WireView::sift);
    connect(filter_, &QComboBox::currentIndexChanged, this, &WireView::sift);
    connect(freeze_, &QPushButton::toggled, this,
            [this](bool on) { freeze_->setText(on ? tr("Go on") : tr("Freeze")); });
    connect(save_, &QPushButton::clicked, this, [this] {
        Q_EMIT saveAsked({rows_->rows().begin(), rows_->rows().end()});
    });
    connect(&session_, &Session::sourceChanged, this, &WireView::close);
    connect(&session_, &Session::benchChanged, this, [this] {
        if (!session_.bench().device(device_.toStdString())) close();
    });
    resize(1120, 560);
    rows_->setFocus();
    look();
    refresh(true);
}

WireView::~WireView() {
    stopLooking();
}

void WireView::look() {
    if (!session_.engine()) return;
    tap_ = session_.engine()->wire(device_.toStdString());
    tap_->open();
}

void WireView::stopLooking() {
    if (tap_) std::exchange(tap_, nullptr)->close();
}

void WireView::closeEvent(QCloseEvent* event) {
    stopLooking();
    QWidget::closeEvent(event);
}

bool WireView::passes(const WireMessage& m) const {
    const int which = filter_->currentIndex();
    if (which == 1 && m.problem.empty()) return false;
    if (which == 2 && m.way != WireMessage::Way::received) return false;
    if (which == 3 && m.way != WireMessage::Way::sent) return false;
    const QString wanted = search_->text().trimmed();
    return wanted.isEmpty() || shown(printableBytes(m.bytes)).contains(wanted, Qt::CaseInsensitive) ||
           shown(hexBytes(m.bytes)).contains(wanted, Qt::CaseInsensitive) ||
           rows_->meaning(m).contains(wanted, Qt::CaseInsensitive);
}

void WireView::sift() {
    std::deque<WireMessagePtr> fit;
    for (const WireMessagePtr& m : all_)
        if (passes(*m)) fit.push_back(m);
    rows_->show(std::move(fit));
}

void WireView::refresh(bool digits) {
    const DeviceSpec* d = session_.bench().device(device_.toStdString());
    if (!digits || !tap_ || !d || !session_.engine()) return;
    // What goes by faster than anybody reads is painted less often.
    if (skip_ > 0 && skip_-- > 0) return;
    title_->setText(shown(d->name));
    setWindowTitle(tr("%1: the wire").arg(shown(d->name)));
    WireRows::Colours colours;
    for (const auto& s : session_.bench().signals)
        if (s->device == d->id) {
            colours.ofTerminal[s->terminal] = theme().signal[static_cast<std::size_t>(s->colour) % 8];
            colours.nameOfTerminal[s->terminal] = shown(s->tag);
        }
    rows_->setColours(std::move(colours));
    const DeviceKind* kind = deviceKind(d->kind);
    rows_->setSelectable(kind && kind->proposals);
    fields_->setVisible(kind && kind->proposals);
    if (!freeze_->isChecked()) {
        const auto fresh = tap_->since(next_);
        std::vector<WireMessagePtr> fit;
        for (const WireMessagePtr& m : fresh) {
            next_ = m->number + 1;
            all_.push_back(m);
            if (passes(*m)) fit.push_back(m);
        }
        while (all_.size() > WireTap::mostMessages) all_.pop_front();
        if (!fresh.empty()) rows_->add(fit, all_.front()->number);
        if (fit.size() > 100) skip_ = 2;
    }
    if (kind && kind->proposals) fields_->refresh();
    const auto statuses = session_.engine()->deviceStatus();
    const auto it = statuses.find(d->id);
    QString text = tr("%1 of %2 messages").arg(rows_->rows().size()).arg(all_.size());
    if (freeze_->isChecked()) text += tr(", held");
    if (it != statuses.end()) {
        if (it->second.linkShare) text += tr(" · %1 % of the link used").arg(*it->second.linkShare * 100, 0, 'f', 1);
        if (!it->second.linkAdvice.empty()) text += QStringLiteral(" · ") + shown(it->second.linkAdvice);
        if (it->second.state != LinkState::live) text += QStringLiteral(" · ") + shown(it->second.sentence);
    }
    summary_->setText(text);
}

}  // namespace cruscotto
