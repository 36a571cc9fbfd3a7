#pragma once

#include "app/tiles/tile.h"

namespace cruscotto {

/// Yes or no: the state's word set large, since when, and the window as a timing strip.
class StateTile : public Tile {
    Q_OBJECT
public:
    StateTile(Session& session, QWidget* parent) : Tile(session, parent) {}
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    std::vector<Column> columns_;
    QString since_;
};

}  // namespace cruscotto
