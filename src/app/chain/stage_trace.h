#pragma once

#include <QWidget>
#include <functional>
#include <optional>
#include <vector>

#include "core/chain/stage.h"
#include "core/history/source.h"

namespace cruscotto {

/// What comes into a stage, and what goes out where that is the same quantity, over its last seconds. Levels of the
/// stage are lines through it that are dragged: what the stage would have made of that time is counted again at once.
class StageTrace : public QWidget {
    Q_OBJECT
public:
    explicit StageTrace(QWidget* parent);
    /// It is worth having for this stage.
    static bool suits(const Stage& stage);
    void look(const Source& source, const std::string& signal, std::size_t index, const Stage& stage,
              const std::string& unitBefore, Instant t);
    /// What it says of the stretch.
    [[nodiscard]] QString words() const { return words_; }
    /// Where a value stands, in pixels from the top.
    [[nodiscard]] double yOf(double value) const;

Q_SIGNALS:
    /// A level was dragged there and let go.
    void levelAsked(const QString& field, double value);

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;

private:
    void count();
    [[nodiscard]] double valueAt(double y) const;
    [[nodiscard]] int nearestLevel(double y) const;  ///< -1: none is near

    std::optional<Stage> stage_;
    std::string unit_;
    std::vector<double> in_, out_;
    std::vector<Instant> times_;
    double low_ = 0, high_ = 1;
    int dragged_ = -1;
    QString words_;
    std::optional<Instant> lookedAt_;
    struct Delay {
        Stage of;
        double interval, seconds;
    };
    std::optional<Delay> delay_;  // worked out last
};

}  // namespace cruscotto
