#include "app/run/library_view.h"

#include <QDir>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QKeyEvent>
#include <QPainter>
#include <QScrollBar>
#include <QSet>
#include <QStyledItemDelegate>
#include <QToolButton>

#include "app/widgets/form.h"
#include "app/widgets/spark.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

namespace {

constexpr int rowHeight = 44, pictureWidth = 132;

/// A small picture of the run.
class PictureDelegate : public QStyledItemDelegate {
public:
    PictureDelegate(const LibraryModel& model, QObject* parent) : QStyledItemDelegate(parent), model_(model) {}
    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        QStyleOptionViewItem own = option;
        initStyleOption(&own, index);
        own.widget->style()->drawPrimitive(QStyle::PE_PanelItemViewItem, &own, p, own.widget);
        const RunShelf::Picture* made = model_.pictureOf(index.row());
        if (!made || made->columns.empty()) return;
        p->save();
        p->setRenderHint(QPainter::Antialiasing);
        constexpr int air = 8;
        paintSpark(*p, QRectF(option.rect).adjusted(air, air, -air, -air), made->columns,
                   theme().signal[static_cast<std::size_t>(made->colour) % theme().signal.size()], made->steps, 0);
        p->restore();
    }

private:
    const LibraryModel& model_;
};

}  // namespace

int LibraryModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(shown_.size());
}
int LibraryModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : columns;
}

QVariant LibraryModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid() || index.row() >= rowCount()) return {};
    const RunCard& c = card(index.row());
    if (role == Qt::ToolTipRole)
        return c.problem.empty()
                   ? shown(c.path) + (c.notes.words.empty() ? QString() : QStringLiteral("\n") + shown(c.notes.words))
                   : shown(c.problem);
    if (role == Qt::ForegroundRole && (!c.problem.empty() || (index.column() == verdict && c.notes.verdict == "bad")))
        return QVariant(theme().red);
    if (role == Qt::TextAlignmentRole && (index.column() == length || index.column() == marks))
        return QVariant((index.column() == marks ? Qt::AlignHCenter : Qt::AlignRight) | Qt::AlignVCenter);
    if (role != Qt::DisplayRole && role != Qt::AccessibleTextRole) return {};
    if (!c.problem.empty())
        return index.column() == title   ? QVariant(shown(c.fileName()))
               : index.column() == bench ? QVariant(tr("does not read"))
                                         : QVariant();
    switch (index.column()) {
        case title:
            return shown(c.title());
        case verdict:
            return c.notes.verdict == "good"  ? tr("✓ good")
                   : c.notes.verdict == "bad" ? tr("▲ bad")
                                              : shown(c.notes.verdict);
        case began:
            return shown(c.began());
        case length:
            return lengthText(c.length) + (c.closed ? QString() : tr(" …"));
        case marks:
            return c.markCount ? QString::number(c.markCount) : QString();
        case bench:
            return shown(c.bench);
        default:
            return {};
    }
}

QVariant LibraryModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation == Qt::Horizontal && role == Qt::TextAlignmentRole && (section == length || section == marks))
        return QVariant((section == marks ? Qt::AlignHCenter : Qt::AlignRight) | Qt::AlignVCenter);
    if (orientation != Qt::Horizontal || role != Qt::DisplayRole) return {};
    switch (section) {
        case title:
            return tr("Run");
        case verdict:
            return tr("Verdict");
        case began:
            return tr("Began");
        case length:
            return tr("Length");
        case marks:
            return tr("Marks");
        case bench:
            return tr("Bench");
        default:
            return {};
    }
}

void LibraryModel::clear() {
    beginResetModel();
    cards_.clear();
    byPath_.clear();
    shown_.clear();
    pictures_.clear();
    endResetModel();
}

void LibraryModel::add(std::vector<RunCard> cards) {
    if (cards.empty()) return;
    for (RunCard& c : cards) {
        const QString path = cruscotto::shown(c.path);
        const auto at = byPath_.constFind(path);
        if (at != byPath_.constEnd()) {
            cards_[at.value()] = std::move(c);
            continue;
        }
        byPath_[path] = cards_.size();
        cards_.push_back(std::move(c));
    }
    show();
}

void LibraryModel::search(const RunSearch& search) {
    if (search == search_) return;
    search_ = search;
    show();
}

void LibraryModel::sort(int column, Qt::SortOrder order) {
    sortedBy_ = column == picture ? -1 : column;
    order_ = order;
    show();
}

void LibraryModel::show() {
    Q_EMIT layoutAboutToBeChanged();
    QStringList before;
    const QModelIndexList kept = persistentIndexList();
    for (const QModelIndex& index : kept) before << cruscotto::shown(card(index.row()).path);
    shown_.clear();
    for (std::size_t i = 0; i < cards_.size(); ++i)
        if (found(cards_[i], search_)) shown_.push_back(i);
    const auto less = [this](std::size_t a, std::size_t b) {
        const RunCard &x = cards_[a], &y = cards_[b];
        switch (sortedBy_) {
            case title:
                return x.title() < y.title();
            case verdict:
                return x.notes.verdict < y.notes.verdict;
            case began:
                return x.beganUnixNs < y.beganUnixNs;
            case length:
                return x.length < y.length;
            case marks:
                return x.markCount < y.markCount;
            case bench:
                return x.bench < y.bench;
            default:
                return false;
        }
    };
    if (sortedBy_ >= 0)
        std::ranges::stable_sort(shown_, [&](std::size_t a, std::size_t b) {
            return order_ == Qt::AscendingOrder ? less(a, b) : less(b, a);
        });
    QHash<QString, int> rows;
    for (int row = 0; row < rowCount(); ++row) rows[cruscotto::shown(card(row).path)] = row;
    for (int i = 0; i < kept.size(); ++i) {
        const int row = rows.value(before[i], -1);
        changePersistentIndex(kept[i], row < 0 ? QModelIndex() : index(row, kept[i].column()));
    }
    Q_EMIT layoutChanged();
}

void LibraryModel::addPicture(RunShelf::Picture made) {
    pictures_[cruscotto::shown(made.path)] = std::move(made);
    if (rowCount()) Q_EMIT dataChanged(index(0, picture), index(rowCount() - 1, picture));
}

const RunShelf::Picture* LibraryModel::pictureOf(int row) const {
    const auto at = pictures_.constFind(cruscotto::shown(card(row).path));
    return at == pictures_.constEnd() ? nullptr : &at.value();
}

LibraryView::LibraryView(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      model_(new LibraryModel(this)),
      table_(new QTableView),
      folder_(new QLabel),
      words_(new QLineEdit),
      since_(new Field(tr("Since"))),
      until_(new Field(tr("Until"))),
      count_(new QLabel),
      open_(new QPushButton(tr("Open"))),
      lay_(new QPushButton(tr("Lay over what is open"))),
      good_(new QPushButton(tr("✓ Good"))),
      bad_(new QPushButton(tr("▲ Bad"))) {
    setAccessibleName(tr("List of runs"));
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(24, 20, 24, 16);
    column->setSpacing(12);
    auto* head = new QHBoxLayout;
    head->addWidget(pageTitle(tr("Runs")));
    folder_->setObjectName("muted");
    folder_->setTextFormat(Qt::PlainText);
    head->addWidget(folder_, 1);
    auto* other = new QPushButton(tr("Another folder…"));
    connect(other, &QPushButton::clicked, this, [this] {
        const QString chosenFolder = QFileDialog::getExistingDirectory(this, tr("Folder of runs"), folder_->toolTip());
        if (!chosenFolder.isEmpty()) open(chosenFolder);
    });
    head->addWidget(other);
    auto* close = closeButton(tr("Back to the page"));
    connect(close, &QToolButton::clicked, this, &LibraryView::closeAsked);
    head->addWidget(close);
    column->addLayout(head);

    auto* row = new QHBoxLayout;
    row->setSpacing(8);
    words_->setPlaceholderText(tr("Find: words of the title, notes or marks, or a date such as 2026-11"));
    words_->setAccessibleName(tr("Find runs"));
    words_->setClearButtonEnabled(true);
    row->addWidget(words_, 1);
    constexpr int dayWide = 110;
    for (auto& [field, hint] : {std::pair{since_, tr("since")}, std::pair{until_, tr("until")}}) {
        field->setFixedWidth(dayWide);
        field->setPlaceholderText(hint);
        field->setToolTip(tr("A day such as 2026-11-29; empty: any"));
        row->addWidget(field);
    }
    column->addLayout(row);

    table_->setModel(model_);
    table_->setAccessibleName(tr("Runs"));
    table_->setItemDelegateForColumn(LibraryModel::picture, new PictureDelegate(*model_, table_));
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::ExtendedSelection);
    table_->setShowGrid(false);
    table_->setWordWrap(false);
    table_->setFrameShape(QFrame::NoFrame);
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setSectionResizeMode(QHeaderView::Fixed);
    table_->verticalHeader()->setDefaultSectionSize(rowHeight);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    table_->horizontalHeader()->setSectionResizeMode(LibraryModel::title, QHeaderView::Stretch);
    table_->horizontalHeader()->setSortIndicator(-1, Qt::DescendingOrder);
    table_->setSortingEnabled(true);
    constexpr int widths[] = {pictureWidth, 0, 100, 150, 100, 70, 170};
    for (int c = 0; c < LibraryModel::columns; ++c)
        if (widths[c]) table_->setColumnWidth(c, widths[c]);
    column->addWidget(table_, 1);

    auto* foot = new QHBoxLayout;
    foot->addWidget(count_, 1);
    good_->setToolTip(tr("Writes into the chosen runs what was found of them"));
    bad_->setToolTip(good_->toolTip());
    for (QPushButton* button : {good_, bad_, lay_, open_}) foot->addWidget(button);
    open_->setDefault(true);
    column->addLayout(foot);

    connect(words_, &QLineEdit::textChanged, this, &LibraryView::search);
    connect(since_, &Field::taken, this, &LibraryView::search);
    connect(until_, &Field::taken, this, &LibraryView::search);
    connect(table_->selectionModel(), &QItemSelectionModel::selectionChanged, this, &LibraryView::work);
    connect(table_, &QTableView::activated, this,
            [this](const QModelIndex& index) { Q_EMIT openAsked(shown(model_->card(index.row()).path)); });
    connect(open_, &QPushButton::clicked, this, [this] {
        if (const QStringList paths = chosen(); paths.size() == 1) Q_EMIT openAsked(paths.front());
    });
    connect(lay_, &QPushButton::clicked, this, [this] { Q_EMIT layAsked(chosen()); });
    for (const auto& [button, word] : {std::pair{good_, "good"}, std::pair{bad_, "bad"}})
        connect(button, &QPushButton::clicked, this, [this, word = word] {
            for (const QString& path : chosen()) shelf_.describe(path.toStdString(), word);
        });
    setFocusProxy(words_);
    work();
}

void LibraryView::open(const QString& folder) {
    folder_->setText(QFontMetrics(folder_->font()).elidedText(QDir::toNativeSeparators(folder), Qt::ElideMiddle, 420));
    folder_->setToolTip(folder);
    model_->clear();
    wanted_.clear();
    shelf_.open(folder.toStdString());
    work();
}

QStringList LibraryView::chosen() const {
    QStringList out;
    for (const QModelIndex& index : table_->selectionModel()->selectedRows())
        if (model_->card(index.row()).problem.empty()) out << shown(model_->card(index.row()).path);
    return out;
}

void LibraryView::search() {
    RunSearch search{words_->text().toStdString(), {}, {}};
    for (const auto& [field, day] : {std::pair{since_, &search.since}, std::pair{until_, &search.until}}) {
        *day = field->text().trimmed().toStdString();
        const bool fine = day->empty() || isDay(*day);
        field->markWrong(!fine, fine ? QString() : tr("A day such as 2026-11-29 is expected"));
        if (!fine) day->clear();
    }
    model_->search(search);
    work();
}

void LibraryView::work() {
    const auto paths = chosen();
    open_->setEnabled(paths.size() == 1);
    lay_->setEnabled(!paths.isEmpty() && !session_.openedNothing());
    good_->setEnabled(!paths.isEmpty());
    bad_->setEnabled(!paths.isEmpty());
    const auto files = std::max(shelf_.files(), model_->all());
    const auto here = static_cast<std::size_t>(model_->rowCount());
    count_->setText(shelf_.reading() && files == 0 ? tr("Reading…")
                    : files == 0                   ? tr("There is no run in this folder, or in those below it.")
                    : here == files                ? tr("Runs: %1").arg(countText(files))
                    : model_->all() < files ? tr("Reading… %1 of %2").arg(countText(model_->all()), countText(files))
                                            : tr("%1 of %2 runs").arg(countText(here), countText(files)));
}

void LibraryView::wantPictures() {
    const int first = std::max(0, table_->rowAt(0));
    int last = table_->rowAt(table_->viewport()->height() - 1);
    if (last < 0) last = model_->rowCount() - 1;
    for (int row = last; row >= first; --row) {
        const QString path = shown(model_->card(row).path);
        if (model_->pictureOf(row) || wanted_.contains(path) || !model_->card(row).problem.empty()) continue;
        wanted_ << path;
        shelf_.wantPicture(path.toStdString());
    }
}

void LibraryView::refresh() {
    model_->add(shelf_.take());
    for (RunShelf::Picture& made : shelf_.takePictures()) {
        wanted_.remove(shown(made.path));
        model_->addPicture(std::move(made));
    }
    if (const Text problem = shelf_.takeProblem(); !problem.empty()) Q_EMIT said(shown(problem));
    wantPictures();
    work();
}

void LibraryView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) return Q_EMIT closeAsked();
    if ((event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) && open_->isEnabled()) return open_->click();
    if (event->key() == Qt::Key_Down && words_->hasFocus()) {
        table_->setFocus();
        if (model_->rowCount() && !table_->currentIndex().isValid()) table_->selectRow(0);
        return;
    }
    QWidget::keyPressEvent(event);
}

}  // namespace cruscotto
