#include "app/page/page_view.h"

#include <QApplication>
#include <QDragEnterEvent>
#include <QInputDialog>
#include <QKeyEvent>
#include <QMimeData>
#include <QPainter>
#include <QWheelEvent>
#include <cmath>

#include "app/page/tiles/tile_form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

namespace {
constexpr int tabsHeight = 36;
constexpr int pageGap = 4;
constexpr int pageSide = 8;
constexpr double leastRow = 56;
constexpr int pageEdge = 24;

std::vector<std::string> tileIds(const PageSpec& page) {
    std::vector<std::string> ids;
    for (const TileSpec& t : page.tiles) ids.push_back(t.id);
    return ids;
}

int rowsOf(const PageSpec& page) {
    int rows = pageRows;
    for (const TileSpec& t : page.tiles) rows = std::max(rows, t.y + t.h);
    return rows;
}
}  // namespace

TileSpec suitableTile(const SignalSpec& s) {
    TileSpec t;
    t.signals = {s.id};
    if (isOutput(s.kind)) {
        t.kind = TileKind::control;
        t.w = 3;
        t.h = isDigital(s.kind) ? 1 : 2;
    } else if (s.isState()) {
        t.kind = TileKind::state;
        t.w = 3;
        t.h = 2;
    } else {
        t.kind = TileKind::number;
        t.w = 3;
        t.h = 1;
    }
    return t;
}

PageView::PageView(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      header_(new QWidget(this)),
      tabs_(new QTabBar(header_)),
      scroll_(new QScrollBar(Qt::Vertical, this)),
      addDevice_(new QPushButton(tr("Add a device…"), this)) {
    setObjectName("page");
    setAttribute(Qt::WA_OpaquePaintEvent);
    setAcceptDrops(true);
    setAccessibleName(tr("Page"));
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setAccessibleName(tr("Pages"));
    connect(tabs_, &QTabBar::currentChanged, this, [this](int i) {
        if (i >= 0) showPage(tabs_->tabData(i).toString());
    });
    connect(tabs_, &QTabBar::tabBarDoubleClicked, this, &PageView::renamePage);
    header_->setAutoFillBackground(true);
    scroll_->hide();
    connect(addDevice_, &QPushButton::clicked, this, &PageView::deviceWanted);
    connect(scroll_, &QScrollBar::valueChanged, this, [this] {
        layOut();
        update();
    });
    connect(&session_, &Session::benchChanged, this, &PageView::take);
    // What the keyboard comes to is in sight; what was clicked was.
    connect(qApp, &QApplication::focusChanged, this, [this](QWidget*, const QWidget* now) {
        if (!now || QApplication::mouseButtons() != Qt::NoButton) return;
        for (const auto& t : tiles_)
            if (t && (t.get() == now || t->isAncestorOf(now))) return bringIntoView(shown(t->spec().id));
    });
}

// Where the focus goes while the tiles go is of no interest.
PageView::~PageView() {
    qApp->disconnect(this);
}

const PageSpec* PageView::pageSpec() const {
    return session_.bench().page(page_.toStdString());
}

void PageView::take() {
    if (!pageSpec()) page_ = session_.bench().pages.empty() ? QString() : shown(session_.bench().pages.front()->id);
    rebuildTabs();
    const PageSpec* page = pageSpec();
    std::vector<std::unique_ptr<Tile>> next;
    if (page) {
        for (const TileSpec& spec : page->tiles) {
            const auto old = std::find_if(tiles_.begin(), tiles_.end(), [&](const auto& t) {
                return t && t->spec().id == spec.id && t->spec().kind == spec.kind;
            });
            std::unique_ptr<Tile> tile;
            if (old != tiles_.end()) {
                tile = std::move(*old);
            } else {
                tile = tileForm(spec.kind).make(session_, this);
                connectTile(*tile);
                tile->stackUnder(header_);
                tile->setVisible(true);
            }
            tile->setSpec(spec);
            next.push_back(std::move(tile));
        }
    }
    // A tile may go in the middle of its own event: its menu, say.
    tiles_.swap(next);
    for (auto& gone : next)
        if (gone) {
            if (gone->isAncestorOf(QApplication::focusWidget()) || gone->hasFocus()) setFocus();
            gone->disconnect(this);
            gone->hide();
            gone.release()->deleteLater();
        }
    if (!tile(selected_)) selected_.clear();
    if (drag_ && tile(drag_->tile)) {
        making_ = withRoomFor(*page, dragged());
    } else {
        drag_.reset();
        ghost_ = {};
    }
    layOut();
    for (const auto& t : tiles_) {
        t->setSelected(t->spec().id == selected_.toStdString());
        t->refresh(session_.shownAt(), true);
    }
    update();  // what it says where it is empty
    Q_EMIT selectionChanged();
}

void PageView::connectTile(Tile& tile) {
    const auto id = [&tile] { return shown(tile.spec().id); };
    connect(&tile, &Tile::chosen, this, [this, id] { select(id()); });
    connect(&tile, &Tile::chainAsked, this, &PageView::chainAsked);
    connect(&tile, &Tile::menuAsked, this, &PageView::menuAsked);
    connect(&tile, &Tile::scalesChosen, this,
            [this, &tile](const std::map<std::string, Scale>& byUnit, const QString& effect, const QString& mergeKey) {
                TileSpec next = tile.spec();
                for (const auto& [unit, scale] : byUnit) next.scales[unit] = scale;
                editTile(next, effect, mergeKey);
            });
    connect(&tile, &Tile::settingChosen, this,
            [this, &tile](const QString& key, const QString& value, const QString& effect, const QString& mergeKey) {
                TileSpec next = tile.spec();
                next.settings[key.toStdString()] = value.toStdString();
                editTile(next, effect, mergeKey);
            });
    const auto begin = [this, &tile, id](QPoint at, bool resize) {
        const TileSpec& s = tile.spec();
        drag_ = Drag{id(), resize, at, {s.x, s.y, s.w, s.h}, scroll_->value()};
        ghost_ = drag_->cells;
        making_ = *pageSpec();
        tile.raise();
        tile.stackUnder(header_);
        update();
    };
    connect(&tile, &Tile::moveBegan, this, [begin](QPoint at) { begin(at, false); });
    connect(&tile, &Tile::resizeBegan, this, [begin](QPoint at) { begin(at, true); });
    connect(&tile, &Tile::moved, this, [this, &tile](QPoint at) {
        if (!drag_) return;
        scrollAtEdge(mapFromGlobal(at).y());
        const QPoint delta = at - drag_->from + QPoint(0, scroll_->value() - drag_->scrolled);
        const QRect now = cellRect(drag_->cells.x(), drag_->cells.y(), drag_->cells.width(), drag_->cells.height());
        const QRect one = cellRect(0, 0, 1, 1);
        const int dx = static_cast<int>(std::lround(static_cast<double>(delta.x()) / one.width()));
        const int dy = static_cast<int>(std::lround(static_cast<double>(delta.y()) / one.height()));
        QRect to = drag_->cells;
        if (drag_->resize) {
            to.setWidth(std::clamp(to.width() + dx, 1, pageColumns - to.x()));
            to.setHeight(std::max(1, to.height() + dy));
            tile.resize(std::max(40, now.width() + delta.x()), std::max(40, now.height() + delta.y()));
        } else {
            to.moveTo(std::clamp(to.x() + dx, 0, pageColumns - to.width()), std::max(0, to.y() + dy));
            tile.move(now.topLeft() + delta);
        }
        if (to != ghost_) {
            ghost_ = to;
            making_ = withRoomFor(*pageSpec(), dragged());
            layOut();
            update();
        }
    });
    connect(&tile, &Tile::moveEnded, this, &PageView::endDrag);
}

TileSpec PageView::dragged() const {
    TileSpec next = tile(drag_->tile)->spec();
    next.x = ghost_.x();
    next.y = ghost_.y();
    next.w = ghost_.width();
    next.h = ghost_.height();
    return next;
}

void PageView::endDrag() {
    if (!drag_) return;
    const TileSpec next = dragged();
    const bool changed = ghost_ != drag_->cells, resize = drag_->resize;
    drag_.reset();
    ghost_ = {};
    if (changed) placeTile(next, resize ? tr("Resize tile") : tr("Move tile"));
    layOut();
    update();
}

void PageView::rebuildTabs() {
    const QSignalBlocker blocker(tabs_);
    while (tabs_->count() > static_cast<int>(session_.bench().pages.size())) tabs_->removeTab(tabs_->count() - 1);
    int i = 0;
    for (const auto& page : session_.bench().pages) {
        if (i == tabs_->count()) tabs_->addTab({});
        tabs_->setTabText(i, shown(page->name));
        tabs_->setTabData(i, shown(page->id));
        if (shown(page->id) == page_) tabs_->setCurrentIndex(i);
        ++i;
    }
    placeTabs();
}

void PageView::placeTabs() {
    header_->setGeometry(0, 0, width(), tabsHeight);
    tabs_->setGeometry(16, 4, std::min(tabs_->sizeHint().width(), width() - 32), tabsHeight - 4);
}

void PageView::showPage(const QString& id) {
    if (id == page_ || !session_.bench().page(id.toStdString())) return;
    page_ = id;
    selected_.clear();
    scroll_->setValue(0);
    take();
}

void PageView::stepPage(int by) {
    const int n = tabs_->count();
    if (n > 0) tabs_->setCurrentIndex((tabs_->currentIndex() + by + n) % n);
}

int PageView::rows() const {
    const PageSpec* page = pageSpec();
    return page ? rowsOf(*page) : pageRows;
}

double PageView::rowHeight() const {
    return std::max(leastRow, static_cast<double>(height() - tabsHeight - pageGap) / rows());
}

QRect PageView::cellRect(int x, int y, int w, int h) const {
    const double cw = (width() - 2.0 * pageSide) / pageColumns;
    const double ch = rowHeight();
    const int first = tabsHeight - scroll_->value();
    const int left = static_cast<int>(pageSide + cw * x), top = static_cast<int>(ch * y);
    return {left, first + top, static_cast<int>(pageSide + cw * (x + w)) - left, static_cast<int>(ch * (y + h)) - top};
}

QPoint PageView::cellAt(QPoint at) const {
    const QRect one = cellRect(0, 0, 1, 1);
    return {std::clamp((at.x() - pageSide) / std::max(1, one.width()), 0, pageColumns - 1),
            std::max(0, (at.y() - one.top()) / std::max(1, one.height()))};
}

void PageView::layOut() {
    const int view = height() - tabsHeight - pageGap;
    // While something is dragged, its rows stay as high as they are, and there are as many as it would have.
    const int all = static_cast<int>(rowHeight() * (drag_ ? rowsOf(making_) : rows()));
    const QSignalBlocker blocker(scroll_);
    scroll_->setPageStep(std::max(1, view));
    scroll_->setSingleStep(static_cast<int>(leastRow));
    scroll_->setRange(0, std::max(0, all - view));
    scroll_->setVisible(all > view);
    scroll_->setGeometry(width() - pageSide, tabsHeight, pageSide, std::max(0, view));
    for (std::size_t i = 0; i < tiles_.size(); ++i) {
        if (drag_ && drag_->tile == shown(tiles_[i]->spec().id)) continue;  // it follows the pointer
        const TileSpec& s = drag_ ? making_.tiles[i] : tiles_[i]->spec();
        tiles_[i]->setGeometry(cellRect(s.x, s.y, s.w, s.h));
    }
    scroll_->raise();
    addDevice_->setVisible(tiles_.empty() && session_.engine() && session_.bench().devices.empty());
    addDevice_->adjustSize();
    addDevice_->move((width() - addDevice_->width()) / 2, height() / 2 + 20);
}

void PageView::bringIntoView(const QString& id) {
    const Tile* t = tile(id);
    if (!t) return;
    const QRect at = cellRect(t->spec().x, t->spec().y, t->spec().w, t->spec().h);
    if (const int over = at.bottom() + pageGap - height(); over > 0) scroll_->setValue(scroll_->value() + over);
    const QRect now = cellRect(t->spec().x, t->spec().y, t->spec().w, t->spec().h);
    if (const int under = tabsHeight - now.top(); under > 0) scroll_->setValue(scroll_->value() - under);
}

void PageView::scrollAtEdge(int y) {
    const int by = static_cast<int>(leastRow) / 4;
    if (y > height() - pageEdge) scroll_->setValue(scroll_->value() + by);
    if (y < tabsHeight + pageEdge) scroll_->setValue(scroll_->value() - by);
}

void PageView::refresh(Instant t, bool digits) {
    for (const auto& tile : tiles_) tile->refresh(t, digits);
}

Tile* PageView::tile(const QString& id) const {
    for (const auto& t : tiles_)
        if (t && shown(t->spec().id) == id) return t.get();
    return nullptr;
}
Tile* PageView::selected() const {
    return tile(selected_);
}

void PageView::select(const QString& id) {
    if (selected_ == id) return;
    selected_ = id;
    for (const auto& t : tiles_) t->setSelected(shown(t->spec().id) == id);
    Q_EMIT selectionChanged();
}

void PageView::editTile(const TileSpec& tile, const QString& effect, const QString& mergeKey) {
    session_.edit(effect, withTile(session_.bench(), page_.toStdString(), tile), mergeKey);
}

void PageView::placeTile(const TileSpec& tile, const QString& effect, const QString& mergeKey) {
    if (mergeKey.isEmpty() || !steps_ || steps_->key != mergeKey || steps_->after != *pageSpec())
        steps_ = Steps{mergeKey, *pageSpec(), {}};
    steps_->after = withRoomFor(steps_->before, tile);
    session_.edit(effect, withPage(session_.bench(), steps_->after), mergeKey);
    bringIntoView(shown(tile.id));
}

void PageView::addSignal(const QString& signal) {
    const SignalSpec* s = session_.bench().signal(signal.toStdString());
    if (!s) return;
    if (!pageSpec()) addPage();
    const TileSpec t = suitableTile(*s);
    addTile(t, freePlace(*pageSpec(), t.w, t.h));
}

void PageView::addTile(TileSpec t, Place at) {
    t.id = freshId(t.signals.front(), tileIds(*pageSpec()));
    std::tie(t.x, t.y) = at;
    editTile(t, tr("Add tile"));
    select(shown(t.id));
    bringIntoView(shown(t.id));
}

Tile* PageView::traceFor(const std::string& signal, QPoint at) const {
    for (const auto& tile : tiles_) {
        const auto& its = tile->spec().signals;
        if (tileForm(tile->spec().kind).manySignals && tile->geometry().contains(at) &&
            std::find(its.begin(), its.end(), signal) == its.end())
            return tile.get();
    }
    return nullptr;
}

Place PageView::placeAt(QPoint at, const TileSpec& t) const {
    const QPoint cell = cellAt(at);
    return nearestFreePlace(pageSpec() ? *pageSpec() : PageSpec(), {std::min(cell.x(), pageColumns - t.w), cell.y()},
                            t.w, t.h);
}

void PageView::removeSelected() {
    if (Tile* t = selected())
        session_.edit(tr("Remove tile"), withoutTile(session_.bench(), page_.toStdString(), t->spec().id));
}

void PageView::showSelectedAs(TileKind kind) {
    Tile* t = selected();
    if (!t || t->spec().kind == kind) return;
    TileSpec next = t->spec();
    next.kind = kind;
    next.settings.clear();
    const TileForm& form = tileForm(kind);
    if (!form.manySignals && next.signals.size() > 1) next.signals.resize(1);
    next.w = std::max(next.w, form.leastWidth);
    next.h = std::max(next.h, form.leastHeight);
    next.x = std::min(next.x, pageColumns - next.w);
    placeTile(next, tr("Show as another kind"));
}

void PageView::fitSelected() {
    if (Tile* t = selected()) t->fitScale();
}

void PageView::toggleLearning() {
    Tile* t = selected();
    if (!t) return;
    if (t->learning())
        t->endLearning();
    else
        t->beginLearning();
    Q_EMIT selectionChanged();
}

void PageView::changeSelected(const std::string& key, const std::string& value, const QString& effect) {
    Tile* t = selected();
    if (!t || !checkTileSetting(t->spec().kind, key, value)) return;
    TileSpec next = t->spec();
    next.settings[key] = value;
    placeTile(next, effect, {});
}

void PageView::togglePlusMinus() {
    Tile* t = selected();
    if (!t || t->spec().kind != TileKind::number) return;
    TileSpec next = t->spec();
    next.plusMinus = !next.plusMinus;
    placeTile(next, next.plusMinus ? tr("Show uncertainty") : tr("Hide uncertainty"), {});
}

void PageView::moveSelected(int dx, int dy) {
    Tile* t = selected();
    if (!t) return;
    TileSpec next = t->spec();
    next.x = std::clamp(next.x + dx, 0, pageColumns - next.w);
    next.y = std::max(0, next.y + dy);
    placeTile(next, tr("Move tile"), "move " + shown(next.id));
}

void PageView::resizeSelected(int dw, int dh) {
    Tile* t = selected();
    if (!t) return;
    TileSpec next = t->spec();
    next.w = std::clamp(next.w + dw, 1, pageColumns - next.x);
    next.h = std::max(1, next.h + dh);
    placeTile(next, tr("Resize tile"), "resize " + shown(next.id));
}

void PageView::addPage() {
    std::vector<std::string> ids;
    for (const auto& p : session_.bench().pages) ids.push_back(p->id);
    PageSpec page;
    page.id = freshId("page", ids);
    page.name = tr("Page %1").arg(ids.size() + 1).toStdString();
    session_.edit(tr("Add page"), withPage(session_.bench(), page));
    showPage(shown(page.id));
}

void PageView::renamePage() {
    const PageSpec* page = pageSpec();
    if (!page) return;
    bool fine = false;
    const QString name = QInputDialog::getText(this, tr("Rename page"), tr("Name of the page"), QLineEdit::Normal,
                                               shown(page->name), &fine);
    if (!fine || name.trimmed().isEmpty()) return;
    PageSpec next = *pageSpec();
    next.name = name.trimmed().toStdString();
    session_.edit(tr("Rename page"), withPage(session_.bench(), next));
}

void PageView::removePage() {
    if (pageSpec()) session_.edit(tr("Remove page"), withoutPage(session_.bench(), page_.toStdString()));
}

void PageView::resizeEvent(QResizeEvent*) {
    placeTabs();
    layOut();
}

void PageView::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), theme().ground);
    if (!ghost_.isNull()) {
        p.setPen(QPen(theme().accent, 1, Qt::DashLine));
        QRect to = cellRect(ghost_.x(), ghost_.y(), ghost_.width(), ghost_.height()).adjusted(2, 2, -3, -3);
        to.moveTop(std::min(to.top(), height() - pageGap));  // below what is in sight: its upper edge
        p.drawRect(to);
    }
    if (tiles_.empty() && ghost_.isNull()) {
        p.setPen(theme().muted);
        p.setFont(uiFont(15));
        p.drawText(rect(), Qt::AlignCenter,
                   !session_.bench().signals.empty()  ? tr("Drag a signal here from the list on the left.")
                   : session_.bench().devices.empty() ? tr("Nothing is connected yet.")
                                                      : tr("Click a device on the left, and add what it measures."));
    }
}

void PageView::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasFormat(signalMime)) event->acceptProposedAction();
}

void PageView::dragMoveEvent(QDragMoveEvent* event) {
    if (!event->mimeData()->hasFormat(signalMime)) return;
    const SignalSpec* s = session_.bench().signal(event->mimeData()->data(signalMime).toStdString());
    if (!s) return;
    const QPoint at = event->position().toPoint();
    scrollAtEdge(at.y());
    const Tile* over = traceFor(s->id, at);
    QRect to;
    if (over) {
        to = {over->spec().x, over->spec().y, over->spec().w, over->spec().h};
    } else {
        const TileSpec t = suitableTile(*s);
        const Place place = placeAt(at, t);
        to = {place.first, place.second, t.w, t.h};
    }
    if (to != ghost_) {
        ghost_ = to;
        update();
    }
    event->acceptProposedAction();
}

void PageView::wheelEvent(QWheelEvent* event) {
    QApplication::sendEvent(scroll_, event);  // of what lies on a tile that has no use for it, too
}

void PageView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_PageDown)
        scroll_->triggerAction(QAbstractSlider::SliderPageStepAdd);
    else if (event->key() == Qt::Key_Space && selected() && !event->isAutoRepeat()) {
        if (sinceSpace_.isValid() && sinceSpace_.elapsed() < QApplication::doubleClickInterval()) {
            sinceSpace_.invalidate();
            Q_EMIT fullAsked();
        } else {
            sinceSpace_.start();
        }
    } else if (event->key() == Qt::Key_PageUp)
        scroll_->triggerAction(QAbstractSlider::SliderPageStepSub);
    else
        QWidget::keyPressEvent(event);
}

void PageView::dragLeaveEvent(QDragLeaveEvent*) {
    ghost_ = {};
    update();
}

void PageView::dropEvent(QDropEvent* event) {
    ghost_ = {};
    update();
    const SignalSpec* s = session_.bench().signal(event->mimeData()->data(signalMime).toStdString());
    if (!s) return;
    event->acceptProposedAction();
    const QPoint at = event->position().toPoint();
    if (const Tile* trace = traceFor(s->id, at)) {
        TileSpec next = trace->spec();
        next.signals.push_back(s->id);
        editTile(next, tr("Add signal to tile"));
        return select(shown(next.id));
    }
    if (!pageSpec()) addPage();
    const TileSpec t = suitableTile(*s);
    addTile(t, placeAt(at, t));
}

}  // namespace cruscotto
