#include "app/shell/action_list.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QVBoxLayout>
#include <algorithm>

#include "app/widgets/theme.h"

namespace cruscotto {

ActionList::ActionList(QWidget* parent)
    : QFrame(parent), search_(new QLineEdit(this)), list_(new QListWidget(this)), none_(new QLabel(this)) {
    setObjectName("palette");
    setAccessibleName(tr("All actions"));
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(10, 10, 10, 10);
    column->setSpacing(8);
    search_->setPlaceholderText(tr("What do you want to do?"));
    search_->setAccessibleName(tr("Search the actions"));
    search_->setStyleSheet("font-size: 15px; padding: 6px 8px;");
    list_->setAccessibleName(tr("Actions"));
    list_->setFocusPolicy(Qt::NoFocus);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    column->addWidget(search_);
    none_->setObjectName("muted");
    none_->setWordWrap(true);
    none_->setAlignment(Qt::AlignTop);
    none_->setMargin(8);
    column->addWidget(none_, 1);
    column->addWidget(list_);
    search_->installEventFilter(this);
    connect(search_, &QLineEdit::textChanged, this, &ActionList::filter);
    connect(search_, &QLineEdit::returnPressed, this, &ActionList::trigger);
    connect(list_, &QListWidget::itemClicked, this, &ActionList::trigger);
    hide();
}

void ActionList::open(const QList<QAction*>& actions) {
    actions_ = actions;
    const int w = std::min(560, parentWidget()->width() - 40);
    setGeometry((parentWidget()->width() - w) / 2, 72, w, std::min(440, parentWidget()->height() - 120));
    before_ = window()->focusWidget();
    search_->clear();
    filter({});
    show();
    raise();
    search_->setFocus();
}

void ActionList::filter(const QString& words) {
    list_->clear();
    QStringList notNow;
    // What is called just so comes first, then what begins so.
    const auto rank = [typed = words.trimmed()](const QAction* action) {
        if (typed.isEmpty()) return 2;
        if (action->text().compare(typed, Qt::CaseInsensitive) == 0) return 0;
        return action->text().startsWith(typed, Qt::CaseInsensitive) ? 1 : 2;
    };
    QList<QAction*> ordered = actions_;
    std::ranges::stable_sort(ordered, {}, rank);
    for (QAction* action : ordered) {
        const QString name = action->text();
        bool all = true;
        for (const QString& word : words.split(' ', Qt::SkipEmptyParts))
            all = all && (name + " " + action->data().toString()).contains(word, Qt::CaseInsensitive);
        if (all && !action->isEnabled()) notNow << name;
        if (!all || !action->isEnabled()) continue;
        auto* item = new QListWidgetItem(list_);
        item->setData(Qt::UserRole, QVariant::fromValue(static_cast<void*>(action)));
        item->setData(Qt::AccessibleTextRole, name);
        item->setSizeHint({100, 30});
        auto* row = new QWidget;
        auto* box = new QHBoxLayout(row);
        box->setContentsMargins(8, 0, 8, 0);
        auto* group = new QLabel(action->data().toString(), row);
        group->setObjectName("muted");
        group->setFixedWidth(84);
        auto* keys = new QLabel(action->shortcut().toString(QKeySequence::NativeText), row);
        keys->setObjectName("muted");
        box->addWidget(group);
        box->addWidget(new QLabel(name, row), 1);
        box->addWidget(keys);
        row->setAttribute(Qt::WA_TransparentForMouseEvents);
        list_->setItemWidget(item, row);
    }
    list_->setVisible(list_->count() > 0);
    none_->setVisible(list_->count() == 0);
    none_->setText(notNow.empty() ? tr("No action has these words.")
                                  : tr("Not possible now: %1").arg(notNow.join(", ")));
    if (list_->count()) list_->setCurrentRow(0);
}

void ActionList::leave() {
    // Before it is hidden: else the focus would first go to whatever is next, which a tile takes for being chosen.
    (before_ ? before_.data() : parentWidget())->setFocus();
    hide();
}

void ActionList::trigger() {
    QListWidgetItem* item = list_->currentItem();
    leave();
    if (item) static_cast<QAction*>(item->data(Qt::UserRole).value<void*>())->trigger();
}

bool ActionList::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::KeyPress) {
        const int key = static_cast<QKeyEvent*>(event)->key();
        const int n = list_->count();
        if (key == Qt::Key_Escape) {
            leave();
            return true;
        }
        if (n && (key == Qt::Key_Down || key == Qt::Key_Up)) {
            list_->setCurrentRow((list_->currentRow() + (key == Qt::Key_Down ? 1 : n - 1)) % n);
            return true;
        }
    }
    if (event->type() == QEvent::FocusOut && isVisible()) hide();
    return QFrame::eventFilter(watched, event);
}

}  // namespace cruscotto
