#pragma once

#include <QWidget>
#include <optional>

namespace cruscotto {

/// The stretch over a trace: soft where it is, a thin line at each end, its length above. Lets all clicks through.
class StretchShade : public QWidget {
public:
    explicit StretchShade(QWidget* over);
    /// In pixels of the widget beneath; they may lie beside it. Nothing: no stretch.
    void show(std::optional<std::pair<double, double>> ends, const QString& length);
    [[nodiscard]] std::optional<std::pair<double, double>> ends() const { return ends_; }
    [[nodiscard]] QString length() const { return length_; }

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    std::optional<std::pair<double, double>> ends_;
    QString length_;
};

/// How many pixels beside an end still take hold of it.
inline constexpr double stretchGrip = 6;

}  // namespace cruscotto
