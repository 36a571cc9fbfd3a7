#pragma once

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// Yes or no: the state's word set large, since when, and the window as a timing strip.
class StateTile : public Tile {
    Q_OBJECT
public:
    StateTile(Session& session, QWidget* parent) : Tile(session, parent) {}
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }
    /// The strip: a letter for each column, 1 on, 0 off, x both, a blank where nothing was measured.
    [[nodiscard]] std::string stripText() const;

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    enum class Stood { unknown, off, on, both };
    void layStrip(Instant until);
    std::vector<Column> columns_;
    std::vector<Stood> strip_;
    QString since_;
};

}  // namespace cruscotto
