#pragma once

#include <QColor>
#include <QFont>
#include <QWidget>

namespace cruscotto {

/// Words that change often, on one line, painted into the room that the layout gave: nothing around them is laid out
/// anew when they change, however many of them there are. What does not fit is cut, and tells itself as a tool tip.
class LiveWords : public QWidget {
    Q_OBJECT
public:
    /// `room`: pixels that it asks for; it takes more where there is some.
    explicit LiveWords(int room, Qt::Alignment alignment = Qt::AlignLeft, QWidget* parent = nullptr);
    void setText(const QString& text);
    [[nodiscard]] QString text() const { return text_; }
    /// Not valid: the theme's ink, as it is then.
    void setColour(QColor colour);
    void setBold(bool bold);
    [[nodiscard]] QSize sizeHint() const override;
    [[nodiscard]] QSize minimumSizeHint() const override;

protected:
    void paintEvent(QPaintEvent* event) override;
    bool event(QEvent* event) override;

private:
    [[nodiscard]] QFont fontNow() const;
    const int room_;
    const Qt::Alignment alignment_;
    QString text_;
    QColor colour_;
    bool bold_ = false;
};

}  // namespace cruscotto
