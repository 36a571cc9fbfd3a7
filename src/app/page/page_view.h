#pragma once

#include <QElapsedTimer>
#include <QMenu>
#include <QPushButton>
#include <QScrollBar>
#include <QTabBar>
#include <QWidget>
#include <memory>
#include <vector>

#include "app/page/tiles/tile.h"
#include "core/bench/page_grid.h"

namespace cruscotto {

/// The page in front: its tiles on a grid of twelve columns, tabs for the pages, and all that can be done to a tile.
/// Its rows share the height there is; where that would leave too little of each, the page scrolls.
class PageView : public QWidget {
    Q_OBJECT
public:
    explicit PageView(Session& session, QWidget* parent = nullptr);
    ~PageView() override;

    void refresh(Instant t, bool digits);
    [[nodiscard]] QString page() const { return page_; }
    void showPage(const QString& id);
    void stepPage(int by);
    [[nodiscard]] Tile* selected() const;
    [[nodiscard]] Tile* tile(const QString& id) const;
    [[nodiscard]] const std::vector<std::unique_ptr<Tile>>& tiles() const { return tiles_; }

public Q_SLOTS:
    void addPage();
    void renamePage();
    void removePage();
    /// In the form that suits the signal, at the first free place.
    void addSignal(const QString& signal);
    void removeSelected();
    void showSelectedAs(cruscotto::TileKind kind);
    void fitSelected();
    void toggleLearning();
    /// The selected number shows its uncertainty, or no longer.
    void togglePlusMinus();
    /// One of tileSettings() of the selected tile.
    void changeSelected(const std::string& key, const std::string& value, const QString& effect);
    /// In cells.
    void moveSelected(int dx, int dy);
    void resizeSelected(int dw, int dh);

Q_SIGNALS:
    void chainAsked(const QString& signal);
    void selectionChanged();
    void deviceWanted();
    /// The selected tile is to fill the window: Space was pressed twice.
    void fullAsked();
    /// The menu for a tile; the window fills it with its actions.
    void menuAsked(QPoint globalAt);

protected:
    void resizeEvent(QResizeEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dragMoveEvent(QDragMoveEvent* event) override;
    void dragLeaveEvent(QDragLeaveEvent* event) override;
    void dropEvent(QDropEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

private:
    void take();
    void rebuildTabs();
    void placeTabs();
    void layOut();
    void connectTile(Tile& tile);
    [[nodiscard]] QRect cellRect(int x, int y, int w, int h) const;
    [[nodiscard]] QPoint cellAt(QPoint at) const;
    /// Rows of its tiles; at least those of a page that nothing is on.
    [[nodiscard]] int rows() const;
    [[nodiscard]] double rowHeight() const;
    /// Scrolls as little as shows the tile; its top, where there is not room for all of it.
    void bringIntoView(const QString& tile);
    /// Scrolls on while something is dragged along the upper or lower edge.
    void scrollAtEdge(int y);
    [[nodiscard]] const PageSpec* pageSpec() const;
    void editTile(const TileSpec& tile, const QString& effect, const QString& mergeKey = {});
    /// An edit of where a tile lies and how large it is: what it would cover makes room. Of steps with the same key,
    /// each begins from the page as it was before the first.
    void placeTile(const TileSpec& tile, const QString& effect, const QString& mergeKey = {});
    /// The tile that is being moved or resized, as it would be.
    [[nodiscard]] TileSpec dragged() const;
    void addTile(TileSpec tile, Place at);
    /// What a signal that is dropped there comes to: another line of this trace, or else a tile of its own here.
    [[nodiscard]] Tile* traceFor(const std::string& signal, QPoint at) const;
    [[nodiscard]] Place placeAt(QPoint at, const TileSpec& tile) const;
    void select(const QString& tile);
    void endDrag();

    Session& session_;
    QWidget* header_;  ///< tiles scroll away under it
    QTabBar* tabs_;
    QScrollBar* scroll_;
    QPushButton* addDevice_;  ///< where nothing is connected yet
    QElapsedTimer sinceSpace_;
    QString page_;
    QString selected_;
    std::vector<std::unique_ptr<Tile>> tiles_;
    // a tile being moved or resized
    struct Drag {
        QString tile;
        bool resize = false;
        QPoint from;
        QRect cells;
        int scrolled = 0;  ///< where the page stood
    };
    std::optional<Drag> drag_;
    QRect ghost_;      ///< cells where something would land
    PageSpec making_;  ///< while a tile is dragged: the page as it would be
    // steps of the keyboard that are one to undo
    struct Steps {
        QString key;
        PageSpec before, after;
    };
    std::optional<Steps> steps_;
};

/// What a signal is shown as when nothing else was said, and how large.
TileSpec suitableTile(const SignalSpec& signal);

}  // namespace cruscotto
