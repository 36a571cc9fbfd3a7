#pragma once

#include <QImage>

#include "app/page/tiles/tile.h"

namespace cruscotto {

/// A photo or a drawing of the rig with readings pinned where their sensors sit. The picture is kept in the bench; the
/// pins are dragged.
class PictureTile : public Tile {
    Q_OBJECT
public:
    using Tile::Tile;
    void refresh(Instant t, bool digits) override;
    [[nodiscard]] bool hasScale() const override { return false; }
    /// Where a signal's reading is pinned, in parts of the picture's width and height.
    [[nodiscard]] QPointF pinOf(const std::string& signal) const;
    [[nodiscard]] const QImage& picture() const { return picture_; }
    /// The box that a signal's reading stands in.
    [[nodiscard]] QRectF boxOf(std::size_t shownIndex) const;

    /// A picture file as the text that a bench keeps: made smaller where it is large. Empty: it is no picture.
    static std::string kept(const QString& path);

protected:
    void rebuild() override;
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;

private:
    [[nodiscard]] QRectF frame() const;
    void pin(const std::string& signal, QPointF at);
    std::string from_;  ///< what the picture was read from
    QImage picture_;
    std::optional<std::size_t> dragged_;
};

}  // namespace cruscotto
