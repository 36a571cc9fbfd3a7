#pragma once

#include <QAbstractTableModel>
#include <QHash>
#include <QLabel>
#include <QPushButton>
#include <QTableView>
#include <QWidget>

#include "app/document/run_shelf.h"
#include "app/document/session.h"
#include "app/widgets/fields.h"

namespace cruscotto {

/// The runs of a folder that are looked for, as rows.
class LibraryModel : public QAbstractTableModel {
    Q_OBJECT
public:
    enum Column { picture, title, verdict, began, length, marks, bench, columns };
    explicit LibraryModel(QObject* parent) : QAbstractTableModel(parent) {}
    [[nodiscard]] int rowCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] int columnCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override;
    [[nodiscard]] QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    void sort(int column, Qt::SortOrder order) override;

    void clear();
    void add(std::vector<RunCard> cards);
    void search(const RunSearch& search);
    void addPicture(RunShelf::Picture made);
    [[nodiscard]] const RunCard& card(int row) const { return cards_[shown_[static_cast<std::size_t>(row)]]; }
    /// Null where it has not been made.
    [[nodiscard]] const RunShelf::Picture* pictureOf(int row) const;
    [[nodiscard]] std::size_t all() const { return cards_.size(); }

private:
    void show();

    std::vector<RunCard> cards_;
    QHash<QString, std::size_t> byPath_;
    std::vector<std::size_t> shown_;
    RunSearch search_;
    QHash<QString, RunShelf::Picture> pictures_;
    int sortedBy_ = -1;  ///< as they came: the newest changed first
    Qt::SortOrder order_ = Qt::AscendingOrder;
};

/// The list of the runs of a folder, in the page's place: found by words and dates, opened, laid over what is open.
class LibraryView : public QWidget {
    Q_OBJECT
public:
    LibraryView(Session& session, QWidget* parent);
    void open(const QString& folder);
    /// Called by the frame clock while it is seen.
    void refresh();
    [[nodiscard]] const LibraryModel& model() const { return *model_; }
    [[nodiscard]] bool reading() const { return shelf_.reading(); }
    [[nodiscard]] QStringList chosen() const;

Q_SIGNALS:
    void closeAsked();
    void openAsked(const QString& path);
    void layAsked(const QStringList& paths);
    void said(const QString& sentence);

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    void search();
    void work();
    void wantPictures();

    Session& session_;
    RunShelf shelf_;
    LibraryModel* model_;
    QTableView* table_;
    QLabel* folder_;
    QLineEdit* words_;
    Field* since_;
    Field* until_;
    QLabel* count_;
    QPushButton* open_;
    QPushButton* lay_;
    QPushButton* good_;
    QPushButton* bad_;
    QSet<QString> wanted_;
};

}  // namespace cruscotto
