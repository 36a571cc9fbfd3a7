#pragma once

#include <QColor>
#include <QString>
#include <QWidget>
#include <vector>

namespace cruscotto {

/// A thin line over a trace at the pointer, with what each signal read at that time beside it. Lets all clicks through.
class TraceHover : public QWidget {
public:
    struct Label {
        double y = 0;  ///< where its line is, in pixels of this widget
        QColor colour;
        QString words;
        bool operator==(const Label&) const = default;
    };
    explicit TraceHover(QWidget* over);
    /// At this x; the moment in words at the top.
    void tell(double x, const QString& moment, std::vector<Label> labels);
    void leave();
    [[nodiscard]] bool isTelling() const { return telling_; }
    /// All that stands there.
    [[nodiscard]] QString words() const;

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    bool telling_ = false;
    double x_ = 0;
    QString moment_;
    std::vector<Label> labels_;
};

}  // namespace cruscotto
