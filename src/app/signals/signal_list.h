#pragma once

#include <QAbstractListModel>
#include <QListView>
#include <memory>
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
        QColor qualityColour;
        QString sentence;  ///< a device's, where there is something to say
        std::vector<Column> columns;
    };
    [[nodiscard]] int rowCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override;
    [[nodiscard]] Qt::ItemFlags flags(const QModelIndex& index) const override;
    [[nodiscard]] QStringList mimeTypes() const override;
    [[nodiscard]] QMimeData* mimeData(const QModelIndexList& indexes) const override;
    [[nodiscard]] const Row& row(int i) const { return rows_[static_cast<std::size_t>(i)]; }
    /// Takes the newest readings. True if a heading's height may have changed.
    bool refresh(Instant t);

private:
    void take();
    Session& session_;
    std::vector<Row> rows_;
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
    [[nodiscard]] SignalModel& rows() { return model_; }

Q_SIGNALS:
    void chainAsked(const QString& signal);
    void deviceAsked(const QString& device);
    /// The menu for the row that is current; the window fills it with its actions.
    void menuAsked(QPoint globalAt);

protected:
    void contextMenuEvent(QContextMenuEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    SignalModel model_;
};

}  // namespace cruscotto
