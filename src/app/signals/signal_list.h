#pragma once

#include <QAbstractListModel>
#include <QLineEdit>
#include <QListView>
#include <QToolButton>
#include <memory>
#include <set>
#include <vector>

#include "app/document/session.h"

namespace cruscotto {

/// The rows: each device, and under it its signals with their newest reading.
class SignalModel : public QAbstractListModel {
    Q_OBJECT
public:
    explicit SignalModel(Session& session, QObject* parent = nullptr);
    struct Row {
        std::shared_ptr<const SignalSpec> signal;  ///< null: a device's heading
        std::shared_ptr<const DeviceSpec> device;
        QString value, unit, quality;
        QString evidence;  ///< with its grounds
        QColor qualityColour;
        QString sentence;  ///< a device's, where there is something to say
        std::vector<Column> columns;
        bool folded = false;  ///< a heading whose signals are not shown
        int hidden = 0;       ///< how many of them
    };
    [[nodiscard]] int rowCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override;
    [[nodiscard]] Qt::ItemFlags flags(const QModelIndex& index) const override;
    [[nodiscard]] QStringList mimeTypes() const override;
    [[nodiscard]] QMimeData* mimeData(const QModelIndexList& indexes) const override;
    [[nodiscard]] const Row& row(int i) const { return rows_[static_cast<std::size_t>(i)]; }
    bool setData(const QModelIndex& index, const QVariant& value, int role) override;
    /// Takes the newest readings. True if a heading's height may have changed.
    bool refresh(Instant t);

    /// Only signals whose name, tag, terminal, device or unit has these words.
    void find(const QString& words);
    [[nodiscard]] QString found() const { return find_; }
    /// Only signals whose reading is not good, or beyond its limits.
    void showOnlyUnwell(bool on);
    [[nodiscard]] bool onlyUnwell() const { return onlyUnwell_; }
    void fold(const std::string& device, bool folded);
    [[nodiscard]] bool isFolded(const std::string& device) const { return folded_.contains(device); }
    /// Puts the signal before another of the same device; behind all of it where that is empty.
    void move(const std::string& signal, const std::string& before);

private:
    void take();
    [[nodiscard]] bool shows(const SignalSpec& s, const DeviceSpec& device) const;
    Session& session_;
    std::vector<Row> rows_;
    QString find_;
    bool onlyUnwell_ = false;
    std::set<std::string> unwell_;  // as far as is known
    std::set<std::string> folded_;  // devices
};

/// Always in sight: what is measured, alive. Dragged to the page, double-clicked to open the chain.
class SignalList : public QListView {
    Q_OBJECT
public:
    explicit SignalList(Session& session, QWidget* parent = nullptr);
    void refresh(Instant t, bool digits);
    /// Id of the signal of the current row; empty where there is none.
    [[nodiscard]] QString currentSignal() const;
    void select(const QString& signal);
    /// Ids of all selected signals, in their order.
    [[nodiscard]] std::vector<std::string> selectedSignals() const;
    /// Lets the current signal's name be typed where it stands.
    void rename();
    [[nodiscard]] SignalModel& rows() { return model_; }

Q_SIGNALS:
    void chainAsked(const QString& signal);
    void deviceAsked(const QString& device);
    /// The menu for the row that is current; the window fills it with its actions.
    void menuAsked(QPoint globalAt);

protected:
    void contextMenuEvent(QContextMenuEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dragMoveEvent(QDragMoveEvent* event) override;
    void dropEvent(QDropEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    SignalModel model_;
};

/// The list with what finds in it above.
class SignalPanel : public QWidget {
    Q_OBJECT
public:
    explicit SignalPanel(Session& session, QWidget* parent = nullptr);
    [[nodiscard]] SignalList* list() { return list_; }
    [[nodiscard]] QLineEdit* search() { return search_; }
    void showOnlyUnwell(bool on);

private:
    QLineEdit* search_;
    QToolButton* unwell_;
    SignalList* list_;
};

}  // namespace cruscotto
