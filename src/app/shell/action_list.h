#pragma once

#include <QAction>
#include <QFrame>
#include <QLineEdit>
#include <QListWidget>
#include <QPointer>

class QLabel;

namespace cruscotto {

/// All actions in one list that is searched by typing. Return does it, Escape closes.
class ActionList : public QFrame {
    Q_OBJECT
public:
    explicit ActionList(QWidget* parent);
    void open(const QList<QAction*>& actions);
    [[nodiscard]] QListWidget* list() { return list_; }
    [[nodiscard]] QLineEdit* search() { return search_; }

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void filter(const QString& words);
    void trigger();
    void leave();
    QLineEdit* search_;
    QListWidget* list_;
    QLabel* none_;  // why the list is empty
    QList<QAction*> actions_;
    QPointer<QWidget> before_;  ///< what had the focus
};

}  // namespace cruscotto
